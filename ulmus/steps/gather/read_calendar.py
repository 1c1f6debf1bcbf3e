"""Gather: the entries of a calendar."""

from __future__ import annotations

import dataclasses
import datetime as dt

from pydantic import BaseModel, Field

from ...protocols import calendars
from ..api import Context, Performs, Result, setting
from ..shared.entries import EntryValue
from ..shared.lists import Listed, list_faults, listed


class EntriesSettings(Listed):
    url: str = setting("Calendar address", "An iCalendar feed.", control="slots", min_length=1, max_length=2000, told="address")
    ahead: int = setting("Days ahead", control="number", default=1, ge=0, le=366)
    back: int = setting("Days back", control="number", default=0, ge=0, le=366)
    most: int = setting("At most", "Entries.", control="number", default=50, ge=1, le=1000)


class EntriesOutput(BaseModel):
    items: list[EntryValue] = Field([], description="The entries, by when they begin.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many were found.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: EntriesSettings, context: Context) -> Result:
    """Read the calendar."""
    now = dt.datetime.now(dt.UTC)
    entries = calendars.read(
        context.web, settings.url.strip(), now - dt.timedelta(days=settings.back), now + dt.timedelta(days=settings.ahead)
    )
    entry_values = [EntryValue(**dataclasses.asdict(entry)) for entry in entries]
    return Result(
        listed(
            entry_values, settings.model_copy(update={"repeats": "keep"}), context, key="title", text="title", most=settings.most
        )
    )


KIND = Performs(
    name="read_calendar",
    stage="gather",
    title="Read a calendar",
    about="The entries of a calendar in the days to come or past: what, when, where, who is invited.",
    sentence="Read the calendar {url}, {ahead} days ahead",
    offer="Read a calendar",
    words="meetings appointments events schedule ical tomorrow attendees",
    called="calendar",
    settings=EntriesSettings,
    output=EntriesOutput,
    perform=perform,
    faults=list_faults(EntryValue),
    gives_outside=True,
    reaches="url",
    brief="{count} entries",
)
