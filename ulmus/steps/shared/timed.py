"""What the starts that go by the clock have in common."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from ...core.recurrence import Plain, RecurrenceError, due, quiet_hours, rule_of, zone_of
from ...core.workflow.plans import ClockPlan
from ..api import Settings, setting

DEFAULT_RULE = rule_of(Plain("weekly", times=("08:00",), days=("MO", "TU", "WE", "TH", "FR")))


class Timed(Settings):
    """Settings of a start that goes by the clock."""

    rule: str = setting(
        "When",
        "A recurrence rule (RFC 5545).",
        control="schedule",
        needs="zone quiet",
        default=DEFAULT_RULE,
        min_length=1,
        max_length=4000,
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

    def clock(self, sheet: str = "", used: str = "", count: int = 1) -> ClockPlan:
        """When such a start is due; with the rows of a sheet, where it takes some."""
        return ClockPlan(self.rule, self.zone, self.quiet, self.missed, sheet, used, count)


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
