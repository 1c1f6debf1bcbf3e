"""Start: an entry of a calendar is coming up."""

from __future__ import annotations

import dataclasses
import datetime as dt

from pydantic import BaseModel, Field

from ...core.workflow.kinds import type_word
from ...protocols import calendars
from ..api import Batched, Poll, PolledStart, PollResult, batched, setting


class CalendarSettings(Batched):
    url: str = setting("Calendar address", "An iCalendar feed.", control="url", min_length=1, max_length=2000)
    before: float = setting("So long before", control="duration", default=3600, ge=60, le=2_678_400)
    every: float = setting("Look every", control="duration", default=300, ge=2, le=86_400, more=True)


class CalendarOutput(BaseModel):
    title: str = Field("", description="What the entry is called.")
    start: str = Field("", description="When it begins (ISO 8601).")
    end: str = Field("", description="When it ends.")
    place: str = Field("", description="Where.")
    description: str = Field("", description="Its notes.")
    organizer: str = Field("", description="Who invites.")
    attendees: list[str] = Field([], description="Who else is invited.")
    identity: str = Field("", description="What makes this entry itself.")


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
    settings=CalendarSettings,
    output=CalendarOutput,
    plan=lambda s: s.polling(s.every),
    poll=poll,
    gives=lambda settings, world: batched({n: type_word(f) for n, f in CalendarOutput.model_fields.items()}, settings),
    gives_outside=True,
    brief="{title}",
)
