"""Which values a line reads: through slots, conditions, or by pointing at a step; a block, through everything in it."""

from __future__ import annotations

from .. import slots
from .controls import Takes, condition_reads, settings_of
from .kinds import Kinds
from .model import Line
from .plans import AssignmentPlan, EachPlan
from .takes import takes_of

GIVEN = "given"


def reads(line: Line, kinds: Kinds) -> set[slots.Path]:
    """Every value from outside itself that a line depends on."""
    kind = kinds.get(line.kind)
    if kind is None:
        return set()
    used: set[slots.Path] = set()
    for name, setting in settings_of(kind.settings).items():
        if isinstance(setting.control, Takes):
            continue
        value = line.settings.get(name, setting.default)
        used |= setting.control.reads(value)
        in_texts = {path for _, text in setting.control.texts(value) for path in slots.parse(text).reads}
        used |= {path for path in in_texts if path.root not in setting.control.own_roots}
    for lane in line.lanes:
        used |= condition_reads(lane.when)
    lines = [*line.steps, *(step for lane in line.lanes for step in lane.steps)]
    own = {inner.id for inner in lines} | {line.id}
    match kind.plan_of(line.settings):
        case EachPlan(item=item):
            own.add(item)
        case AssignmentPlan():
            own.add(GIVEN)
    for inner in lines:
        for one in (inner, *takes_of(inner, kinds)):
            used |= reads(one, kinds)
    return {path for path in used if path.root not in own}


def roots(line: Line, kinds: Kinds) -> set[str]:
    """The names of what it reads."""
    return {path.root for path in reads(line, kinds)}
