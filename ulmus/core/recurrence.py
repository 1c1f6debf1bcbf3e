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
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal
from zoneinfo import ZoneInfo

from dateutil.rrule import rruleset, rrulestr

ANCHOR = dt.datetime(2020, 1, 6)
LONGEST_RULE = 4000
MOST_TRIES = 400_000
MOST_PASSED = 1000
MOST_RULES = 20
_LONGEST = (31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
_STEPS = {
    "MINUTELY": dt.timedelta(minutes=1),
    "HOURLY": dt.timedelta(hours=1),
    "DAILY": dt.timedelta(days=1),
    "WEEKLY": dt.timedelta(weeks=1),
}


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


def quiet_hours(text: str) -> Quiet:
    """Quiet hours written like ``22:00-07:00``. Raises `RecurrenceError`."""
    try:
        start, end = (dt.time.fromisoformat(part.strip()) for part in text.split("-"))
    except ValueError:
        raise RecurrenceError("Quiet hours are written like 22:00-07:00.") from None
    return Quiet(start, end)


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

    An hour that a zone leaves out gives one time all the same:

    >>> after = dt.datetime(2026, 3, 28, 12, tzinfo=dt.timezone.utc)
    >>> [moment.isoformat() for moment in due("FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0", "Europe/Paris", after, 2)]
    ['2026-03-29T03:30:00+02:00', '2026-03-30T02:30:00+02:00']
    """
    return list(itertools.islice(each_due(rule, zone, after, quiet), count))


def passed_and_next(
    rule: str, zone: str, after: dt.datetime, now: dt.datetime, quiet: Quiet | None = None
) -> tuple[dt.datetime | None, dt.datetime | None]:
    """The last due time later than `after` and not later than `now`, and the first later than `now`; ``None`` where there is
    none. As `due` otherwise."""
    last = None
    for n, moment in enumerate(each_due(rule, zone, after, quiet)):
        if moment > now:
            return last, moment
        last = moment
        if n >= MOST_PASSED and after < now - dt.timedelta(days=1):
            # Long asleep, by a rule of every few minutes: what passed before the last day does not matter.
            return passed_and_next(rule, zone, now - dt.timedelta(days=1), now, quiet)
    return last, None


def each_due(rule: str, zone: str, after: dt.datetime, quiet: Quiet | None = None) -> Iterator[dt.datetime]:
    """As `due`, one after another, each worked out when it is wanted."""
    place = zone_of(zone)
    limit = after.astimezone(dt.UTC)
    for moment in _moments(rule, place, after):
        if quiet is not None and quiet.holds(moment):
            moment = quiet.over(moment)
        placed = _placed(moment, place)
        if placed.astimezone(dt.UTC) <= limit:
            continue
        limit = placed.astimezone(dt.UTC)
        yield placed


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
    coming = [line for line in lines if _can_come(line)]
    if len(coming) < len(lines) and not any(line.startswith(("RRULE", "RDATE")) for line in coming):
        return rruleset()
    lines = coming
    try:
        body = "\n".join(line for line in lines if not line.startswith("DTSTART"))
        found: rruleset = rrulestr(body, dtstart=start, forceset=True, ignoretz=True)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError) as error:
        raise RecurrenceError(f"This is not a rule of RFC 5545: {str(error).strip() or 'it cannot be read'}.") from None
    return found


def _start(lines: list[str], begin: dt.datetime) -> dt.datetime:
    """Where counting begins, moved close to `begin` by whole steps so that nothing is counted through in vain."""
    start = ANCHOR
    for line in lines:
        if line.startswith("DTSTART"):
            try:
                start = dt.datetime.strptime(line.rsplit(":", 1)[-1].rstrip("Z"), "%Y%m%dT%H%M%S")
            except ValueError:
                raise RecurrenceError("DTSTART is written like DTSTART:20260302T080000.") from None
    rules = [line for line in lines if line.startswith("RRULE")]
    if len(rules) > MOST_RULES:
        raise RecurrenceError(f"A schedule has at most {MOST_RULES} rules.")
    if any(line.startswith("EXRULE") for line in lines):
        raise RecurrenceError("EXRULE is no part of RFC 5545; leave single days out with EXDATE.")
    for line in rules:
        parts = dict(p.split("=", 1) for p in line.partition(":")[2].split(";") if "=" in p)
        frequency = parts.get("FREQ", "")
        _within_bounds(parts)
        if frequency == "SECONDLY":
            raise RecurrenceError("Once a minute is the most often that can be asked for.")
        within_the_day = {"BYMONTH", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYSETPOS", "BYSECOND"}
        if frequency in ("MINUTELY", "HOURLY") and set(parts) & within_the_day:
            raise RecurrenceError("A rule within the day takes INTERVAL, BYDAY, BYHOUR, BYMINUTE, COUNT and UNTIL only.")
        if frequency in ("MINUTELY", "HOURLY") and len(rules) > 1:
            raise RecurrenceError("A rule within the day stands alone.")
        if frequency in _STEPS and "COUNT" not in parts and begin > start and len(rules) == 1:
            step = _STEPS[frequency] * int(parts.get("INTERVAL", "1"))
            start += step * ((begin - start) // step)
    return start


def _can_come(line: str) -> bool:
    """Whether a rule names a day that there is in any of its months: one that there is not would be looked for in all years."""
    parts = dict(p.split("=", 1) for p in line.partition(":")[2].split(";") if "=" in p)
    if not line.startswith("RRULE") or not {"BYMONTH", "BYMONTHDAY"} <= set(parts):
        return True
    try:
        months, days = ([int(n) for n in parts[name].split(",")] for name in ("BYMONTH", "BYMONTHDAY"))
    except ValueError:
        return True  # told of when it is read
    return any(abs(day) <= _LONGEST[month - 1] for month in months if 1 <= month <= 12 for day in days)


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

DAYS = {"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}
NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", -1: "last"}
WEEKDAYS = ("MO", "TU", "WE", "TH", "FR")


@dataclass(frozen=True)
class Plain:
    """A schedule as a person says it.

    `how`: ``minutes`` or ``hours`` (every `every` of them), ``daily``, ``weekly`` (on `days`), ``monthly`` (on day
    `day`, where -1 is the last) or ``nth`` (the `nth` of `days` in the month, where -1 is the last). `times` are
    wall-clock times such as ``08:00``; for hours, the minute past the hour is that of the first.
    """

    how: Literal["minutes", "hours", "daily", "weekly", "monthly", "nth"]
    every: int = 1
    times: tuple[str, ...] = ("08:00",)
    days: tuple[str, ...] = ("MO",)
    day: int = 1
    nth: int = 1


def rule_of(plain: Plain) -> str:
    """The RRULE of a plain schedule. Raises `RecurrenceError`."""
    try:
        times = sorted({dt.time.fromisoformat(t) for t in plain.times})
    except ValueError:
        raise RecurrenceError("Times are written like 08:00.") from None
    if not 1 <= plain.every <= 10_000:
        raise RecurrenceError("“Every” takes a number from 1 to 10,000.")
    if not plain.days or any(d not in DAYS for d in plain.days):
        raise RecurrenceError("Choose at least one day.")
    if not times:
        raise RecurrenceError("Give at least one time.")
    if plain.how == "minutes":
        return f"FREQ=MINUTELY;INTERVAL={plain.every}"
    if plain.how == "hours":
        return f"FREQ=HOURLY;INTERVAL={plain.every};BYMINUTE={times[0].minute}"
    if len({t.minute for t in times}) > 1 and len({t.hour for t in times}) > 1:
        # One rule takes every hour with every minute; several times need a rule each.
        return "\n".join(f"RRULE:{rule_of(replace(plain, times=(t.isoformat('minutes'),)))}" for t in times)
    hours = ",".join(str(h) for h in sorted({t.hour for t in times}))
    minutes = ",".join(str(m) for m in sorted({t.minute for t in times}))
    at = f"BYHOUR={hours};BYMINUTE={minutes};BYSECOND=0"
    days = ",".join(d for d in DAYS if d in plain.days)
    match plain.how:
        case "daily":
            return f"FREQ=DAILY;{at}"
        case "weekly":
            return f"FREQ=WEEKLY;BYDAY={days};{at}"
        case "monthly":
            if plain.day != -1 and not 1 <= plain.day <= 31:
                raise RecurrenceError("A day of the month is a number from 1 to 31, or the last.")
            return f"FREQ=MONTHLY;BYMONTHDAY={plain.day};{at}"
    if plain.nth not in NTH:
        raise RecurrenceError("Choose the first, second, third, fourth or last.")
    return f"FREQ=MONTHLY;BYDAY={days};BYSETPOS={plain.nth};{at}"


def plain_of(rule: str) -> Plain | None:
    """The plain schedule a rule stands for, or ``None`` where it says more than plain words can."""
    lines = [line.strip().upper().removeprefix("RRULE:") for line in rule.strip().splitlines() if line.strip()]
    texts = [one for line in lines if (one := _plain(line)) is not None]
    if not texts or len(texts) != len(lines) or len({replace(p, times=()) for p in texts}) > 1:
        return None
    return replace(texts[0], times=tuple(sorted({t for p in texts for t in p.times})))


def _plain(line: str) -> Plain | None:
    parts = dict(p.split("=", 1) for p in line.split(";") if "=" in p)
    try:
        frequency, every = parts.pop("FREQ", ""), int(parts.pop("INTERVAL", "1"))
        parts.pop("BYSECOND", None)
        hours = [int(h) for h in parts.pop("BYHOUR", "0").split(",")]
        minutes = [int(m) for m in parts.pop("BYMINUTE", "0").split(",")]
        times = tuple(f"{h:02}:{m:02}" for h in hours for m in minutes)
        days = tuple(d for d in parts.pop("BYDAY", "").split(",") if d)
        if any(d not in DAYS for d in days):
            return None
        if frequency == "MINUTELY" and not parts and not days and hours == [0]:
            return Plain("minutes", every)
        if frequency == "HOURLY" and not parts and not days and hours == [0]:
            return Plain("hours", every, times[:1])
        if every != 1:
            return None
        if frequency == "DAILY" and not parts and not days:
            return Plain("daily", times=times)
        if frequency == "WEEKLY" and not parts and days:
            return Plain("weekly", times=times, days=days)
        if frequency == "MONTHLY" and set(parts) == {"BYMONTHDAY"} and not days:
            return Plain("monthly", times=times, day=int(parts["BYMONTHDAY"]))
        if frequency == "MONTHLY" and set(parts) == {"BYSETPOS"} and days and int(parts["BYSETPOS"]) in NTH:
            return Plain("nth", times=times, days=days, nth=int(parts["BYSETPOS"]))
    except ValueError:
        return None
    return None


def words_of(rule: str) -> str:
    """A rule in words: “every weekday at 08:00”; a rule that plain words cannot say stands as it is.

    >>> words_of("FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=8;BYMINUTE=0")
    'every Monday and Thursday at 08:00'
    """
    plain = plain_of(rule)
    if plain is None:
        return " ".join(rule.split())
    at = f" at {_listed(plain.times)}"
    match plain.how:
        case "minutes":
            return "every minute" if plain.every == 1 else f"every {plain.every} minutes"
        case "hours":
            minute = int(plain.times[0][3:])
            often = "every hour" if plain.every == 1 else f"every {plain.every} hours"
            return often + (f", {minute} minute{'s' if minute != 1 else ''} past" if minute else " on the hour")
        case "daily":
            return "every day" + at
        case "weekly":
            chosen = tuple(d for d in DAYS if d in plain.days)
            days = "weekday" if chosen == WEEKDAYS else _listed([DAYS[d] for d in chosen])
            return f"every {days}{at}"
        case "monthly":
            return f"monthly on {'the last day' if plain.day == -1 else f'day {plain.day}'}{at}"
    chosen = tuple(d for d in DAYS if d in plain.days)
    days = "weekday" if chosen == WEEKDAYS else " or ".join(DAYS[d] for d in chosen)
    return f"monthly on the {NTH[plain.nth]} {days}{at}"


def _listed(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " and " + words[-1]
