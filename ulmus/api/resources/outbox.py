"""The outbox as a list, the calendar, and the timetables of channels; what waits is moved, held, sent at once or taken back."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import flow
from ...core.recurrence import RecurrenceError, due, words_of, zone_of
from ...core.workflow import Workflow
from ...core.workflow.plans import AskPlan, DestinationsPlan
from ...readmodels import calendar
from ...readmodels.calendar import CalendarView, DaysView, PieceOnTime
from ...readmodels.journals import around
from ...runtime.execution import plan_of
from ...runtime.services import audit, connection_name, world
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

WAITING = ("queued", "held")
"""Where a piece may still be taken back."""
bp = Part("outbox", __name__, url_prefix="/api", abp_tags=[Tag(name="outbox", description="What waits to go out, and when")])
MOST = 500
LONGEST = 100 * 86_400


class PiecePath(BaseModel):
    id: int


class ChannelPath(BaseModel):
    key: str


class OutboxQuery(Body):
    brand: str = Field("", max_length=60)


class CalendarQuery(Body):
    """From one moment to another (seconds since the epoch), for one brand or all."""

    since: float
    until: float
    brand: str = Field("", max_length=60)


class MoveBody(Body):
    """When it is to go (seconds since the epoch); nothing: at once."""

    at: float | None = Field(None, ge=0, le=32_503_680_000)


class TimetableBody(Body):
    """A channel's places: an RFC 5545 rule in a zone, at most so many pieces a day, so many seconds apart."""

    rule: str = Field(min_length=1, max_length=4000)
    zone: str = Field("UTC", min_length=1, max_length=60)
    a_day: int | None = Field(None, ge=1, le=1000)
    apart: float | None = Field(None, ge=0, le=7 * 86_400)


class TimetableView(BaseModel):
    """The same, in words, and its next places; empty where the channel has none."""

    connection: str
    rule: str = ""
    zone: str = "UTC"
    a_day: int | None = None
    apart: float | None = None
    says: str = ""
    next: list[float] = []


class AskedAgain(BaseModel):
    """The run that asks again."""

    run: int


@bp.get("/outbox", responses={200: Listing[PieceOnTime]})
@needs("reader")
def outbox(query: OutboxQuery) -> Reply:
    """What waits to go out, what goes next first."""
    with house().services.store.read() as session:
        return send(calendar.waiting(session, world(session), MOST, query.brand or None))


@bp.get("/calendar", responses={200: CalendarView, 422: Problem})
@needs("reader")
def between(query: CalendarQuery) -> Reply:
    """What is due to start, what waits and what went out, between two moments."""
    if not 0 < query.until - query.since <= LONGEST:
        raise Refusal("Ask for a time of at most a hundred days.", 422)
    now = house().services.clock()
    with house().services.store.read() as session:
        around = world(session)
        view = calendar.between(session, house().engine, around, query.since, query.until, query.brand or None, now)
    return send(view)


@bp.get("/calendar/days", responses={200: DaysView, 422: Problem})
@needs("reader")
def days(query: CalendarQuery) -> Reply:
    """When pieces went out and go out, between two moments."""
    if not 0 < query.until - query.since <= LONGEST:
        raise Refusal("Ask for a time of at most a hundred days.", 422)
    with house().services.store.read() as session:
        return send(calendar.days(session, query.since, query.until, query.brand or None))


@bp.post("/pieces/<int:id>/back", responses={200: Fine, 409: Problem})
@needs("reviewer")
def back(path: PiecePath) -> Reply:
    """Take a piece back that has not gone out yet."""
    _change(lambda: house().engine.outbox.take_back_piece(path.id, g.user.name))
    return send(Fine())


@bp.post("/pieces/<int:id>/hold", responses={200: Fine, 409: Problem})
@needs("reviewer")
def hold(path: PiecePath) -> Reply:
    """Have a piece wait until somebody lets it go."""
    _change(lambda: house().engine.outbox.hold(path.id, g.user.name))
    return send(Fine())


@bp.post("/pieces/<int:id>/move", responses={200: Fine, 409: Problem})
@needs("reviewer")
def move(path: PiecePath, body: MoveBody) -> Reply:
    """Have a piece go out at another time, or at once; one that is held is let go."""
    _change(lambda: house().engine.outbox.move(path.id, body.at, g.user.name))
    return send(Fine())


@bp.post("/pieces/<int:id>/change", responses={200: AskedAgain, 409: Problem})
@needs("reviewer")
def change(path: PiecePath) -> Reply:
    """Take a piece back and put its draft before a person again, who changes and approves it anew."""
    services, engine = house().services, house().engine
    with services.store.read() as session:
        piece = session.get(tables.Piece, path.id)
        asked = select(tables.Approval.address).where(tables.Approval.run_id == (piece.run_id if piece else 0))
        said = session.scalars(asked.where(tables.Approval.state == "approve").order_by(tables.Approval.id.desc()))
        # Of a block, the question about the item that the piece is of.
        address = next((one for one in said if piece is not None and around(piece.address, one)), None)
    if piece is None or piece.run_id is None or address is None:
        raise Refusal("Nobody was asked about this. Take it back, and take the run up again with other values.", 409)
    line = engine.live(piece.run_id).workflow.line(flow.Address.parse(address).step)
    if line is None or not isinstance(plan_of(line), AskPlan):
        raise Refusal("What was asked about this cannot be asked again. Take it back, and take the run up again.", 409)
    run_id = piece.run_id
    with services.store.read() as session:
        beside = _beside(session, engine.live(run_id).workflow, piece)
    if out := [one for one in beside if one.state not in WAITING]:
        with services.store.read() as session:
            names = ", ".join(sorted({connection_name(session, one.connection) for one in out}))
        raise Refusal(f"It went out in other places already: {names}. Take it back here; what is out stays as it is.", 409)
    for one in [piece, *beside]:
        _change(lambda one=one: engine.outbox.take_back_piece(one.id, g.user.name))
    event, who = flow.TakenUp(at=services.clock(), address=address, by=g.user.name), g.user.email
    try:
        engine.record(run_id, event, lambda session: audit(session, services.clock(), who, "asked again", str(run_id)))
    except flow.FlowError:
        raise Refusal("It was taken back. The run went on meanwhile; take it up again there.", 409) from None
    return send(AskedAgain(run=run_id))


def _beside(session: Session, workflow: Workflow, piece: tables.Piece) -> list[tables.Piece]:
    """The pieces of the other destinations beside one, as they were approved together with it."""
    within = flow.Address.parse(piece.address).within
    block = workflow.line(within[-1][0]) if within else None
    if block is None or not isinstance(plan_of(block), DestinationsPlan):
        return []
    prefix = piece.address.rpartition(f"{block.id}:")[0] + f"{block.id}:"
    one = tables.Piece
    mine = one.run_id == piece.run_id, one.generation == piece.generation, one.id != piece.id
    found = session.scalars(select(one).where(*mine, one.address.startswith(prefix, autoescape=True), one.state != "failed"))
    return list(found)


def _change(act: Any) -> None:
    try:
        act()
    except ValueError as error:
        raise Refusal(str(error), 409) from None


@bp.get("/timetables", responses={200: Listing[TimetableView]})
@needs("reader")
def timetables() -> Reply:
    """The timetables of all channels that have one."""
    with house().services.store.read() as session:
        return send([_view(table) for table in session.scalars(select(tables.Timetable))])


@bp.put("/connections/<key>/timetable", responses={200: TimetableView, 404: Problem, 422: Problem})
@needs("maker")
def set_timetable(path: ChannelPath, body: TimetableBody) -> Reply:
    """Give a channel a timetable."""
    services = house().services
    try:
        zone_of(body.zone)
        if not due(body.rule, body.zone, dt.datetime.fromtimestamp(services.clock(), dt.UTC)):
            raise Refusal("This timetable has no place to come.", 422)
    except RecurrenceError as error:
        raise Refusal(str(error), 422) from None
    with services.store.write() as session:
        if session.get(tables.Connection, path.key) is None:
            raise Refusal("There is no such connection.", 404)
        table = session.get(tables.Timetable, path.key)
        if table is None:
            table = tables.Timetable(connection=path.key)
            session.add(table)
        table.rule, table.zone, table.a_day, table.apart = body.rule.strip(), body.zone, body.a_day, body.apart
        audit(session, services.clock(), g.user.email, "set a timetable", path.key)
        session.flush()
        view = _view(table)
    return send(view)


@bp.delete("/connections/<key>/timetable", responses={200: Fine})
@needs("maker")
def drop_timetable(path: ChannelPath) -> Reply:
    """Take a channel's timetable away; what waits keeps the time it has."""
    services = house().services
    with services.store.write() as session:
        table = session.get(tables.Timetable, path.key)
        if table is not None:
            session.delete(table)
            audit(session, services.clock(), g.user.email, "took a timetable away", path.key)
    return send(Fine())


def _view(table: tables.Timetable) -> TimetableView:
    try:
        times = due(table.rule, table.zone, dt.datetime.fromtimestamp(house().services.clock(), dt.UTC), 8)
        says = words_of(table.rule)
    except RecurrenceError as error:
        times, says = [], str(error)
    return TimetableView(
        connection=table.connection,
        rule=table.rule,
        zone=table.zone,
        a_day=table.a_day,
        apart=table.apart,
        says=says,
        next=[moment.timestamp() for moment in times],
    )
