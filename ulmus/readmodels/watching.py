"""What an operator watches: how many runs, pieces and questions stand where, what connections were asked, what the house holds."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import func, select

from ..runtime.elsewhere import HEARD
from ..runtime.engine import Engine
from ..store import tables

Values = Iterable[tuple[Sequence[Any], Any]]
LATEST = 30.0
"""Seconds without a look at the time after which the house is not ready."""


@dataclass(frozen=True)
class Measure:
    """One measure, with a value for each set of labels. A ``counter`` only grows."""

    name: str
    about: str
    labels: tuple[str, ...]
    values: tuple[tuple[tuple[str, ...], float], ...]
    kind: Literal["gauge", "counter"] = "gauge"


def measures(engine: Engine) -> list[Measure]:
    """All of them, as they stand now."""
    services = engine.services
    run, piece, use = tables.Run, tables.Piece, tables.Use
    month = dt.datetime.fromtimestamp(services.clock()).replace(day=1, hour=0, minute=0, second=0, microsecond=0).timestamp()
    engine.uses.flush()
    with services.store.read() as session:
        runs = [([state], n) for state, n in session.execute(select(run.state, func.count()).group_by(run.state))]
        pieces = [([state], n) for state, n in session.execute(select(piece.state, func.count()).group_by(piece.state))]
        spent = session.scalar(select(func.sum(run.cost)).where(run.started_at >= month))
        asked = session.execute(select(use.connection, func.sum(use.calls), func.sum(use.tokens)).group_by(use.connection)).all()
        open_ = session.scalar(select(func.count()).where(tables.Approval.state == "open"))
        failing = session.scalar(select(func.count()).where(tables.Start.failed.is_(True)))
    under_way, waiting, down = engine.outsides.counted()
    steps = [([kind, how], n) for (kind, how), n in sorted(engine.dispatcher.carried_out.copy().items())]
    elsewhere = engine.handlers.performing.elsewhere
    out = zip((["waiting"], ["offered"], ["begun"]), elsewhere.counted(), strict=True) if elsewhere is not None else ()
    there = sum(one.heard < HEARD for one in elsewhere.workers()) if elsewhere is not None else 0
    return [
        _measure("ulmus_runs", "Runs, by how they stand.", runs, "state"),
        _measure("ulmus_pieces", "Pieces, by how they stand.", pieces, "state"),
        _measure("ulmus_questions_open", "Questions nobody has answered yet.", [((), open_)]),
        _measure("ulmus_starts_failing", "Starts whose last look failed.", [((), failing)]),
        _measure("ulmus_steps", "Steps carried out since the house began.", steps, "kind", "outcome", kind="counter"),
        _measure("ulmus_queue", "Events that wait to be written into journals.", [((), engine.writer.waiting())]),
        _measure("ulmus_jobs_under_way", "Calls outside that are under way.", [((), under_way)]),
        _measure("ulmus_jobs_waiting", "Calls outside that wait at their gates.", [((), waiting)]),
        _measure("ulmus_outsides_down", "Outsides that do not answer.", [((), down)]),
        _measure("ulmus_steps_out", "Steps for workers elsewhere, by how they stand.", out, "state"),
        _measure("ulmus_workers", "Worker processes that are there.", [((), there)]),
        _measure("ulmus_month_cost", "What runs begun this month cost, in the currency of the books.", [((), spent)]),
        _measure(
            "ulmus_calls", "How often a connection was asked.", [([key], n) for key, n, _ in asked], "connection", kind="counter"
        ),
        _measure("ulmus_tokens", "Tokens a connection used.", [([key], n) for key, _, n in asked], "connection", kind="counter"),
        _measure("ulmus_database_bytes", "Size of the database.", [((), services.store.path.stat().st_size)]),
        _measure("ulmus_ticker_late_seconds", "Seconds since the house looked at the time.", [((), engine.ticker.late())]),
        _measure("ulmus_troubles", "Troubles of the data folder.", [((), len(services.health.troubles()))]),
    ]


def not_ready(engine: Engine) -> list[str]:
    """Why the house cannot do its work now, in words; nothing where it can. Raises where its database does not answer."""
    with engine.services.store.read() as session:
        session.scalar(select(func.count()).select_from(tables.Brand))
    late = engine.ticker.late()
    stands = [f"Nothing has looked at the time for {late:.0f} seconds."] if late > LATEST else []
    return [*engine.services.health.troubles(), *stands]


def _measure(name: str, about: str, values: Values, *labels: str, kind: Literal["gauge", "counter"] = "gauge") -> Measure:
    told = tuple((tuple(str(label) for label in of), float(value or 0)) for of, value in values)
    return Measure(name, about, labels, told, kind)
