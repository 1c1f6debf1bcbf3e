"""Filling in: a template and values give text, for one of four places.

Places: ``text`` as it is, ``html`` escaped, ``json`` as JSON literals (a slot stands where a value
stands, without quotation marks of its own), ``url`` percent-encoded (RFC 3986 section 2.1).
A missing value renders as nothing and is reported; rendering never raises on a parsed template.
Time and output are bounded: every turn of an *each* counts against the greatest length.
"""

from __future__ import annotations

import html
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import quote

from .evaluate import holds, items_of, value_of
from .filters import MISSING, as_text
from .language import parse
from .tree import Each, If, Part, Path, Slot, SlotError, Template, Text

Place = Literal["text", "html", "json", "url"]
LONGEST_OUTPUT = 4_000_000

_ESCAPES: dict[str, Callable[[Any], str]] = {
    "text": as_text,
    "html": lambda value: html.escape(as_text(value)),
    "json": lambda value: json.dumps(None if value is MISSING else value, ensure_ascii=False),
    "url": lambda value: quote(as_text(value), safe=""),
}
Wrap = Callable[[Path, str], str]


@dataclass(frozen=True)
class Rendered:
    """The text and the paths that had no value."""

    text: str
    missing: tuple[str, ...] = ()


class _Full(Exception):
    """The greatest length is reached."""


class _Writing:
    """One filling-in: what is written so far, and how much room is left."""

    def __init__(self, place: Place, wrap: Wrap | None) -> None:
        self.place, self.wrap = place, wrap
        self.missing: dict[str, None] = {}
        self.left = LONGEST_OUTPUT

    def spend(self, piece: str) -> str:
        if len(piece) >= self.left:
            kept, self.left = piece[: self.left], 0
            raise _Full(kept)
        self.left -= len(piece)
        return piece

    def parts(self, parts: tuple[Part, ...], values: Mapping[str, Any], wrap: Wrap | None) -> str:
        out: list[str] = []
        try:
            for part in parts:
                self.part(part, values, wrap, out)
        except _Full as full:
            # What was written before stays; each block around adds what it had.
            raise _Full("".join(out) + full.args[0]) from None
        return "".join(out)

    def part(self, part: Part, values: Mapping[str, Any], wrap: Wrap | None, out: list[str]) -> None:
        if isinstance(part, Text | SlotError):
            out.append(self.spend(str(part)))
        elif isinstance(part, Slot):
            value = value_of(part.value, values)
            if value is MISSING:
                self.missing[str(part.path)] = None
            piece = _ESCAPES[self.place](value)
            out.append(self.spend(wrap(part.path, piece) if wrap else piece))
        elif isinstance(part, If):
            chosen = part.body if holds(part.condition, values) else part.otherwise or ()
            out.append(self.parts(chosen, values, wrap))
        else:
            piece = self.each(part, values, wrap)
            out.append(piece)

    def each(self, part: Each, values: Mapping[str, Any], wrap: Wrap | None) -> str:
        found = value_of(part.value, values)
        if found is MISSING:
            self.missing[str(part.value.path)] = None
        turns: list[str] = []
        items = items_of(found)
        for number, item in enumerate(items, start=1):
            self.left -= 1
            if self.left <= 0:
                raise _Full("".join(turns))
            here = {"number": number, "first": number == 1, "last": number == len(items)}
            try:
                # The block is framed as a whole, so that what is in it is not framed once more.
                turns.append(self.parts(part.body, {**values, part.name: item, "each": here}, None))
            except _Full as full:
                raise _Full("".join(turns) + full.args[0]) from None
        text = "".join(turns)
        return wrap(part.value.path, text) if wrap else text


def render(template: Template, values: Mapping[str, Any], place: Place = "text", wrap: Wrap | None = None) -> Rendered:
    """Fill `template` in. `wrap` may frame the text of each slot and of each *each* (prompts frame fetched material).

    >>> from .language import parse
    >>> values = {"page": {"title": "Beans & peas"}, "items": [{"n": 1}, {"n": 2}]}
    >>> render(parse("<b><<page.title>></b><<each items as one>> <<one.n>>.<<end>>"), values, "html").text
    '<b>Beans &amp; peas</b> 1. 2.'
    """
    writing = _Writing(place, wrap)
    try:
        text = writing.parts(template.parts, values, wrap)
    except _Full as full:
        text = full.args[0]
    return Rendered(text, tuple(writing.missing))


def value_in(text: str, values: Mapping[str, Any]) -> Any:
    """The value a setting names: the value itself where the text is one slot (`MISSING` where it has none), and else the text with its
    slots filled in.

    >>> value_in("<<n>>", {"n": [1, 2]}), value_in("Dear <<n>>", {"n": "Ada"})
    ([1, 2], 'Dear Ada')
    """
    template = parse(text)
    parts = [p for p in template.parts if not (isinstance(p, Text) and not p.text.strip())]
    if len(parts) == 1 and isinstance(parts[0], Slot):
        return value_of(parts[0].value, values)
    return render(template, values).text
