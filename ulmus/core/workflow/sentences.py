"""A line as a sentence, made from its settings: *Read the page at ⟨feed.link⟩*.

The pattern stands in the kind: ``{name}`` is replaced by the setting's value, told apart as plain
value, slot or gap so that an interface can set each its own way. What stands in ``[…]`` is left out while a
setting named in it is as it always is.
"""

from __future__ import annotations

import re
from typing import Any

from .controls import SentencePart, settings_of
from .kinds import KindSpec
from .model import Line
from .world import World

_HOLE = re.compile(r"\{(\w+)\}")
_OPTIONAL = re.compile(r"\[([^\]]*)\]")


def sentence(line: Line, spec: KindSpec[Any] | None, world: World) -> list[SentencePart]:
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


def _unset(line: Line, spec: KindSpec[Any], name: str) -> bool:
    setting = settings_of(spec.settings)[name]
    return line.settings.get(name, setting.default) in (None, "", [], {}, setting.default)


def _value(line: Line, spec: KindSpec[Any], name: str, world: World) -> list[SentencePart]:
    setting = settings_of(spec.settings)[name]
    value = line.settings.get(name, setting.default)
    sentence_parts = None if value in (None, "", [], {}) else setting.control.words(value, setting, world)
    return [SentencePart("gap", setting.title.lower())] if sentence_parts is None else sentence_parts
