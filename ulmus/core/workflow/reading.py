"""Which values a line reads: through slots, conditions, or by pointing at a step; a block, through everything in it."""

from __future__ import annotations

from .. import slots
from ..slots.tree import condition_values
from .kinds import Kinds, controls_of, templates_of
from .model import Line
from .takes import takes_of

GIVEN = "given"


def reads(line: Line, kinds: Kinds) -> set[slots.Path]:
    """Every value from outside itself that a line depends on."""
    kind = kinds.get(line.kind)
    if kind is None:
        return set()
    own_texts = [text for place, text in templates_of(kind, line.settings) if place[0] != "takes"]
    used = {path for text in own_texts for path in slots.parse(text).reads}
    conditions = [lane.when for lane in line.lanes]
    for name, control in controls_of(kind.settings).items():
        if control == "step":
            used.add(slots.Path((str(line.settings.get(name, "")), "text")))
        elif control == "condition":
            conditions.append(str(line.settings.get(name, "")))
    for text in conditions:
        condition = slots.parse_condition(text) if text.strip() else None
        if condition is not None and not isinstance(condition, slots.SlotError):
            used |= {value.path for value in condition_values(condition)}
    inside = [*line.steps, *(step for lane in line.lanes for step in lane.steps)]
    own = {inner.id for inner in inside} | {str(line.settings.get("item", ""))} | {line.id}
    if kind.manner == "assign":
        own.add(GIVEN)
    for inner in inside:
        for one in (inner, *takes_of(inner, kinds)):
            used |= reads(one, kinds)
    return {path for path in used if path.root not in own}


def roots(line: Line, kinds: Kinds) -> set[str]:
    """The names of what it reads."""
    return {path.root for path in reads(line, kinds)}
