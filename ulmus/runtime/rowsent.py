"""Rows of a sheet that a person chose, sent through a workflow that starts from that sheet."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from functools import partial
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.recurrence import RecurrenceError, due, quiet_hours
from ..core.workflow import Line, points_at
from ..core.workflow.plans import ClockPlan
from ..steps import kinds
from ..steps.api import Row, SheetPoll, SheetStart
from ..store import tables
from . import execution, sheets
from .engine import Engine
from .linked import Linker
from .polling import known_of, taken_in
from .runs import live_pages, title_of

MOST_TIMES = 2000


@dataclass(frozen=True)
class Taker:
    """A live workflow that starts from rows of a sheet. Of one that uses the list up: how many rows are `left`, and until when
    they last (seconds since the epoch), where its times tell that; `paced` rows wait to be sent through it day by day."""

    id: int
    name: str
    left: int | None = None
    until: float | None = None
    paced: int = 0


def takers(session: Session, sheet: str, now: float) -> list[Taker]:
    """The live workflows that start from rows of this sheet, by name."""
    found = [(number, name, page.start) for number, name, page in live_pages(session) if watches(page.start, sheet)]
    out = []
    for number, name, start in sorted(found, key=lambda one: one[1]):
        paced = session.scalar(select(func.count()).where(tables.Backlog.workflow_id == number)) or 0
        plan = execution.plan_of(start)
        left, until = None, None
        if isinstance(plan, ClockPlan) and plan.sheet == sheet:
            _, left = sheets.unused(session, sheet, plan.used, number, 0)
            until = _lasts(plan, left, now)
        out.append(Taker(number, name, left, until, paced))
    return out


def _lasts(plan: ClockPlan, left: int, now: float) -> float | None:
    """When the last of so many rows is taken."""
    times = -(-left // plan.count)
    if times == 0 or times > MOST_TIMES:
        return None
    try:
        quiet = quiet_hours(plan.quiet) if plan.quiet else None
        coming = due(plan.rule, plan.zone, dt.datetime.fromtimestamp(now, dt.UTC), times, quiet)
    except RecurrenceError:
        return None
    return coming[-1].timestamp() if len(coming) == times else None


def watches(start: Line, sheet: str) -> bool:
    """Whether a start watches rows of a sheet."""
    kind = kinds().get(start.kind)
    return isinstance(kind, SheetStart) and any(key == sheet for _, key in points_at(kind, start.settings, "sheet"))


def send_through(engine: Engine, workflow_id: int, sheet: str, ids: list[int], again: bool, a_day: int = 0) -> tuple[int, int]:
    """Begin a run for each row, or, with `a_day`, so many a day from today on; gives how many began or wait for their day, and how
    many rows were left out: empty ones, used ones, and, unless `again`, those the workflow has had. Raises `ValueError` where the
    workflow does not take rows of this sheet."""
    with engine.services.store.read() as session:
        record = session.get(tables.WorkflowRecord, workflow_id)
        if record is None or record.state != "live" or record.revision_id is None:
            raise ValueError("This workflow is not live at the moment.")
        start = engine.pages.get(session, record.revision_id).workflow.start
        if not watches(start, sheet):
            raise ValueError("This workflow does not start from rows of this sheet.")
        filled = Linker(session, session.get_one(tables.Sheet, sheet)).filled
        wanted = select(tables.SheetRow).where(tables.SheetRow.sheet == sheet, tables.SheetRow.id.in_(ids))
        rows = [Row(r.id, r.position, filled(r.cells)) for r in session.scalars(wanted.order_by(tables.SheetRow.position))]
    kind, settings = kinds()[start.kind], execution.read(start)
    assert isinstance(kind, SheetStart)
    plan = execution.plan_of(start)
    used = plan.used if isinstance(plan, ClockPlan) else ""
    items = []
    for row in rows:
        if used and str(row.cells.get(used, "")).strip() and not again:
            continue
        polled = taken_in(execution.guarded(partial(kind.rows, settings, SheetPoll([row]))))
        # A row counts as this row, however its cells have changed since.
        items += [(f"row:{row.id}", {**item, "title": title_of(item)}) for _, item in polled.items[:1]]
    if a_day:
        done = _paced(engine, workflow_id, items, again, a_day)
    else:
        done = sum(engine.runs.push(workflow_id, item, identity, again=again) is not None for identity, item in items)
    return done, len(ids) - done


def _paced(engine: Engine, workflow_id: int, items: list[tuple[str, dict[str, Any]]], again: bool, a_day: int) -> int:
    """Put rows behind what waits for the workflow day by day; the first go today."""
    with engine.services.transaction() as tx:
        session = tx.session
        known = set() if again else known_of(session, workflow_id, [identity for identity, _ in items])
        backlog = tables.Backlog
        known |= set(session.scalars(select(backlog.identity).where(backlog.workflow_id == workflow_id)))
        fresh = [(identity, item) for identity, item in items if identity not in known]
        session.add_all(backlog(workflow_id=workflow_id, identity=identity, item=item) for identity, item in fresh)
        start = session.get_one(tables.Start, workflow_id)
        start.memory = {**start.memory, "backlog": {**start.memory.get("backlog", {}), "a_day": a_day}}
        start.next_at = tx.now
        session.flush()
        tx.publish("workflow", id=workflow_id)
    engine.polling.wake()
    return len(fresh)
