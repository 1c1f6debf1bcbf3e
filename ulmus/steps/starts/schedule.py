"""Start: a time, again and again."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from pydantic import BaseModel, Field

from ...core.recurrence import Plain, RecurrenceError, due, quiet_hours, rule_of, zone_of
from ..api import Kind, Settings, setting

DEFAULT_RULE = rule_of(Plain("weekly", times=("08:00",), days=("MO", "TU", "WE", "TH", "FR")))


class Timed(Settings):
    """Settings of a start that goes by the clock."""

    rule: str = setting(
        "When", "A recurrence rule (RFC 5545).", control="schedule", default=DEFAULT_RULE, min_length=1, max_length=4000
    )
    zone: str = setting(
        "Time zone",
        "Such as Europe/Paris. It keeps the clock’s time all year.",
        control="zone",
        default="UTC",
        min_length=1,
        max_length=60,
    )
    quiet: str = setting(
        "Quiet hours",
        "Such as 22:00-07:00; what is due then waits for their end.",
        control="text",
        default="",
        max_length=20,
        more=True,
    )
    missed: Literal["once", "skip"] = setting(
        "If Ulmus was off then",
        control="choice",
        default="once",
        labels={"once": "catch up once", "skip": "leave it out"},
        more=True,
    )


def faults(settings: Timed) -> list[tuple[str, str]]:
    """A rule, zone or quiet hours that cannot be used."""
    out = []
    try:
        zone_of(settings.zone)
    except RecurrenceError as error:
        return [("zone", str(error))]
    try:
        quiet = quiet_hours(settings.quiet) if settings.quiet else None
    except RecurrenceError as error:
        return [("quiet", str(error))]
    try:
        if not due(settings.rule, settings.zone, dt.datetime.now(dt.UTC), 1, quiet):
            out.append(("rule", "This schedule has no time left to come."))
    except RecurrenceError as error:
        out.append(("rule", str(error)))
    return out


class ScheduleSettings(Timed):
    """The clock is all there is."""


class ScheduleOutput(BaseModel):
    due: str = Field("", description="When it was due (ISO 8601, in the zone).")
    date: str = Field("", description="The day it was due.")
    time: str = Field("", description="The time it was due.")
    weekday: str = Field("", description="The weekday it was due.")
    title: str = Field("", description="The same in words.")


KIND = Kind(
    name="schedule",
    stage="start",
    manner="start",
    title="At a time",
    about="Starts a run when it is time: every so often, daily, on weekdays, monthly.",
    sentence="{rule}[, outside quiet hours {quiet}]",
    offer="A time: every day, hour or week",
    words="clock daily weekly hourly morning cron weekdays",
    called="time",
    left_to_choose=("title", "date"),
    settings=ScheduleSettings,
    output=ScheduleOutput,
    listens="clock",
    faults=faults,
    brief="{title}",
)
