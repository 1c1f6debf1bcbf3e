"""When pieces go out: times as a page says them, and the next free place of a channel's timetable."""

from __future__ import annotations

import datetime as dt
import itertools
from bisect import bisect
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from dateutil import parser as dates
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.recurrence import RecurrenceError, each_due, zone_of
from ..core.slots import parse, render
from ..core.workflow import Line
from ..core.workflow.plans import SendPlan
from ..protocols.errors import Misconfigured, NothingToDo
from ..store import tables
from .execution import plan_of

MOST_PLACES = 2000
"""So many places of a timetable are looked at for a free one."""
HOLDS = ("queued", "held", "intent", "accepted", "going", "unsure", "sent")
"""States of a piece that has its place."""


@dataclass(frozen=True)
class Goes:
    """When a piece is to go (seconds since the epoch): `at` a time, or at the next free `place`, not before and not after others;
    at once where nothing is set."""

    at: float | None = None
    place: bool = False
    not_before: float | None = None
    not_after: float | None = None


NOW = Goes()


def goes(line: Line, values: Mapping[str, Any], now: float) -> Goes:
    """When the piece of a line is to go. Raises `OutsideError` where a time cannot be read."""
    plan = plan_of(line)
    if not isinstance(plan, SendPlan):
        return NOW

    def said(text: str) -> float | None:
        filled = render(parse(text), values).text.strip()
        return moment(filled, values, now, "to go out") if filled else None

    if plan.goes == "at" and not plan.at.strip():
        raise NothingToDo("Say at what time this goes out.")
    return Goes(said(plan.at) if plan.goes == "at" else None, plan.goes == "place", said(plan.not_before), said(plan.not_after))


def moment(text: str, values: Mapping[str, Any], now: float, what: str) -> float:
    """A time as a page says it, in its zone, which the run keeps; in a run that began before it did, the server's. A time of day that
    has passed means tomorrow's. Raises `NothingToDo`."""
    run = values.get("run")
    zone = str(run.get("zone") or "") if isinstance(run, dict) else ""
    today = dt.datetime.fromtimestamp(now, zone_of(zone) if zone else None)
    try:
        found = dates.parse(text, default=today.replace(hour=0, minute=0, second=0, microsecond=0))
    except (ValueError, OverflowError, TypeError):
        raise NothingToDo(f"“{text[:60]}” is not a time {what}.") from None
    if found.timestamp() <= now and len(text) <= 5:
        found += dt.timedelta(days=1)
    return found.timestamp()


def next_free(session: Session, connection: str, after: float, but: int | None = None) -> float:
    """The next free place of a channel later than a moment; `but` is the piece that looks for one. Raises `Misconfigured` where the
    channel has no timetable, or it has no place left."""
    table = session.get(tables.Timetable, connection)
    if table is None:
        raise Misconfigured("This channel has no timetable. Give it one under Connections.")
    piece = tables.Piece
    taken = select(piece.goes_at).where(
        piece.connection == connection, piece.goes_at > after - 86_400, piece.state.in_(HOLDS), piece.id != (but or 0)
    )
    held = sorted(at for at in session.scalars(taken) if at is not None)
    zone, apart = zone_of(table.zone), max(1.0, table.apart or 0.0)
    days = Counter(dt.datetime.fromtimestamp(at, zone).date() for at in held)
    for place in places(table, after, MOST_PLACES):
        at = place.timestamp()
        near = bisect(held, at)
        beside = held[max(0, near - 1) : near + 1]
        if all(abs(at - other) >= apart for other in beside) and (table.a_day is None or days[place.date()] < table.a_day):
            return at
    raise Misconfigured("The channel’s timetable has no free place left.")


def room(table: tables.Timetable, since: float, until: float) -> int:
    """How many pieces a timetable has room for between two moments, each as soon as it may."""
    held, days = list[float](), Counter[dt.date]()
    try:
        for place in places(table, since, MOST_PLACES):
            at, day = place.timestamp(), place.date()
            if at >= until:
                break
            if held and at - held[-1] < (table.apart or 0.0):
                continue
            if table.a_day is None or days[day] < table.a_day:
                held.append(at)
                days[day] += 1
    except Misconfigured:
        return 0
    return len(held)


def places(table: tables.Timetable, after: float, most: int) -> Iterator[dt.datetime]:
    """The places of a timetable later than a moment, in its zone."""
    try:
        yield from itertools.islice(each_due(table.rule, table.zone, dt.datetime.fromtimestamp(after, dt.UTC)), most)
    except RecurrenceError as error:
        raise Misconfigured(f"The channel’s timetable cannot be read: {error}") from None
