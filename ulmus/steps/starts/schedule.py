"""Start: a time, again and again."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..api import Start
from ..shared.timed import Timed, faults


class ScheduleSettings(Timed):
    """The clock is all there is."""


class ScheduleOutput(BaseModel):
    due: str = Field("", description="When it was due (ISO 8601, in the zone).")
    date: str = Field("", description="The day it was due.")
    time: str = Field("", description="The time it was due.")
    weekday: str = Field("", description="The weekday it was due.")
    title: str = Field("", description="The same in words.")


KIND = Start(
    name="schedule",
    stage="start",
    title="At a time",
    about="Starts a run when it is time: every so often, daily, on weekdays, monthly.",
    sentence="{rule}[, outside quiet hours {quiet}]",
    offer="A time: every day, hour or week",
    words="clock daily weekly hourly morning cron weekdays",
    called="time",
    common=0.9,
    left_to_choose=("title", "date"),
    settings=ScheduleSettings,
    output=ScheduleOutput,
    plan=lambda s: s.clock(),
    faults=faults,
    brief="{title}",
)
