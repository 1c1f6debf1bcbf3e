"""The filters a slot may use after a bar. Each takes a value and its arguments and gives a value.

A filter never raises on any value: where a value does not fit, it is given back as it was, since a
draft with an odd date is better than no draft. `usage` is shown in the picker and the reference.
"""

from __future__ import annotations

import datetime as dt
import html
import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from dateutil import parser as dates

MISSING: Any = type("Missing", (), {"__repr__": lambda self: "MISSING", "__bool__": lambda self: False})()


@dataclass(frozen=True)
class FilterKind:
    """A filter's name, how it is written, what it does, and its least and greatest number of arguments."""

    name: str
    usage: str
    about: str
    least: int
    most: int
    apply: Callable[..., Any]


FILTERS: dict[str, FilterKind] = {}


def _filter(usage: str, about: str, least: int = 0, most: int = 0) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    def add(function: Callable[..., Any]) -> Callable[..., Any]:
        name = usage.split()[0]
        FILTERS[name] = FilterKind(name, usage, about, least, most, function)
        return function

    return add


def as_text(value: Any) -> str:
    """A value as running text: lists line by line, objects as JSON, yes/no for truth values."""
    if value is MISSING or value is None:
        return ""
    if isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, list):
        return "\n".join(as_text(v) for v in value)
    if isinstance(value, dict):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


@_filter("shorten 400 words", "Cuts after so many words or characters, at the end of a word.", 1, 2)
def shorten(value: Any, count: Any, unit: str = "characters") -> Any:
    text = as_text(value)
    if not isinstance(count, int | float) or count < 0:
        return text
    count = int(count)
    if str(unit).startswith("word"):
        ends = [m.end() for m, _ in zip(re.finditer(r"\S+", text), range(count + 1), strict=False)]
        return text if len(ends) <= count else (text[: ends[count - 1]] + "…" if count else "")
    if len(text) <= count:
        return text
    cut = text[:count].rstrip()
    if " " in cut and not text[count : count + 1].isspace():
        cut = cut[: cut.rindex(" ")].rstrip()
    return cut + "…"


@_filter('otherwise "there"', "Used when the value is missing or empty.", 1, 1)
def otherwise(value: Any, fallback: Any) -> Any:
    return fallback if value is MISSING or value is None or value in ("", [], {}) else value


@_filter("upper", "In capitals.")
def upper(value: Any) -> Any:
    return as_text(value).upper()


@_filter("lower", "In small letters.")
def lower(value: Any) -> Any:
    return as_text(value).lower()


@_filter("trim", "Without white space at both ends.")
def trim(value: Any) -> Any:
    return as_text(value).strip()


@_filter('join ", "', "A list as one text, with something between.", 0, 1)
def join(value: Any, between: Any = ", ") -> Any:
    return str(between).join(as_text(v) for v in value) if isinstance(value, list) else as_text(value)


@_filter("first 3", "The first value of a list, or the first so many.", 0, 1)
def first(value: Any, count: Any = None) -> Any:
    if not isinstance(value, list):
        return value
    if isinstance(count, int):
        return value[: max(count, 0)]
    return value[0] if value else MISSING


@_filter("last 3", "The last value of a list, or the last so many.", 0, 1)
def last(value: Any, count: Any = None) -> Any:
    if not isinstance(value, list):
        return value
    if isinstance(count, int):
        return value[-count:] if count > 0 else []
    return value[-1] if value else MISSING


@_filter("count", "How many: of a list its values, of a text its characters.")
def count(value: Any) -> Any:
    return 0 if value is MISSING or value is None else len(value) if isinstance(value, list | dict | str) else 1


@_filter("plain", "HTML as plain text.")
def plain(value: Any) -> Any:
    text = re.sub(r"<(?:br|/p|/li|/h\d|/div)\b[^<>]*>", "\n", as_text(value), flags=re.IGNORECASE)
    text = html.unescape(re.sub(r"<[^<>]*>", "", text))
    return re.sub(r"\n{3,}", "\n\n", re.sub(r"[ \t]+", " ", text)).strip()


@_filter("json", "The value as JSON.")
def as_json(value: Any) -> Any:
    return json.dumps(None if value is MISSING else value, ensure_ascii=False)


_TOKENS: dict[str, Callable[[dt.datetime], str]] = {
    "YYYY": lambda d: f"{d.year:04}",
    "YY": lambda d: f"{d.year % 100:02}",
    "MMMM": lambda d: f"{d:%B}",
    "MMM": lambda d: f"{d:%b}",
    "MM": lambda d: f"{d.month:02}",
    "M": lambda d: str(d.month),
    "dddd": lambda d: f"{d:%A}",
    "ddd": lambda d: f"{d:%a}",
    "DD": lambda d: f"{d.day:02}",
    "D": lambda d: str(d.day),
    "HH": lambda d: f"{d.hour:02}",
    "H": lambda d: str(d.hour),
    "mm": lambda d: f"{d.minute:02}",
}
_TOKEN = re.compile("|".join(sorted(_TOKENS, key=len, reverse=True)))


@_filter('format "D MMMM YYYY"', "A date in a form of your own: D, MMMM, YYYY, dddd, HH, mm.", 1, 1)
def format_date(value: Any, pattern: Any) -> Any:
    text = as_text(value)
    if len(text) > 100:
        return text
    try:
        moment = dates.isoparse(text)
    except (ValueError, OverflowError):
        try:
            moment = dates.parse(text)
        except (ValueError, OverflowError, TypeError):
            return text
    return _TOKEN.sub(lambda m: _TOKENS[m.group()](moment), str(pattern))
