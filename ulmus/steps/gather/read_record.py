"""Gather: what went out in a period, where to, what came of it and what it cost; for a letter to the client."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.recurrence import RecurrenceError, zone_of
from ...protocols.errors import NothingToDo
from ..api import Context, Performs, Result, Settings, setting

PERIODS = {
    "last_month": "the month before",
    "this_month": "this month so far",
    "last_week": "the week before",
    "days": "the last days",
    "between": "between two dates",
}


class RecordSettings(Settings):
    period: Literal["last_month", "this_month", "last_week", "days", "between"] = setting(
        "Of", control="choice", default="last_month", labels=PERIODS
    )
    days: int = setting("How many days", control="number", default=30, ge=1, le=366, when="period=days")
    since: str = setting("From", "A date, such as 2026-11-01.", control="slots", default="", max_length=100, when="period=between")
    until: str = setting("To", "A date; that day counts.", control="slots", default="", max_length=100, when="period=between")


class RecordOutput(BaseModel):
    text: str = Field("", description="All of it in words, for a prompt or a letter.")
    count: int = Field(0, description="How many pieces went out.")
    items: list[Any] = Field([], description="The pieces, the first first.")
    channels: list[Any] = Field([], description="How many went where, and what came back.")
    brand: str = Field("", description="Whose they are.")
    since: str = Field("", description="The first day.")
    until: str = Field("", description="The last day.")
    cost: float = Field(0.0, description="What the runs of the period cost.")
    tokens: int = Field(0, description="What models read and wrote.")
    hours: float = Field(0.0, description="From a run’s start until its piece went out, in the middle.")


def perform(settings: RecordSettings, context: Context) -> Result:
    """Read the record."""
    run = context.values.get("run") or {}
    first, last = days(settings, str(run.get("date") or ""))
    try:
        zone = zone_of(str(run.get("zone") or "UTC"))
    except RecurrenceError:
        zone = dt.UTC  # type: ignore[assignment]
    since = dt.datetime.combine(first, dt.time(), zone).timestamp()
    until = dt.datetime.combine(last + dt.timedelta(days=1), dt.time(), zone).timestamp()
    told = context.workspace.period(since, until)
    shown = {name: told.get(name) for name in RecordOutput.model_fields if name in told}
    return Result({**shown, "since": first.isoformat(), "until": last.isoformat()})


def days(settings: RecordSettings, today: str) -> tuple[dt.date, dt.date]:
    """The first and the last day of the period. Raises `NothingToDo` where a date cannot be read."""
    now = _date(today) if today else dt.datetime.now(dt.UTC).date()
    match settings.period:
        case "this_month":
            return now.replace(day=1), now
        case "last_month":
            last = now.replace(day=1) - dt.timedelta(days=1)
            return last.replace(day=1), last
        case "last_week":
            monday = now - dt.timedelta(days=now.weekday() + 7)
            return monday, monday + dt.timedelta(days=6)
        case "days":
            return now - dt.timedelta(days=settings.days - 1), now
    first, last = _date(settings.since), _date(settings.until)
    if last < first:
        raise NothingToDo(f"The period ends before it begins: {first} to {last}.")
    return first, last


def _date(text: str) -> dt.date:
    try:
        return dt.date.fromisoformat(text.strip()[:10])
    except ValueError:
        raise NothingToDo(f"“{text.strip()[:40]}” is no date; write it as 2026-11-28.") from None


def gives(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """What is told of each piece and of each channel."""
    back = dict.fromkeys(("answers", "pressed", "left", "bounced"), "number")
    piece = dict.fromkeys(("at", "channel", "form", "title", "text", "link", "workflow"), "text")
    return {
        "items": [{**piece, **back, "run": "number", "hours": "number", "numbers": "any"}],
        "channels": [{"channel": "text", "pieces": "number", **back}],
    }


def faults(settings: RecordSettings) -> list[tuple[str, str]]:
    """What is not said yet."""
    if settings.period != "between":
        return []
    return [(name, "Say which day.") for name in ("since", "until") if not getattr(settings, name).strip()]


KIND = Performs(
    name="read_record",
    stage="gather",
    title="Read the record of a period",
    about="What went out of the brand in a month, a week or some days: pieces, channels, what came back, what it cost. For a letter to the client, or a report.",
    sentence="Read the record of {period}",
    offer="Read the record of a period",
    words="report month client what went out results cost summary statistics history period log",
    called="record",
    settings=RecordSettings,
    output=RecordOutput,
    perform=perform,
    gives=gives,
    faults=faults,
    brief="{count} pieces, {since} to {until}",
)
