"""The one boundary for values: whatever comes from outside passes `plain`, and is then a JSON value the house can keep.

A kept value is what RFC 8259 calls a JSON value, and I-JSON (RFC 7493) allows: text is valid Unicode, numbers are finite,
names are text; depth, width and size are bounded. Nothing else may enter a journal.
"""

from __future__ import annotations

import datetime as dt
import json
import math
from collections.abc import Mapping
from enum import Enum
from typing import Any, NamedTuple

from pydantic_core import from_json

REPLACEMENT = "\N{REPLACEMENT CHARACTER}"
LARGEST_NUMBER = 2**1024


class Bounds(NamedTuple):
    """How large a value may be: levels of nesting, members of one list or object, values in all, characters in all."""

    depth: int = 64
    width: int = 200_000
    values: int = 1_000_000
    characters: int = 40_000_000


BOUNDS = Bounds()


class NotPlain(ValueError):
    """A value that cannot be kept; the message says what is wrong, in words, and where."""


def plain(value: Any, bounds: Bounds = BOUNDS) -> Any:
    """`value` as a plain JSON value: ``None``, truth, a finite number, text, a list, or an object with text as names.

    Halves of surrogate pairs are joined, or replaced by U+FFFD; tuples become lists, dates ISO 8601 text. Raises `NotPlain`
    for anything else, and for what is larger than `bounds`. Linear in the size of the value.

    >>> plain({"words": ("half \\ud83c", 2), "when": dt.date(2026, 3, 1)})
    {'words': ['half \ufffd', 2], 'when': '2026-03-01'}
    """
    return _Walk(bounds).take(value, 0)


def plain_object(value: Any, bounds: Bounds = BOUNDS) -> dict[str, Any]:
    """As `plain`, for what must be an object. Raises `NotPlain`."""
    taken = plain(value, bounds)
    if not isinstance(taken, dict):
        raise NotPlain(f"names with values are wanted, and this is {_kind(value)}")
    return taken


def text(value: str) -> str:
    """`value` as valid Unicode text."""
    try:
        value.encode()
    except UnicodeEncodeError:
        return value.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")
    return value


def read_json(source: str | bytes, bounds: Bounds = BOUNDS) -> Any:
    """A JSON text from outside (RFC 8259) as a plain value. Raises `NotPlain` in words."""
    try:
        found = json.loads(source, parse_constant=_no_number)
    except RecursionError:
        raise NotPlain("it is nested too deep") from None
    except ValueError as error:
        if isinstance(error, NotPlain):
            raise
        raise NotPlain(f"it is no JSON: {error}") from None
    return plain(found, bounds)


def read_kept(source: str | bytes) -> Any:
    """JSON that the house wrote, also by an older version that kept what is refused today: what cannot be a value is
    replaced (half a surrogate pair by U+FFFD, a number that is none by ``None``, what is nested too deep by an ellipsis)."""
    try:
        return from_json(source, allow_inf_nan=False)
    except ValueError:
        try:
            return _lenient(json.loads(source), 0)
        except RecursionError:
            return None


def _no_number(name: str) -> Any:
    raise NotPlain(f"“{name}” is no number that can be kept")


def _lenient(value: Any, depth: int) -> Any:
    if isinstance(value, str):
        return text(value)
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {text(k): _lenient(v, depth + 1) for k, v in value.items()} if depth < 4 * BOUNDS.depth else "…"
    if isinstance(value, list):
        return [_lenient(v, depth + 1) for v in value] if depth < 4 * BOUNDS.depth else "…"
    return value


class _Walk:
    """One value being taken in, and how much of it there has been so far."""

    def __init__(self, bounds: Bounds) -> None:
        self.bounds = bounds
        self.values = 0
        self.characters = 0

    def take(self, value: Any, depth: int) -> Any:
        self.values += 1
        if self.values > self.bounds.values:
            raise NotPlain(f"it holds more than {self.bounds.values:,} values")
        if value is None or value is True or value is False:
            return value
        if isinstance(value, str):
            return self.take_text(value)
        if isinstance(value, Enum):
            return self.take(value.value, depth)
        if isinstance(value, int):
            if abs(value) >= LARGEST_NUMBER:
                raise NotPlain("a number in it has more than 300 digits")
            return int(value)
        if isinstance(value, float):
            if not math.isfinite(value):
                raise NotPlain(f"“{value}” is no number that can be kept")
            return float(value)
        if isinstance(value, dt.date | dt.time):
            return value.isoformat()
        if isinstance(value, Mapping | list | tuple):
            return self.take_many(value, depth)
        raise NotPlain(f"{_kind(value)} cannot be kept; only text, numbers, truth, lists and names with values can")

    def take_text(self, value: str) -> str:
        self.characters += len(value)
        if self.characters > self.bounds.characters:
            raise NotPlain(f"it holds more than {self.bounds.characters:,} characters")
        return text(value if type(value) is str else str(value))

    def take_many(self, value: Mapping[Any, Any] | list[Any] | tuple[Any, ...], depth: int) -> Any:
        if depth >= self.bounds.depth:
            raise NotPlain(f"it is nested more than {self.bounds.depth} deep")
        if len(value) > self.bounds.width:
            raise NotPlain(f"a list or object in it has more than {self.bounds.width:,} members")
        if not isinstance(value, Mapping):
            return [self.take(one, depth + 1) for one in value]
        taken = {}
        for name, one in value.items():
            if not isinstance(name, str):
                raise NotPlain(f"{_kind(name)} as a name cannot be kept; names are text")
            taken[self.take_text(name)] = self.take(one, depth + 1)
        return taken


def _kind(value: Any) -> str:
    words = {dict: "an object", list: "a list", str: "a text", int: "a number", float: "a number", bool: "a truth value"}
    return words.get(type(value)) or f"a value of the type “{type(value).__name__}”"
