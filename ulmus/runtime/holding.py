"""A house that is held: what it would send, run and hand out again once it is let go, and letting it go.

A copy cannot know what its original did since. What may have gone out is asked for at its channel under the key it had
there; what may have been handed out is passed over, unless a person wants it run for.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from ..core.recurrence import RecurrenceError, passed_and_next
from ..core.workflow.plans import ClockPlan, PollPlan, RowsPlan, RunsPlan
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Sends
from ..store import place, tables
from . import outbox
from .engine import Engine
from .execution import plan_of
from .polling import known_of, pass_over, poll_again
from .services import audit

MOST_SHOWN = 50
AT_ONCE = 8
NOT_AGAIN = "Not sent again: the house this one is a copy of may have sent it. The question stands at the desk."


@dataclass(frozen=True)
class ToSend:
    """A piece that waits to go out."""

    piece: int
    run: int
    title: str
    text: str
    channel: str
    can_be_asked: bool


@dataclass(frozen=True)
class Carries:
    """How many runs of a workflow are open."""

    workflow: int
    name: str
    runs: int


@dataclass(frozen=True)
class HandsOut:
    """What the start of a live workflow would begin runs for; `titles` are the first of them, `why` says what hindered."""

    workflow: int
    name: str
    items: int
    titles: list[str] = field(default_factory=list)
    why: str = ""


@dataclass(frozen=True)
class Overview:
    """What a held house would do."""

    sends: list[ToSend]
    more_sends: int
    carries: list[Carries]
    hands_out: list[HandsOut]


def overview(engine: Engine) -> Overview:
    """What the house would do once it is let go; asks the outsides of its starts."""
    with engine.services.store.read() as session:
        waiting = (
            select(tables.Piece, tables.Run.title)
            .join(tables.Run, tables.Run.id == tables.Piece.run_id)
            .where(tables.Piece.state.in_(("queued", "going", "intent", "accepted")))
            .order_by(tables.Piece.id)
        )
        names = dict(session.execute(select(tables.Connection.key, tables.Connection.name)).all())
        sends = [
            ToSend(
                piece.id,
                piece.run_id or 0,
                title,
                str(piece.content.get("text") or piece.content.get("path") or ""),
                names.get(piece.connection, piece.connection),
                isinstance(kinds().get(piece.kind), Sends),
            )
            for piece, title in session.execute(waiting.limit(MOST_SHOWN))
        ]
        count = session.scalar(select(func.count()).select_from(waiting.subquery())) or 0
        record = tables.WorkflowRecord
        open_ = (
            select(record.id, record.name, func.count())
            .join(tables.Run, tables.Run.workflow_id == record.id)
            .where(tables.Run.ended_at.is_(None))
            .group_by(record.id)
            .order_by(record.name)
        )
        carries = [Carries(*row) for row in session.execute(open_)]
        live = session.execute(select(record.id, record.name).where(record.state == "live").order_by(record.name)).all()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        hands_out = [h for h in pool.map(lambda one: _hands_out(engine, *one), live) if h.items or h.why]
    return Overview(sends, count - len(sends), carries, hands_out)


def let_go(engine: Engine, who: str, is_copy: bool, run_for: Iterable[int] = ()) -> None:
    """Let a held house go on. A copy asks for its pieces before it sends them, and passes over what is new at its starts but
    for the workflows to `run_for`. Raises `ValueError` where the house is not held, or somebody lets it go already."""
    if not engine.letting_go.acquire(blocking=False):
        raise ValueError("This house is being let go already.")
    try:
        _let_go(engine, who, is_copy, run_for)
    finally:
        engine.letting_go.release()


def _let_go(engine: Engine, who: str, is_copy: bool, run_for: Iterable[int]) -> None:
    hold = engine.hold
    if hold is None:
        raise ValueError("This house is not held any more.")
    is_copy = is_copy or hold.why == "restored"
    wanted = set(run_for)
    passed = {}
    if is_copy:
        with engine.services.store.read() as session:
            live = session.scalars(select(tables.WorkflowRecord.id).where(tables.WorkflowRecord.state == "live")).all()
        with ThreadPoolExecutor(AT_ONCE) as pool:
            others = [workflow_id for workflow_id in live if workflow_id not in wanted]
            passed = dict(zip(others, pool.map(lambda one: _found(engine, one), others), strict=True))
    with engine.services.transaction() as tx:
        session = tx.session
        if is_copy:
            for piece in session.scalars(select(tables.Piece).where(tables.Piece.state.in_(("queued", "going")))):
                if piece.run_id is None:
                    piece.state, piece.message = "failed", NOT_AGAIN
                else:
                    # What goes later is asked for just before it goes: the original may send it until then.
                    if piece.state == "going" or piece.due_at <= tx.now:
                        outbox.doubt(piece, hold.since, tx.now)
            for workflow_id, found in passed.items():
                _pass_over(session, workflow_id, found, tx.now)
        place.let_go(session.connection(), engine.services.store, hold, is_copy)
        audit(session, tx.now, who, "let the house go on", "as a copy" if is_copy else "moved here")
    engine.services.origins = place.origins(engine.services.store)
    engine.go_on()


@dataclass(frozen=True)
class _Found:
    """What is new at a start: items, and what its look or its clock remembers from now on."""

    items: list[tuple[str, dict[str, Any]]]
    memory: dict[str, Any]
    why: str = ""


def _hands_out(engine: Engine, workflow_id: int, name: str) -> HandsOut:
    found = _found(engine, workflow_id)
    titles = [str(item.get("title") or item.get("link") or identity) for identity, item in found.items[:8]]
    return HandsOut(workflow_id, name, len(found.items), titles, found.why)


def _found(engine: Engine, workflow_id: int) -> _Found:
    """What is new at a start, and what is left of what was there when it went live: the original may have run for both."""
    with engine.services.store.read() as session:
        left = session.scalars(select(tables.Backlog).where(tables.Backlog.workflow_id == workflow_id).order_by(tables.Backlog.id))
        backlog = [(one.identity, one.item) for one in left]
    found = _looked(engine, workflow_id)
    return replace(found, items=[*backlog, *found.items])


def _looked(engine: Engine, workflow_id: int) -> _Found:
    services = engine.services
    with services.store.read() as session:
        record, start = session.get_one(tables.WorkflowRecord, workflow_id), session.get(tables.Start, workflow_id)
        if record.revision_id is None:
            return _Found([], {})
        line = engine.pages.get(session, record.revision_id).workflow.start
    memory, now = dict(start.memory) if start is not None else {}, services.clock()
    plan = plan_of(line) if line.kind in kinds() else None
    try:
        if isinstance(plan, ClockPlan):
            last = dt.datetime.fromtimestamp(float(memory.get("due") or now), dt.UTC)
            passed, _ = passed_and_next(plan.rule, plan.zone, last, dt.datetime.fromtimestamp(now, dt.UTC))
            items = (
                [] if passed is None or plan.missed != "once" else [(passed.isoformat(), {"title": f"{passed:%a %d %b, %H:%M}"})]
            )
            return _Found(items, {"due": now})
        if isinstance(plan, PollPlan | RowsPlan | RunsPlan):
            polled = poll_again(services, engine.pages, workflow_id, line, memory)
            with services.store.read() as session:
                known = known_of(session, workflow_id, [identity for identity, _ in polled.items])
            return _Found([item for item in polled.items if item[0] not in known], {"primed": True, "look": polled.memory})
    except (OutsideError, RecurrenceError) as error:
        return _Found([], {}, str(error))
    return _Found([], {})


def _pass_over(session: Session, workflow_id: int, found: _Found, now: float) -> None:
    pass_over(session, workflow_id, now, [identity for identity, _ in found.items])
    session.execute(delete(tables.Backlog).where(tables.Backlog.workflow_id == workflow_id))
    start = session.get(tables.Start, workflow_id)
    if start is not None:
        # What could not be looked at is looked at as if for the first time: what is there then is passed over.
        kept = {k: v for k, v in start.memory.items() if k not in ("look", "primed")} if found.why else start.memory
        session.execute(
            update(tables.Start).where(tables.Start.workflow_id == workflow_id).values(memory={**kept, **found.memory}, next_at=now)
        )
