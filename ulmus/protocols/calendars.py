"""Calendars (iCalendar, RFC 5545): the entries that begin within a span of time, repeats worked out."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field

import icalendar
import recurring_ical_events

from .errors import OutsideError
from .net import Web, status_error

LARGEST = 8_000_000
MOST_ENTRIES = 2000


@dataclass(frozen=True)
class Entry:
    """One entry. Times are ISO 8601 with an offset; a whole day is a date. `identity` tells one repeat from another."""

    identity: str
    title: str
    start: str
    end: str
    place: str
    description: str
    organizer: str
    attendees: list[str] = field(default_factory=list)


def read(web: Web, url: str, after: dt.datetime, before: dt.datetime) -> list[Entry]:
    """The entries of the calendar at `url` that begin in (after, before], by their beginning. Raises `OutsideError`."""
    answer = web.fetch(url, max_bytes=LARGEST, headers={"Accept": "text/calendar, */*;q=0.5"})
    if answer.status != 200:
        raise status_error(answer, "The calendar")
    return entries(answer.body, after, before)


def entries(body: bytes, after: dt.datetime, before: dt.datetime) -> list[Entry]:
    """The entries of an iCalendar file. Raises `OutsideError` where it is none."""
    try:
        calendar = icalendar.Calendar.from_ical(body)
        found = recurring_ical_events.of(calendar, skip_bad_series=True).between(after, before)
    except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
        raise OutsideError(f"This is not a calendar that can be read ({type(error).__name__}).") from None
    out = []
    for event in found[:MOST_ENTRIES]:
        start = event.get("DTSTART")
        if start is None or not after < _moment(start.dt) <= before:
            continue
        end = event.get("DTEND")
        uid = str(event.get("UID", "")) or str(event.get("SUMMARY", ""))
        people = event.get("ATTENDEE", [])
        out.append(
            Entry(
                identity=f"{uid}@{start.dt.isoformat()}"[:500],
                title=str(event.get("SUMMARY", "")),
                start=start.dt.isoformat(),
                end=end.dt.isoformat() if end is not None else "",
                place=str(event.get("LOCATION", "")),
                description=str(event.get("DESCRIPTION", "")),
                organizer=_person(event.get("ORGANIZER")),
                attendees=[_person(p) for p in (people if isinstance(people, list) else [people])],
            )
        )
    return sorted(out, key=lambda e: e.start)


def _moment(value: dt.date) -> dt.datetime:
    if not isinstance(value, dt.datetime):
        return dt.datetime(value.year, value.month, value.day, tzinfo=dt.UTC)
    return value if value.tzinfo else value.replace(tzinfo=dt.UTC)


def _person(value: object) -> str:
    return str(value or "").removeprefix("mailto:").removeprefix("MAILTO:")
