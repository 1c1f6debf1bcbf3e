"""A line as a sentence, made from its settings: *Read the page at ⟨feed.link⟩*.

The pattern stands in the kind: ``{name}`` is replaced by the setting's value, told apart as plain
value, slot or gap so that an interface can set each its own way. What stands in ``[…]`` is left out while a
setting named in it is as it always is.
"""

from __future__ import annotations

import re
from typing import Literal, NamedTuple

from ..recurrence import words_of
from ..slots import Slot, parse
from .checks import World
from .kinds import TEXT_CONTROLS, KindSpec, field_control
from .model import Line

_HOLE = re.compile(r"\{(\w+)\}")
_OPTIONAL = re.compile(r"\[([^\]]*)\]")


class SentencePart(NamedTuple):
    """A run of the sentence and what it is."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


def sentence(line: Line, spec: KindSpec | None, world: World) -> list[SentencePart]:
    """The parts of the line's sentence, in order."""
    if spec is None:
        return [SentencePart("gap", f"Unknown kind “{line.kind}”")]
    out: list[SentencePart] = []
    for i, segment in enumerate(_OPTIONAL.split(spec.sentence)):
        if i % 2 and any(_unset(line, spec, name) for name in _HOLE.findall(segment)):
            continue
        for j, piece in enumerate(_HOLE.split(segment)):
            if j % 2:
                out.extend(_value(line, spec, piece, world))
            elif piece:
                out.append(SentencePart("text", piece))
    if out and out[0].what == "value":
        out[0] = SentencePart("value", out[0].text[:1].upper() + out[0].text[1:])
    return out


#: Controls whose value is one word out of several.
NAMED = frozenset({"connection", "sheet", "workflow", "choice"})


def _unset(line: Line, spec: KindSpec, name: str) -> bool:
    field = spec.settings.model_fields[name]
    default = None if field.is_required() else field.get_default(call_default_factory=True)
    return line.settings.get(name, default) in (None, "", [], {}, default)


def _value(line: Line, spec: KindSpec, name: str, world: World) -> list[SentencePart]:
    field = spec.settings.model_fields[name]
    value = line.settings.get(name, None if field.is_required() else field.get_default(call_default_factory=True))
    extra = field_control(field)
    control = extra.get("control")
    gap = [SentencePart("gap", (field.title or name).lower())]
    if value in (None, "", [], {}):
        return gap
    if control in NAMED and not isinstance(value, str | int | float):
        return gap
    if control == "connection":
        known = world.connections.get(value)
        return [SentencePart("value", known.name) if known else SentencePart("gap", str(value))]
    if control == "sheet":
        known_sheet = world.sheets.get(value)
        return [SentencePart("value", known_sheet[0]) if known_sheet else SentencePart("gap", str(value))]
    if control == "workflow":
        called = world.workflows.get(str(value))
        return [SentencePart("value", called) if called else SentencePart("gap", "a workflow")]
    lines = [one for one in str(value).splitlines() if one.strip()]
    if control == "longvalue" and len(lines) > 1:
        return [SentencePart("value", f"{len(lines)} lines")]
    if control in TEXT_CONTROLS:
        return [
            SentencePart("slot", str(p.path)) if isinstance(p, Slot) else SentencePart("value", str(p))
            for p in parse(str(value)).parts
        ]
    if control == "duration":
        return [SentencePart("value", duration(value))] if isinstance(value, int | float) else gap
    if control == "schedule":
        return [SentencePart("value", words_of(str(value)))]
    if control == "fields" and isinstance(value, dict):
        return [SentencePart("value", ", ".join(value))]
    if control == "choice":
        labels = extra.get("labels")
        return [SentencePart("value", str(labels.get(value, value) if isinstance(labels, dict) else value))]
    return [SentencePart("value", str(value))]


def duration(seconds: float) -> str:
    """Seconds in words: “5 seconds”, “10 minutes”, “2 hours”."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            n = int(seconds // size)
            return f"{n} {word}{'s' if n != 1 else ''}"
    return f"{seconds:g} second{'s' if seconds != 1 else ''}"
