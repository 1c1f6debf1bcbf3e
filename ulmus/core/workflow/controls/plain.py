"""Controls of plain values: addresses, durations, schedules, choices."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from typing import Any

from ...recurrence import RecurrenceError, due, words_of
from ..saying import Heard, Said, says_when, seconds_in
from ..world import World
from .base import Control, Offered, SentencePart, Setting, Spot

_MAIL = re.compile(r"[^\s@<>]+@[^\s@<>]+\.[^\s@<>]+")
_SOME_DAY = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)


class Mail(Control):
    """A person's mail address."""

    name = "email"
    is_address = True
    told = "address"

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        return Offered(spot.who or None)

    def described(self, words: str, setting: Setting) -> Any:
        return words[:200] if _MAIL.fullmatch(words) else None


class Address(Control):
    """A web address."""

    name = "url"
    is_address = True
    told = "address"

    def described(self, words: str, setting: Setting) -> Any:
        return words[:2000] if words.startswith(("http://", "https://")) else None


class Duration(Control):
    """A number of seconds."""

    name = "duration"

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        seconds = seconds_in(said.words) if setting.told == "pause" else None
        return Heard(seconds) if seconds else None

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", duration(value))] if isinstance(value, int | float) else None


class Schedule(Control):
    """A recurrence rule (RFC 5545)."""

    name = "schedule"
    told = "rule"

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        rule = str(value or "")
        if "BYHOUR" in rule and not says_when(said.words):
            return Heard(rule, f"No time of day was said: it is {words_of(rule)}.")
        return None

    def described(self, words: str, setting: Setting) -> Any:
        try:
            due(words, "UTC", _SOME_DAY, 1)
        except RecurrenceError as error:
            raise ValueError(f"When it is due could not be read ({error}). Set it in the first line.") from None
        return words

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", words_of(str(value)))]


class Choice(Control):
    """One of several words."""

    name = "choice"

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", str(setting.labels.get(str(value), value)))] if isinstance(value, str | int | float) else None


def duration(seconds: float) -> str:
    """Seconds in words: “5 seconds”, “10 minutes”, “2 hours”."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            n = int(seconds // size)
            return f"{n} {word}{'s' if n != 1 else ''}"
    return f"{seconds:g} second{'s' if seconds != 1 else ''}"
