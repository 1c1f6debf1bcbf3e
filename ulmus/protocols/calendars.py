"""Calendars (iCalendar, RFC 5545): the entries that begin within a span of time, repeats worked out.

One entry that cannot be read never costs the others: each is put into a calendar of its own where they cannot be read
together. Entries that were cancelled are left out, and one that stands twice counts once.
"""

from __future__ import annotations

import datetime as dt
import logging
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from .errors import BadAnswer
from .net import Web, status_error
from .workers import in_worker

log = logging.getLogger("ulmus")
LARGEST = 8_000_000
MOST_ENTRIES = 2000
MOST_SERIES = 20_000


@dataclass(frozen=True)
class Guest:
    """Somebody who is invited: the name (RFC 5545, section 3.2.2), where there is one, the mail address, and its domain."""

    name: str
    mail: str
    domain: str


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
    guests: list[Guest] = field(default_factory=list)


def load() -> None:
    """Load what reading calendars needs."""
    import icalendar  # noqa: F401
    import recurring_ical_events  # noqa: F401


def read(web: Web, url: str, after: dt.datetime, before: dt.datetime) -> list[Entry]:
    """The entries of the calendar at `url` that begin in (after, before], by their beginning. Raises `OutsideError`."""
    answer = web.fetch(url, max_bytes=LARGEST, headers={"Accept": "text/calendar, */*;q=0.5"})
    if answer.status != 200:
        raise status_error(answer, "The calendar")
    return in_worker(entries, answer.body, after, before)


def entries(body: bytes, after: dt.datetime, before: dt.datetime) -> list[Entry]:
    """The entries of an iCalendar file. Raises `OutsideError` where it is none."""
    out: dict[str, tuple[dt.datetime, Entry]] = {}
    for calendar in _calendars(body):
        for event in _between(calendar, after, before):
            try:
                made = _entry(event, after, before)
            except Exception as error:  # whatever stands in it, the others are there
                log.info("an entry of a calendar cannot be read: %r", error)
                continue
            if made is not None:
                out.setdefault(made[1].identity, made)
            if len(out) >= MOST_ENTRIES:
                break
    return [entry for _, entry in sorted(out.values(), key=lambda one: (one[0], one[1].title))]


def _calendars(body: bytes) -> list[Any]:
    """The calendars in a file, each with the entries that can be read at all."""
    import icalendar

    try:
        found: Any = icalendar.Calendar.from_ical(body.lstrip(b"\xef\xbb\xbf \t\r\n"), multiple=True)
    except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
        raise BadAnswer(f"This is not a calendar that can be read ({type(error).__name__}).") from None
    calendars = [one for one in found if one.name == "VCALENDAR"]
    if not calendars:
        raise BadAnswer("This is not a calendar: it holds no VCALENDAR.")
    return calendars


def _between(calendar: Any, after: dt.datetime, before: dt.datetime) -> Iterator[Any]:
    """The entries and repeats of a calendar within a span, as components."""
    import recurring_ical_events

    calendar.subcomponents = [
        subcomponent
        for subcomponent in calendar.subcomponents
        if subcomponent.name != "VEVENT" or _time(subcomponent, "DTSTART") is not None
    ]
    try:
        yield from recurring_ical_events.of(calendar, skip_bad_series=True).between(after, before)
        return
    except Exception as error:
        log.info("a calendar cannot be read as one: %r", error)
    others = [subcomponent for subcomponent in calendar.subcomponents if subcomponent.name != "VEVENT"]
    series: defaultdict[str, list[Any]] = defaultdict(list)
    for n, event in enumerate(subcomponent for subcomponent in calendar.subcomponents if subcomponent.name == "VEVENT"):
        series[str(event.get("UID", "")) or f"without {n}"].append(event)
    for events in list(series.values())[:MOST_SERIES]:
        calendar.subcomponents = [*others, *events]
        try:
            found = recurring_ical_events.of(calendar, skip_bad_series=True).between(after, before)
        except Exception as error:
            log.info("a series of a calendar cannot be read: %r", error)
            continue
        yield from found


def _time(event: Any, name: str) -> dt.date | None:
    """A date or time of an entry; ``None`` where there is none, or none that can be read."""
    try:
        found = event.get(name).dt
    except Exception:  # the library tells of a broken one only when it is looked at
        return None
    return found if isinstance(found, dt.date) else None


def _entry(event: Any, after: dt.datetime, before: dt.datetime) -> tuple[dt.datetime, Entry] | None:
    """An entry with the moment it begins; ``None`` where that is not within the span, or it was cancelled."""
    start = _time(event, "DTSTART")
    if start is None:
        return None
    begins = _moment(start)
    if not after < begins <= before or str(event.get("STATUS", "")).upper() == "CANCELLED":
        return None
    end = _time(event, "DTEND")
    uid = str(event.get("UID", "")) or str(event.get("SUMMARY", ""))
    invited = event.get("ATTENDEE", [])
    people = invited if isinstance(invited, list) else [invited]
    return begins, Entry(
        identity=f"{uid}@{start.isoformat()}"[:500],
        title=str(event.get("SUMMARY", "")),
        start=start.isoformat(),
        end=end.isoformat() if end is not None else "",
        place=str(event.get("LOCATION", "")),
        description=str(event.get("DESCRIPTION", "")),
        organizer=_person(event.get("ORGANIZER")),
        attendees=[_person(p) for p in people],
        guests=[_guest(p) for p in people if str(getattr(p, "params", {}).get("CUTYPE", "INDIVIDUAL")).upper() == "INDIVIDUAL"],
    )


def _moment(value: dt.date) -> dt.datetime:
    if not isinstance(value, dt.datetime):
        return dt.datetime(value.year, value.month, value.day, tzinfo=dt.UTC)
    return value if value.tzinfo else value.replace(tzinfo=dt.UTC)


def _person(value: object) -> str:
    return str(value or "").removeprefix("mailto:").removeprefix("MAILTO:")


def _guest(value: Any) -> Guest:
    mail = _person(value)
    return Guest(str(getattr(value, "params", {}).get("CN", "")), mail, mail.rpartition("@")[2] if "@" in mail else "")
