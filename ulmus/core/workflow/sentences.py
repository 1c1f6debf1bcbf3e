"""A line as a sentence, made from its settings: *Read the page at ⟨feed.link⟩*.

The pattern stands in the kind: ``{name}`` is replaced by the setting's value, told apart as plain
value, slot or gap so that an interface can set each its own way.
"""

from __future__ import annotations

import re
from typing import Literal, NamedTuple

from ..slots import Slot, parse
from .checks import World
from .kinds import KindSpec, field_control
from .model import Line

_HOLE = re.compile(r"\{(\w+)\}")


class SentencePart(NamedTuple):
    """A run of the sentence and what it is."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


def sentence(line: Line, spec: KindSpec | None, world: World) -> list[SentencePart]:
    """The parts of the line's sentence, in order."""
    if spec is None:
        return [SentencePart("gap", f"Unknown kind “{line.kind}”")]
    out: list[SentencePart] = []
    for i, piece in enumerate(_HOLE.split(spec.sentence)):
        if i % 2 == 0:
            if piece:
                out.append(SentencePart("text", piece))
            continue
        out.extend(_value(line, spec, piece, world))
    return out


def _value(line: Line, spec: KindSpec, name: str, world: World) -> list[SentencePart]:
    field = spec.settings.model_fields[name]
    value = line.settings.get(name, None if field.is_required() else field.default)
    control = field_control(field).get("control")
    if value in (None, ""):
        return [SentencePart("gap", (field.title or name).lower())]
    if control == "connection":
        known = world.connections.get(value)
        return [SentencePart("value", known.name) if known else SentencePart("gap", str(value))]
    if control == "sheet":
        known_sheet = world.sheets.get(value)
        return [SentencePart("value", known_sheet[0]) if known_sheet else SentencePart("gap", str(value))]
    if control in ("slots", "longslots"):
        return [
            SentencePart("slot", str(p.path)) if isinstance(p, Slot) else SentencePart("value", str(p))
            for p in parse(str(value)).parts
        ]
    if control == "duration":
        return [SentencePart("value", duration(float(value)))]
    return [SentencePart("value", str(value))]


def duration(seconds: float) -> str:
    """Seconds in words: “5 seconds”, “10 minutes”, “2 hours”."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            n = int(seconds // size)
            return f"{n} {word}{'s' if n != 1 else ''}"
    return f"{seconds:g} second{'s' if seconds != 1 else ''}"
