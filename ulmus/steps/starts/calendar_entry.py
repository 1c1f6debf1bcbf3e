"""Start: an entry of a calendar is coming up."""

from __future__ import annotations

import dataclasses
import datetime as dt

from ...core.workflow.kinds import type_word
from ...protocols import calendars
from ..api import Batched, Poll, PolledStart, PollResult, batched, setting
from ..shared.entries import EntryValue


class CalendarSettings(Batched):
    url: str = setting("Calendar address", "An iCalendar feed.", control="url", min_length=1, max_length=2000)
    before: float = setting("So long before", control="duration", default=3600, ge=60, le=2_678_400)
    every: float = setting("Look every", control="duration", default=300, ge=2, le=86_400, more=True)


def poll(settings: CalendarSettings, now: Poll) -> PollResult:
    """The entries that begin within the time set."""
    moment = dt.datetime.fromtimestamp(now.now, dt.UTC)
    entries = calendars.read(now.web, settings.url, moment, moment + dt.timedelta(seconds=settings.before))
    items = [(e.identity, dataclasses.asdict(e)) for e in entries]
    return PollResult(
        items,
        {},
        f"{len(items)} entr{'ies' if len(items) != 1 else 'y'} coming up." if items else "Nothing is coming up.",
        prime=False,
    )


KIND = PolledStart(
    name="calendar_entry",
    stage="start",
    title="Calendar entry coming up",
    about="Starts so long before each entry of a calendar begins.",
    sentence="{before} before each entry of {url}",
    offer="A calendar entry coming up",
    words="meeting appointment event ical",
    called="entry",
    common=0.3,
    settings=CalendarSettings,
    output=EntryValue,
    plan=lambda s: s.polling(s.every),
    poll=poll,
    gives=lambda settings, world: batched({n: type_word(f) for n, f in EntryValue.model_fields.items()}, settings),
    gives_outside=True,
    brief="{title}",
)
