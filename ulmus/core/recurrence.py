"""Due times: RFC 5545 recurrence rules in a named zone.

A rule is worked out in wall-clock time and then placed in the zone, so that “daily at 8” stays at 8 all year:

- A wall-clock time that a change of the clocks leaves out is taken with the offset before the gap (RFC 5545
  section 3.3.5): 02:30 becomes 03:30. If that time is due anyway, it counts once.
- A wall-clock time that comes twice is taken the first time only.

Without a DTSTART, counting (of every second week, say) begins on Monday, 6 January 2020, at midnight.
"""

from __future__ import annotations

import datetime as dt
import itertools
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from dateutil.rrule import rruleset, rrulestr
from pydantic import BaseModel, ConfigDict, Field

ANCHOR = dt.datetime(2020, 1, 6)
LONGEST_RULE = 4000
MOST_TRIES = 400_000
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_SUB_DAILY = {"HOURLY": dt.timedelta(hours=1), "MINUTELY": dt.timedelta(minutes=1)}


class RecurrenceError(ValueError):
    """The rule or the zone cannot be used; the message says why in plain words."""


@dataclass(frozen=True)
class Quiet:
    """Hours in which nothing is due, in wall-clock time; `start` may be later than `end` (over midnight)."""

    start: dt.time
    end: dt.time

    def holds(self, moment: dt.datetime) -> bool:
        """Whether `moment` (wall-clock) is quiet."""
        time = moment.time()
        if self.start <= self.end:
            return self.start <= time < self.end
        return time >= self.start or time < self.end

    def over(self, moment: dt.datetime) -> dt.datetime:
        """The end of the quiet hours `moment` is in."""
        end = moment.replace(hour=self.end.hour, minute=self.end.minute, second=0, microsecond=0)
        return end if end > moment else end + dt.timedelta(days=1)


def zone_of(name: str) -> ZoneInfo:
    """The zone called `name` (IANA). Raises `RecurrenceError`."""
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError):
        raise RecurrenceError(f"There is no time zone “{name}”. Write it like Europe/Paris.") from None


def due(rule: str, zone: str, after: dt.datetime, count: int = 1, quiet: Quiet | None = None) -> list[dt.datetime]:
    """The next `count` due times later than `after` (aware), in the zone; fewer where the rule ends.

    `rule` holds RRULE, RDATE, EXDATE and DTSTART lines; a lone RRULE needs no name. Times in quiet hours move to
    their end, and count once. Raises `RecurrenceError`.
    """
    place = zone_of(zone)
    out: list[dt.datetime] = []
    limit = after.astimezone(dt.UTC)
    for moment in _moments(rule, place, after):
        if quiet is not None and quiet.holds(moment):
            moment = quiet.over(moment)
        placed = _placed(moment, place)
        if placed.astimezone(dt.UTC) <= limit:
            continue
        limit = placed.astimezone(dt.UTC)
        out.append(placed)
        if len(out) >= count:
            break
    return out


def _moments(rule: str, zone: ZoneInfo, after: dt.datetime) -> Iterator[dt.datetime]:
    """Wall-clock times, rising, from somewhat before `after`."""
    # A day's margin: quiet hours and gaps move times forward, never back.
    begin = after.astimezone(zone).replace(tzinfo=None) - dt.timedelta(days=1)
    found = _parse(rule, zone, begin)
    try:
        yield from itertools.islice(found.xafter(begin, inc=True), MOST_TRIES)
    except (OverflowError, ValueError):
        return


def _parse(rule: str, zone: ZoneInfo, begin: dt.datetime) -> rruleset:
    text = rule.strip()
    if not text:
        raise RecurrenceError("The schedule is empty.")
    if len(text) > LONGEST_RULE:
        raise RecurrenceError("The schedule is too long.")
    lines = [line.strip().upper() for line in text.splitlines() if line.strip()]
    lines = [f"RRULE:{line}" if line.startswith("FREQ=") else line for line in lines]
    lines = [_until_on_the_wall(line, zone) for line in lines]
    start = _start(lines, begin)
    try:
        body = "\n".join(line for line in lines if not line.startswith("DTSTART"))
        found: rruleset = rrulestr(body, dtstart=start, forceset=True, ignoretz=True)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError) as error:
        raise RecurrenceError(f"This is not a rule of RFC 5545: {str(error).strip() or 'it cannot be read'}.") from None
    return found


def _start(lines: list[str], begin: dt.datetime) -> dt.datetime:
    """Where counting begins; for rules within a day, moved close to `begin` without losing count."""
    start = ANCHOR
    for line in lines:
        if line.startswith("DTSTART"):
            try:
                start = dt.datetime.strptime(line.rsplit(":", 1)[-1].rstrip("Z"), "%Y%m%dT%H%M%S")
            except ValueError:
                raise RecurrenceError("DTSTART is written like DTSTART:20260302T080000.") from None
    rules = [line for line in lines if line.startswith("RRULE")]
    for line in rules:
        parts = dict(p.split("=", 1) for p in line.partition(":")[2].split(";") if "=" in p)
        frequency = parts.get("FREQ", "")
        _within_bounds(parts)
        if frequency == "SECONDLY":
            raise RecurrenceError("Once a minute is the most often that can be asked for.")
        if frequency in _SUB_DAILY:
            if set(parts) & {"BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYSETPOS", "COUNT", "BYSECOND"}:
                raise RecurrenceError("A rule within the day takes INTERVAL, BYDAY, BYHOUR, BYMINUTE and UNTIL only.")
            step = _SUB_DAILY[frequency] * int(parts.get("INTERVAL", "1"))
            if begin > start and len(rules) == 1:
                start += step * ((begin - start) // step)
    return start


def _within_bounds(parts: dict[str, str]) -> None:
    # Checked here because numbers out of range would have the rule looked for without end.
    for name, least, most in (
        ("INTERVAL", 1, 10_000),
        ("COUNT", 1, 100_000),
        ("BYHOUR", 0, 23),
        ("BYMINUTE", 0, 59),
        ("BYSECOND", 0, 59),
    ):
        for number in parts[name].split(",") if name in parts else ():
            if not (number.isascii() and number.isdigit()) or not least <= int(number) <= most:
                raise RecurrenceError(f"This is not a rule of RFC 5545: {name} is a number from {least} to {most}.")


def _until_on_the_wall(line: str, zone: ZoneInfo) -> str:
    def local(found: re.Match[str]) -> str:
        moment = dt.datetime.strptime(found.group(1), "%Y%m%dT%H%M%S").replace(tzinfo=dt.UTC)
        return "UNTIL=" + moment.astimezone(zone).strftime("%Y%m%dT%H%M%S")

    try:
        return re.sub(r"UNTIL=(\d{8}T\d{6})Z", local, line)
    except ValueError:
        raise RecurrenceError("UNTIL is not a date.") from None


def _placed(moment: dt.datetime, zone: ZoneInfo) -> dt.datetime:
    """A wall-clock time in the zone: the first of two, or with the offset before a gap."""
    # fold=0 means the first of two; in a gap, the offset before it. Going through UTC gives the real wall clock.
    return moment.replace(tzinfo=zone, fold=0).astimezone(dt.UTC).astimezone(zone)


# -- in plain words ---------------------------------------------------------------------------------

Clock = Annotated[str, Field(pattern=r"^([01][0-9]|2[0-3]):[0-5][0-9]$", title="Time", description="Like 08:30.")]


class _Plain(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Every(_Plain):
    """Every so many minutes or hours, counted from midnight."""

    how: Literal["every"] = "every"
    number: int = Field(1, ge=1, le=720)
    unit: Literal["minutes", "hours"] = "hours"


class Daily(_Plain):
    """Every day, or on weekdays only, at one or more times."""

    how: Literal["daily"] = "daily"
    at: list[Clock] = Field(min_length=1, max_length=24)
    weekdays_only: bool = False


class Weekly(_Plain):
    """On some days of the week at a time."""

    how: Literal["weekly"] = "weekly"
    days: list[Literal["MO", "TU", "WE", "TH", "FR", "SA", "SU"]] = Field(min_length=1, max_length=7)
    at: Clock = "09:00"


class Monthly(_Plain):
    """On the nth or last day of its kind in the month, at a time; `nth` is 1 to 4, or -1 for the last."""

    how: Literal["monthly"] = "monthly"
    nth: Literal[1, 2, 3, 4, -1] = 1
    day: Literal["MO", "TU", "WE", "TH", "FR", "SA", "SU"] = "MO"
    at: Clock = "09:00"


class Rule(_Plain):
    """A rule of RFC 5545, written out."""

    how: Literal["rule"] = "rule"
    text: str = Field(min_length=1, max_length=LONGEST_RULE)


Plain = Annotated[Every | Daily | Weekly | Monthly | Rule, Field(discriminator="how")]

_DAY_NAMES = dict(zip(DAYS, ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"), strict=True))
_NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}


def rule_of(plain: Every | Daily | Weekly | Monthly | Rule) -> str:
    """The recurrence rule of a schedule in plain words."""
    match plain:
        case Every():
            return f"RRULE:FREQ={'MINUTELY' if plain.unit == 'minutes' else 'HOURLY'};INTERVAL={plain.number}"
        case Daily():
            days = ";BYDAY=MO,TU,WE,TH,FR" if plain.weekdays_only else ""
            return "\n".join(f"RRULE:FREQ=DAILY{days};{_at(time)}" for time in sorted(set(plain.at)))
        case Weekly():
            return f"RRULE:FREQ=WEEKLY;BYDAY={','.join(sorted(set(plain.days), key=DAYS.index))};{_at(plain.at)}"
        case Monthly():
            return f"RRULE:FREQ=MONTHLY;BYDAY={plain.nth}{plain.day};{_at(plain.at)}"
    return plain.text


def words_of(plain: Every | Daily | Weekly | Monthly | Rule) -> str:
    """A schedule as the end of a sentence: “every weekday at 08:30”."""
    match plain:
        case Every():
            return f"every {plain.unit[:-1]}" if plain.number == 1 else f"every {plain.number} {plain.unit}"
        case Daily():
            return f"every {'weekday' if plain.weekdays_only else 'day'} at {_list(sorted(set(plain.at)))}"
        case Weekly():
            return f"every {_list([_DAY_NAMES[d] for d in sorted(set(plain.days), key=DAYS.index)])} at {plain.at}"
        case Monthly():
            return f"on the {_NTH[plain.nth]} {_DAY_NAMES[plain.day]} of the month at {plain.at}"
    return f"by the rule {plain.text.splitlines()[0][:80]}"


def _at(time: str) -> str:
    hour, minute = time.split(":")
    return f"BYHOUR={int(hour)};BYMINUTE={int(minute)};BYSECOND=0"


def _list(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"
