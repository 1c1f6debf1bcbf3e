"""Changing a page: lines are added, moved, taken in and out of blocks, copied, pasted, renamed, removed.

Every function takes a workflow and gives another; what would break the page raises `EditError` and changes nothing.
Lines that come in get names of their own, and the values they point at among themselves follow.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from ..slots import renamed_condition
from .controls import settings_of
from .kinds import BlockSpec, Kinds, SendSpec
from .model import RESERVED, Lane, Line, Workflow
from .plans import AssignmentPlan, DestinationsPlan

LINES_FORMAT = "ulmus-lines"
END = "-"


class EditError(ValueError):
    """The change cannot be made; the words say why."""


@dataclass(frozen=True)
class Place:
    """Where lines go: the page itself (""), a block or a lane by name, before the step that is at `index` there."""

    parent: str = ""
    index: int = 0


def steps_of(workflow: Workflow, parent: str) -> list[Line]:
    """The steps of the page, of a block, or of a lane. Raises `EditError` where there is no such block."""
    if parent == "":
        return workflow.steps
    for line in workflow.every_step:
        if line.id == parent:
            return line.steps
        for lane in line.lanes:
            if lane.id == parent:
                return lane.steps
    raise EditError(f"There is no block or lane “{parent}” on this page any more.")


def places(workflow: Workflow) -> dict[str, Place]:
    """Where every step stands."""
    out: dict[str, Place] = {}
    counts: dict[str, int] = {}
    for line, within, _ in workflow.walk():
        parent = within[-1].id if within else ""
        out[line.id] = Place(parent, counts.get(parent, 0))
        counts[parent] = counts.get(parent, 0) + 1
    return out


def place_of(workflow: Workflow, step: str) -> Place:
    """Where a step stands. Raises `EditError` where it is not on the page."""
    place = places(workflow).get(step)
    if place is None:
        raise EditError(f"There is no step “{step}” on this page any more.")
    return place


def after(workflow: Workflow, line: str, kinds: Kinds) -> Place:
    """Where a line that follows `line` goes: at the top after the start, first in a block, below any other step; for `END`
    at the end of the page."""
    if line == END:
        return Place("", len(workflow.steps))
    if line == workflow.start.id:
        return Place()
    if any(lane.id == line for step in workflow.every_step for lane in step.lanes):
        return Place(line)
    found = workflow.line(line)
    if found is not None and _holds_steps(found, kinds):
        return Place(line)
    place = place_of(workflow, line)
    return Place(place.parent, place.index + 1)


def add(workflow: Workflow, lines: Sequence[Line], place: Place, kinds: Kinds) -> tuple[Workflow, list[str]]:
    """Put lines in; gives the page and the names they got."""
    new = _with_own_names(workflow, lines, kinds)
    here = steps_of(workflow, place.parent)
    holder = workflow.line(place.parent)
    if holder is not None and not _holds_steps(holder, kinds):
        raise EditError(f"“{holder.id}” holds no steps of its own.")
    at = max(0, min(place.index, len(here)))
    return _checked(_with_steps(workflow, place.parent, [*here[:at], *new, *here[at:]])), [line.id for line in new]


def free_name(workflow: Workflow, name: str, instead: str = "") -> str:
    """`name`, or where another line than the one called `instead` has it, the next like it that is free."""
    return _free(name, _names(workflow) - {instead})


def with_lanes(workflow: Workflow, fork: str, lanes: Sequence[Lane]) -> Workflow:
    """The page with other lanes in a fork. Raises `EditError` where their names are taken."""
    return _checked(_changed(workflow, fork, lambda line: line.model_copy(update={"lanes": list(lanes)})))


def remove(workflow: Workflow, step: str) -> Workflow:
    """Take a step off the page, with what stands in it."""
    place = place_of(workflow, step)
    lines = steps_of(workflow, place.parent)
    return _with_steps(workflow, place.parent, [line for line in lines if line.id != step])


def move(workflow: Workflow, step: str, place: Place, kinds: Kinds) -> Workflow:
    """Take a step to another place, with what stands in it. `place` is read before the step is taken away."""
    line = workflow.line(step)
    if line is None or line.id == workflow.start.id:
        raise EditError("The start stays at the top." if line else f"There is no step “{step}” on this page any more.")
    if place.parent in {step, *_parents([line])}:
        raise EditError("A block cannot stand inside itself.")
    now = place_of(workflow, step)
    index = place.index - (1 if place.parent == now.parent and place.index > now.index else 0)
    rest = remove(workflow, step)
    lines = steps_of(rest, place.parent)
    holder = rest.line(place.parent)
    if holder is not None and not _holds_steps(holder, kinds):
        raise EditError(f"“{holder.id}” holds no steps of its own.")
    at = max(0, min(index, len(lines)))
    return _checked(_with_steps(rest, place.parent, [*lines[:at], line, *lines[at:]]))


def put_behind(workflow: Workflow, moving: Sequence[str], line: str, kinds: Kinds) -> Workflow:
    """Put steps behind another, in the order given."""
    behind = line
    for step in moving:
        place = place_of(workflow, behind)
        workflow = move(workflow, step, Place(place.parent, place.index + 1), kinds)
        behind = step
    return workflow


def shift(workflow: Workflow, step: str, way: str, kinds: Kinds) -> Workflow:
    """Move a step by one: ``up`` or ``down`` among its neighbours, ``in`` to the block above it, ``out`` of its block.

    Where there is nothing that way, the page stays as it is.
    """
    place = place_of(workflow, step)
    lines = steps_of(workflow, place.parent)
    if way == "up" and place.index > 0:
        return move(workflow, step, Place(place.parent, place.index - 1), kinds)
    if way == "down" and place.index + 1 < len(lines):
        return move(workflow, step, Place(place.parent, place.index + 2), kinds)
    if way == "in" and place.index > 0:
        above = lines[place.index - 1]
        if above.lanes:
            return move(workflow, step, Place(above.lanes[-1].id, len(above.lanes[-1].steps)), kinds)
        if _holds_steps(above, kinds):
            return move(workflow, step, Place(above.id, len(above.steps)), kinds)
        raise EditError("The line above is no block. Add one, such as “for each”, above this line first.")
    if way == "out" and place.parent:
        holder = holder_of(workflow, place.parent)
        out = place_of(workflow, holder.id)
        return move(workflow, step, Place(out.parent, out.index + 1), kinds)
    return workflow


def duplicate(workflow: Workflow, step: str, kinds: Kinds) -> tuple[Workflow, str]:
    """A copy of a step below it; gives the page and the copy's name."""
    line = workflow.line(step)
    if line is None or line.id == workflow.start.id:
        raise EditError("The start cannot be copied.")
    place = place_of(workflow, step)
    page, names = add(workflow, [line], Place(place.parent, place.index + 1), kinds)
    return page, names[0]


def spread(workflow: Workflow, step: str, kinds: Kinds) -> Workflow:
    """Have a line that publishes stand among destinations, so that others can stand beside it; one that does already stays."""
    place = place_of(workflow, step)
    line = workflow.line(step)
    holder = workflow.line(place.parent)
    assert line is not None
    if not isinstance(kinds.get(line.kind), SendSpec):
        raise EditError("Only a line that publishes can have other destinations beside it.")
    if holder is not None and is_destinations(holder, kinds):
        return workflow
    if holder is not None and isinstance(kinds[holder.kind].plan_of(holder.settings), AssignmentPlan):
        raise EditError("A tool of an assignment stands alone: add another line that publishes beside it.")
    block = next(spec for spec in kinds.values() if isinstance(spec, BlockSpec) and isinstance(spec.plan_of({}), DestinationsPlan))
    around = Line(id=free_name(workflow, block.called or block.name), kind=block.name, steps=[line])
    lines = [around if one.id == step else one for one in steps_of(workflow, place.parent)]
    return _checked(_with_steps(workflow, place.parent, lines))


def is_destinations(line: Line, kinds: Kinds) -> bool:
    """Whether the lines inside a line are destinations, side by side."""
    spec = kinds.get(line.kind)
    return spec is not None and isinstance(spec.plan_of(line.settings), DestinationsPlan)


def rename(workflow: Workflow, line: str, to: str, kinds: Kinds) -> Workflow:
    """Call a line or lane by another name; every text that points at its values follows."""
    to = to.strip().lower()
    if not re.fullmatch(r"[a-z][a-z0-9_]{0,39}", to):
        raise EditError("A name is small letters, digits and _, and begins with a letter.")
    if to != line and to in _names(workflow):
        raise EditError(f"“{to}” is a name already.")
    if to in RESERVED:
        raise EditError(f"“{to}” is a reserved name; call it something else.")
    names = {line: to}
    return _checked(
        workflow.model_copy(
            update={"start": _called(workflow.start, names, kinds), "steps": [_called(s, names, kinds) for s in workflow.steps]}
        )
    )


def with_settings(workflow: Workflow, line: str, settings: dict[str, Any]) -> Workflow:
    """A page with the settings of one line replaced."""
    return with_line(workflow, line, lambda one: one.model_copy(update={"settings": settings}))


def with_line(workflow: Workflow, line: str, change: Callable[[Line], Line]) -> Workflow:
    """A page with one line changed, wherever it stands; the start too."""
    if line == workflow.start.id:
        return workflow.model_copy(update={"start": change(workflow.start)})
    return _changed(workflow, line, change)


def add_lane(workflow: Workflow, fork: str, kinds: Kinds) -> tuple[Workflow, str]:
    """One more lane for a fork, before its *otherwise* lane; gives the page and the lane's name."""
    line = workflow.line(fork)
    if line is None:
        raise EditError(f"There is no step “{fork}” on this page any more.")
    spec = kinds.get(line.kind)
    if not isinstance(spec, BlockSpec) or not spec.has_lanes:
        raise EditError("Only a fork has lanes.")
    name = _free(f"{fork}_lane", _names(workflow))
    last = bool(line.lanes) and not line.lanes[-1].when
    at = len(line.lanes) - 1 if last else len(line.lanes)
    lanes = [*line.lanes[:at], Lane(id=name), *line.lanes[at:]]
    return _checked(_changed(workflow, fork, lambda one: one.model_copy(update={"lanes": lanes}))), name


def remove_lane(workflow: Workflow, lane: str) -> Workflow:
    """Take a lane away, with its steps."""
    holder = holder_of(workflow, lane)
    kept = [one for one in holder.lanes if one.id != lane]
    return _changed(workflow, holder.id, lambda line: line.model_copy(update={"lanes": kept}))


def from_text(data: Any) -> list[Line]:
    """The lines in a text of the clipboard (see docs/file-format.md). Raises `EditError`."""
    if not isinstance(data, dict) or data.get("format") != LINES_FORMAT or not isinstance(data.get("lines"), list):
        raise EditError("This text holds no copied lines.")
    try:
        return [Line.model_validate(one) for one in data["lines"][:500]]
    except ValidationError as error:
        raise EditError(f"The copied lines cannot be read: {error.errors()[0]['msg']}.") from None


# -- within ------------------------------------------------------------------------------------------


def _holds_steps(line: Line, kinds: Kinds) -> bool:
    spec = kinds.get(line.kind)
    return isinstance(spec, BlockSpec) and not spec.has_lanes


def _parents(lines: Iterable[Line]) -> list[str]:
    out = []
    for line in lines:
        out += [line.id, *_parents(line.steps)]
        for lane in line.lanes:
            out += [lane.id, *_parents(lane.steps)]
    return out


def holder_of(workflow: Workflow, parent: str) -> Line:
    """The step that a block's or lane's steps stand in."""
    for line in workflow.every_step:
        if line.id == parent or any(lane.id == parent for lane in line.lanes):
            return line
    raise EditError(f"There is no block or lane “{parent}” on this page any more.")


def _with_steps(workflow: Workflow, parent: str, steps: list[Line]) -> Workflow:
    if parent == "":
        return workflow.model_copy(update={"steps": steps})
    holder = holder_of(workflow, parent)

    def put(line: Line) -> Line:
        if line.id == parent:
            return line.model_copy(update={"steps": steps})
        lanes = [lane.model_copy(update={"steps": steps}) if lane.id == parent else lane for lane in line.lanes]
        return line.model_copy(update={"lanes": lanes})

    return _changed(workflow, holder.id, put)


def _changed(workflow: Workflow, step: str, change: Callable[[Line], Line]) -> Workflow:
    def inside(line: Line) -> Line:
        if line.id == step:
            return change(line)
        if not line.steps and not line.lanes:
            return line
        lanes = [lane.model_copy(update={"steps": [inside(one) for one in lane.steps]}) for lane in line.lanes]
        return line.model_copy(update={"steps": [inside(one) for one in line.steps], "lanes": lanes})

    return workflow.model_copy(update={"steps": [inside(line) for line in workflow.steps]})


def _checked(workflow: Workflow) -> Workflow:
    try:
        return Workflow.model_validate(workflow.model_dump(mode="json"))
    except ValidationError as error:
        words = str((error.errors()[0].get("ctx") or {}).get("error", error.errors()[0]["msg"]))
        raise EditError(words[:1].upper() + words[1:] + ".") from None


def _names(workflow: Workflow) -> set[str]:
    return {workflow.start.id, *_parents(workflow.steps)}


def _free(name: str, taken: set[str] | frozenset[str]) -> str:
    """`name`, or the same with a number where it is taken."""
    base = re.sub(r"_\d+$", "", name)[:36]
    if name not in taken and name not in RESERVED:
        return name
    n = 2
    while f"{base}_{n}" in taken:
        n += 1
    return f"{base}_{n}"


def _with_own_names(workflow: Workflow, lines: Sequence[Line], kinds: Kinds) -> list[Line]:
    taken = _names(workflow)
    names: dict[str, str] = {}
    for name in _parents(lines):
        free = _free(name, taken)
        taken.add(free)
        if free != name:
            names[name] = free
    return [_called(line, names, kinds) for line in lines]


def _called(line: Line, names: Mapping[str, str], kinds: Kinds) -> Line:
    """A line by its new name, with everything in it that names another."""
    spec = kinds.get(line.kind)
    settings = dict(line.settings)
    for name, setting in settings_of(spec.settings).items() if spec else ():
        if name in settings:
            settings[name] = setting.control.renamed(settings[name], names)
    lanes = [
        lane.model_copy(
            update={
                "id": names.get(lane.id, lane.id),
                "when": renamed_condition(lane.when, names),
                "steps": [_called(s, names, kinds) for s in lane.steps],
            }
        )
        for lane in line.lanes
    ]
    steps = [_called(s, names, kinds) for s in line.steps]
    return line.model_copy(update={"id": names.get(line.id, line.id), "settings": settings, "steps": steps, "lanes": lanes})
