"""Filling in: a template and values give text, for one of four places.

Places: ``text`` as it is, ``html`` escaped, ``json`` as JSON literals (a slot stands where a value
stands, without quotation marks of its own), ``url`` percent-encoded (RFC 3986 section 2.1).
A missing value renders as nothing and is reported; rendering never raises on a parsed template.
"""

from __future__ import annotations

import html
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import quote

from .filters import FILTERS, MISSING, as_text
from .language import Path, Slot, SlotError, Template, Text

Place = Literal["text", "html", "json", "url"]
LONGEST_OUTPUT = 4_000_000

_ESCAPES: dict[str, Callable[[Any], str]] = {
    "text": as_text,
    "html": lambda value: html.escape(as_text(value)),
    "json": lambda value: json.dumps(None if value is MISSING else value, ensure_ascii=False),
    "url": lambda value: quote(as_text(value), safe=""),
}


@dataclass(frozen=True)
class Rendered:
    """The text and the paths that had no value."""

    text: str
    missing: tuple[str, ...] = ()


def look_up(path: Path, values: Mapping[str, Any]) -> Any:
    """The value at `path`, or `MISSING`. On lists ``first`` and ``last`` are names, ``[n]`` counts from 1."""
    here: Any = values.get(path.root, MISSING)
    for part in path.parts[1:]:
        if isinstance(part, int):
            here = here[part - 1] if isinstance(here, list) and part <= len(here) else MISSING
        elif isinstance(here, Mapping):
            here = here.get(part, MISSING)
        elif isinstance(here, list) and part in ("first", "last") and here:
            here = here[0 if part == "first" else -1]
        else:
            return MISSING
        if here is MISSING:
            return MISSING
    return MISSING if here is None else here


def value_of(slot: Slot, values: Mapping[str, Any]) -> Any:
    """The slot's value after its filters; unknown filters and wrong arguments leave it as it is."""
    value = look_up(slot.path, values)
    for call in slot.filters:
        kind = FILTERS.get(call.name)
        if kind and kind.least <= len(call.arguments) <= kind.most:
            if value is MISSING and call.name != "otherwise":
                continue
            value = kind.apply(value, *call.arguments)
    return value


def render(
    template: Template,
    values: Mapping[str, Any],
    place: Place = "text",
    wrap: Callable[[Slot, str], str] | None = None,
) -> Rendered:
    """Fill `template` in. `wrap` may frame each slot's text (prompts frame fetched material)."""
    out: list[str] = []
    missing: list[str] = []
    length = 0
    for part in template.parts:
        if isinstance(part, Text | SlotError):
            piece = str(part)
        else:
            value = value_of(part, values)
            if value is MISSING:
                missing.append(str(part.path))
            piece = _ESCAPES[place](value)
            if wrap is not None:
                piece = wrap(part, piece)
        length += len(piece)
        if length > LONGEST_OUTPUT:
            out.append(piece[: max(0, LONGEST_OUTPUT - length + len(piece))])
            break
        out.append(piece)
    return Rendered("".join(out), tuple(missing))
