"""Whether what goes out is what was approved: nothing is sent, recorded or handed on that was made from a draft before a
person's word on it.

Between a draft and the question about it, whatever is made from the draft is made from something that may yet be changed
or turned down. A line that sends, records or acts with it is faulty; moving what was made behind the question mends it.
A draft that is asked about itself is approved by its own question.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from .kinds import ActSpec, AskSpec, Kinds
from .model import Line, Placed, Workflow
from .plans import AssignmentPlan
from .reading import roots


@dataclass(frozen=True)
class Unapproved:
    """A line (`step`) that lets out what was `made` before the question `ask` about the `draft` it was made from. Moving the
    lines `moving` behind the question mends it; none where they cannot be moved there."""

    step: str
    draft: str
    ask: str
    made: str
    moving: tuple[str, ...]


def unapproved(workflow: Workflow, kinds: Kinds) -> list[Unapproved]:
    """Every line that lets out something made before the approval it rests on; each once."""
    placed = [one for one in workflow.walk() if one.line.kind in kinds]
    reading = {one.line.id: roots(one.line, kinds) for one in placed}
    at = {one.line.id: n for n, one in enumerate(placed)}
    asked = {
        one.line.id: spec.plan_of(one.line.settings).draft
        for one in placed
        if isinstance(spec := kinds[one.line.kind], AskSpec) and spec.shows_a_draft and not one.muted
    }
    found: dict[str, Unapproved] = {}
    for ask, draft in asked.items():
        if draft not in at or at[draft] > at[ask]:
            continue
        for one in _of(placed, kinds, reading, at, asked, ask, draft):
            found.setdefault(one.step, one)
    return list(found.values())


def _of(
    placed: list[Placed],
    kinds: Kinds,
    reading: Mapping[str, set[str]],
    at: Mapping[str, int],
    asked: Mapping[str, str],
    ask: str,
    draft: str,
) -> list[Unapproved]:
    """What one question is passed by."""
    here = placed[at[ask]]
    around = {one.id for one in here.within}
    approved_alone = set(asked.values()) - {draft}
    made: list[str] = []
    tainted = {draft}
    found = []
    for one in placed[at[draft] + 1 :]:
        line, name = one.line, one.line.id
        before = at[name] < at[ask]
        if name == ask:
            tainted.discard(draft)
            continue
        if one.muted or name in around or name in asked or not (reading[name] & tainted):
            continue
        acts = isinstance(kinds[line.kind], ActSpec) and not any(_is_assignment(w, kinds) for w in one.within)
        if acts:
            source = draft if before and draft in reading[name] else sorted(reading[name] & tainted)[0]
            moving = tuple(dict.fromkeys([*_needed(made, reading, name, draft), *([name] if before else [])]))
            found.append(Unapproved(name, draft, ask, source, moving if _beside(placed, at, moving, here) else ()))
        elif name not in approved_alone and not _holds(line):
            tainted.add(name)
            if before:
                made.append(name)
    return found


def _needed(made: list[str], reading: Mapping[str, set[str]], step: str, draft: str) -> list[str]:
    """Those of the lines made too early that a step rests on, in the order of the page, with what rests on them in turn."""
    wanted = set(reading[step])
    for name in reversed(made):
        if name in wanted:
            wanted |= reading[name]
    moved = {name for name in made if name in wanted}
    for name in made:
        if reading[name] & moved:
            moved.add(name)
    # What was worked out later, from them, stands behind the question already.
    return [name for name in made if name in moved] or [
        name for name in made if draft in reading[name] or reading[name] & set(made)
    ]


def _beside(placed: list[Placed], at: Mapping[str, int], moving: tuple[str, ...], ask: Placed) -> bool:
    """Whether lines stand in the same block as the question, so that they can be put behind it."""
    return bool(moving) and all(placed[at[name]].within == ask.within for name in moving)


def _is_assignment(one: object, kinds: Kinds) -> bool:
    return isinstance(one, Line) and one.kind in kinds and isinstance(kinds[one.kind].plan_of(one.settings), AssignmentPlan)


def _holds(line: Line) -> bool:
    return bool(line.steps or line.lanes)
