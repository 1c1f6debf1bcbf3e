"""What is due to start, what waits to go out, what went out, and where channels have room: for the calendar and the outbox."""

from __future__ import annotations

import datetime as dt
from typing import Any

from pydantic import BaseModel
from sqlalchemy import and_, func, or_, select
from sqlalchemy.orm import Session

from ..core.pieces import Brief
from ..core.recurrence import RecurrenceError, due, quiet_hours
from ..core.workflow import World
from ..core.workflow.kinds import SendSpec, is_for_readers
from ..core.workflow.plans import ClockPlan
from ..protocols.errors import OutsideError
from ..runtime import timing
from ..runtime.engine import Engine
from ..steps import kinds
from ..store import tables
from .pieces import kept_brief

WAITS = ("queued", "held", "going", "intent", "accepted", "unsure")
MOST = 1500
MOST_STARTS = 300
MOST_PLACES = 200


class PieceOnTime(BaseModel):
    """A piece in brief: when it goes or went out, where to, from which run; what may be done with it is told by `state`."""

    id: int
    state: str
    at: float
    by: float | None = None
    channel: str
    connection: str
    piece: Brief | None
    title: str
    workflow: int
    workflow_name: str
    brand: str | None
    run: int
    link: str = ""
    message: str = ""
    approved: bool = False
    asks: bool = False


class StartOnTime(BaseModel):
    """When a live workflow begins by its schedule."""

    at: float
    workflow: int
    name: str
    brand: str | None


class AnswerOnTime(BaseModel):
    """When an answer is due; `late` where nobody answered by then."""

    at: float
    approval: int
    title: str
    who: str
    brand: str | None
    late: bool = False


class ChannelPlaces(BaseModel):
    """A channel with its timetable: the places there are, and how many pieces have one."""

    connection: str
    name: str
    free: list[float]
    taken: int
    a_day: int | None = None


class CalendarView(BaseModel):
    """What lies between two moments; `zone` is that of the server where a page has none, `more` whether some was left out."""

    now: float
    pieces: list[PieceOnTime]
    starts: list[StartOnTime]
    channels: list[ChannelPlaces]
    answers: list[AnswerOnTime] = []
    more: bool = False


class DaysView(BaseModel):
    """When pieces went out, and when those go that wait: for the strip of a month."""

    sent: list[float]
    waits: list[float]


def days(session: Session, since: float, until: float, brand: str | None) -> DaysView:
    """The moments of all pieces between two."""
    piece = tables.Piece
    found = select(piece.state, _at()).join(tables.Run, tables.Run.id == piece.run_id)
    if brand:
        found = found.join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        found = found.where(tables.WorkflowRecord.brand == brand)
    here = _at() >= since, _at() < until, piece.state.in_((*WAITS, "sent")), piece.kind.not_in(_acts())
    rows = session.execute(found.where(*here).limit(20_000)).all()
    sent = [at for state, at in rows if state == "sent"]
    return DaysView(sent=sent, waits=[at for state, at in rows if state != "sent"])


def _acts() -> list[str]:
    return [kind.name for kind in kinds().values() if isinstance(kind, SendSpec) and not is_for_readers(kind)]


def waiting(session: Session, around: World, limit: int, brand: str | None = None) -> list[PieceOnTime]:
    """The outbox: what waits to go out, what goes next first, and what a person decides about before that."""
    rows = session.execute(_pieces(brand).where(tables.Piece.state.in_(WAITS)).order_by(_at(), tables.Piece.id).limit(limit)).all()
    return _told(session, rows, around)


def between(
    session: Session, engine: Engine, around: World, since: float, until: float, brand: str | None, now: float
) -> CalendarView:
    """The calendar from one moment to another."""
    at, sent = tables.Piece.goes_at, tables.Piece.sent_at
    here = or_(
        and_(tables.Piece.state == "sent", sent >= since, sent < until),
        and_(
            tables.Piece.state.in_(WAITS),
            func.coalesce(at, tables.Piece.due_at) >= since,
            func.coalesce(at, tables.Piece.due_at) < until,
        ),
    )
    found = _pieces(brand).where(here, tables.Piece.kind.not_in(_acts())).order_by(_at()).limit(MOST + 1)
    rows = session.execute(found).all()
    starts = _starts(session, engine, since, until, brand, now)
    return CalendarView(
        now=now,
        pieces=_told(session, rows[:MOST], around),
        starts=starts[:MOST_STARTS],
        channels=_channels(session, around, max(since, now), until),
        answers=_answers(session, since, until, brand),
        more=len(rows) > MOST or len(starts) > MOST_STARTS,
    )


def _at() -> Any:
    return func.coalesce(tables.Piece.sent_at, tables.Piece.goes_at, tables.Piece.due_at)


def _pieces(brand: str | None) -> Any:
    found = (
        select(tables.Piece, tables.Run.title, tables.WorkflowRecord.id, tables.WorkflowRecord.name, tables.WorkflowRecord.brand)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
    )
    return found.where(tables.WorkflowRecord.brand == brand) if brand else found


def _told(session: Session, rows: Any, around: World) -> list[PieceOnTime]:
    runs = list({piece.run_id for piece, *_ in rows})
    approved: set[int] = set()
    for at in range(0, len(runs), 500):
        some = tables.Approval.run_id.in_(runs[at : at + 500])
        approved.update(session.scalars(select(tables.Approval.run_id).where(some, tables.Approval.state == "approve")))
    return [
        PieceOnTime(
            id=piece.id,
            state=piece.state,
            at=piece.sent_at or piece.goes_at or piece.due_at,
            by=piece.goes_by,
            channel=around.connections[piece.connection].name if piece.connection in around.connections else piece.connection,
            connection=piece.connection,
            piece=kept_brief(piece, around),
            title=title,
            workflow=workflow,
            workflow_name=name,
            brand=brand,
            run=piece.run_id,
            link=str((piece.receipt or {}).get("link", "")),
            message=piece.message,
            approved=piece.run_id in approved,
            asks=piece.state in ("held", "unsure"),
        )
        for piece, title, workflow, name, brand in rows
    ]


def _starts(session: Session, engine: Engine, since: float, until: float, brand: str | None, now: float) -> list[StartOnTime]:
    out = []
    record = tables.WorkflowRecord
    live = select(record).where(record.state == "live", record.revision_id.is_not(None))
    for one in session.scalars(live.where(record.brand == brand) if brand else live):
        start = engine.pages.get(session, one.revision_id or 0).workflow.start
        kind = kinds().get(start.kind)
        plan = kind.plan_of(start.settings) if kind is not None else None
        if not isinstance(plan, ClockPlan) or until <= now:
            continue
        try:
            quiet = quiet_hours(plan.quiet) if plan.quiet else None
            times = due(plan.rule, plan.zone, dt.datetime.fromtimestamp(max(since, now), dt.UTC), MOST_STARTS, quiet)
        except RecurrenceError:
            continue
        out += [
            StartOnTime(at=moment.timestamp(), workflow=one.id, name=one.name, brand=one.brand)
            for moment in times
            if moment.timestamp() < until
        ]
    return sorted(out, key=lambda start: start.at)


def _answers(session: Session, since: float, until: float, brand: str | None) -> list[AnswerOnTime]:
    approval, run, workflow = tables.Approval, tables.Run, tables.WorkflowRecord
    asked = (
        select(approval, run.title, workflow.brand)
        .join(run, run.id == approval.run_id)
        .join(workflow, workflow.id == run.workflow_id)
        .where(approval.state == "open", approval.due_at >= since, approval.due_at < until)
        .order_by(approval.due_at)
        .limit(MOST)
    )
    rows = session.execute(asked.where(workflow.brand == brand) if brand else asked)
    return [
        AnswerOnTime(at=one.due_at or 0, approval=one.id, title=title, who=one.who, brand=of, late=one.lapsed_at is not None)
        for one, title, of in rows
    ]


def _channels(session: Session, around: World, since: float, until: float) -> list[ChannelPlaces]:
    out = []
    for table in session.scalars(select(tables.Timetable)):
        piece = tables.Piece
        taken = select(piece.goes_at).where(
            piece.connection == table.connection, piece.goes_at >= since, piece.goes_at < until, piece.state.in_(timing.HOLDS)
        )
        held = [at for at in session.scalars(taken) if at is not None]
        try:
            there = [place.timestamp() for place in timing.places(table, since, MOST_PLACES) if place.timestamp() < until]
        except OutsideError:
            continue
        free = [at for at in there if all(abs(at - other) >= max(1.0, table.apart or 0.0) for other in held)]
        name = around.connections[table.connection].name if table.connection in around.connections else table.connection
        out.append(ChannelPlaces(connection=table.connection, name=name, free=free, taken=len(held), a_day=table.a_day))
    return sorted(out, key=lambda channel: channel.name)
