"""What is missing or risky on a page, each finding leading to its line.

Severity: ``error`` keeps the workflow from going live, ``warning`` does not.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from .. import slots
from ..drafting.rules import contradictions
from .approved import unapproved
from .file import read_settings
from .kinds import Kinds, KindSpec, controls_of, field_control, templates_of
from .model import Lane, Line, Workflow

BRAND_FACTS = ("name", "about", "audience", "promise", "voice")
BRAND_SCOPE = dict.fromkeys((*BRAND_FACTS, "liked", "disliked"), "text")
RUN_SCOPE = {"date": "text", "time": "text", "number": "number", "link": "text"}


@dataclass(frozen=True)
class Known:
    """A connection as the checker needs it: its kind, name, and the longest post it takes (characters)."""

    kind: str
    name: str
    limit: int | None = None


@dataclass(frozen=True)
class World:
    """What exists around the page: connections and sheets by key, brands, and workflows by number."""

    connections: Mapping[str, Known] = field(default_factory=dict)
    sheets: Mapping[str, tuple[str, tuple[str, ...]]] = field(default_factory=dict)
    brands: frozenset[str] = frozenset()
    workflows: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class LineProblem:
    """A finding on a line; `place` is the setting, `start`/`end` characters in its text where it has a place. Where it can
    be mended with one press, `mend` says how in words: `settings` is what the line's settings become, or the lines `moving` are
    put behind the line `after`."""

    step: str
    message: str
    severity: Literal["error", "warning"] = "error"
    place: tuple[str, ...] = ()
    start: int | None = None
    end: int | None = None
    mend: str = ""
    settings: Mapping[str, Any] | None = None
    moving: tuple[str, ...] = ()
    after: str = ""


@dataclass
class Around:
    """What a line may name: a scope, and why some of it may have no value. `closing` is the scope at a block's end."""

    scope: dict[str, Any]
    maybe: dict[str, str]
    closing: dict[str, Any] = field(default_factory=dict)


def surroundings(workflow: Workflow, kinds: Kinds, world: World | None = None) -> dict[str, Around]:
    """For every line, what it may name: the start, the steps above it, the brand and the run, the item of a block."""
    out: dict[str, Around] = {}
    ground: dict[str, Any] = {"run": RUN_SCOPE, "brand": BRAND_SCOPE}
    maybe = {} if workflow.brand else {"brand": "this page is for no brand (choose one at its head)"}
    out[workflow.start.id] = Around(dict(ground), dict(maybe))
    if spec := kinds.get(workflow.start.kind):
        ground[workflow.start.id] = spec.given(workflow.start.settings, world)
    _around(workflow.steps, ground, maybe, kinds, world, out)
    return out


def _around(
    lines: list[Line],
    scope: dict[str, Any],
    maybe: dict[str, str],
    kinds: Kinds,
    world: World | None,
    out: dict[str, Around],
) -> dict[str, Any]:
    """Walk a sequence; gives what its steps add to the scope. `scope` and `maybe` are changed as it goes."""
    added: dict[str, Any] = {}
    for line in lines:
        here = out[line.id] = Around(dict(scope), dict(maybe))
        spec = kinds.get(line.kind)
        if spec is None:
            continue
        gives: dict[str, Any] = {line.id: spec.given(line.settings, world)}
        unsure: dict[str, str] = {}
        if spec.manner == "each":
            name = str(line.settings.get("item", "item"))
            element = _element(str(line.settings.get("list", "")), scope)
            inner = {**scope, name: element}
            inside = _around(line.steps, inner, dict(maybe), kinds, world, out)
            gives[line.id] = {**gives[line.id], "results": [{name: element, **inside}]}
        elif spec.manner == "fork":
            for lane in line.lanes:
                inside = _around(lane.steps, dict(scope), dict(maybe), kinds, world, out)
                gives |= inside
                why = f"the lane “{lane.id}” is muted" if lane.muted else f"the lane “{lane.id}” may not run"
                unsure |= dict.fromkeys(inside, why)
        elif spec.manner == "assign":
            # Each tool stands alone: it sees what is above the assignment, and what the model gives it.
            for tool in line.steps:
                _around([tool], {**scope, "given": "any"}, dict(maybe), kinds, world, out)
        elif spec.manner == "repeat":
            inner, unclear = dict(scope), dict(maybe)
            for one in line.steps:
                if one_spec := kinds.get(one.kind):
                    inner.setdefault(one.id, one_spec.given(one.settings, world))
                    unclear[one.id] = "in the first round it is not there yet"
            inside = _around(line.steps, inner, unclear, kinds, world, out)
            here.closing = {**scope, **inside, line.id: gives[line.id]}
            gives |= inside
        if line.muted:
            unsure |= dict.fromkeys(gives, f"“{line.id}” is muted")
        for name in gives:
            maybe.pop(name, None)
        scope |= gives
        maybe |= unsure
        added |= gives
    return added


def _element(text: str, scope: Mapping[str, Any]) -> Any:
    parts = [p for p in slots.parse(text).parts if isinstance(p, slots.Slot)]
    found = slots.type_of(parts[0].value, scope) if len(parts) == 1 else "text"
    return found[0] if isinstance(found, list) else "text" if found == "text" else "any"


def scope_before(workflow: Workflow, kinds: Kinds, step: str, world: World | None = None) -> dict[str, Any]:
    """The names a line may use. Empty for a line that is not on the page."""
    found = surroundings(workflow, kinds, world).get(step)
    return found.scope if found else {}


def check(workflow: Workflow, kinds: Kinds, world: World | None = None) -> list[LineProblem]:
    """Everything missing or risky. Without `world`, connections, sheets and workflows are not looked for."""
    found: list[LineProblem] = []
    if world and workflow.brand and workflow.brand not in world.brands:
        found.append(LineProblem(workflow.start.id, f"There is no brand “{workflow.brand}” here. Choose one."))
    around = surroundings(workflow, kinds, world)
    for position, line in enumerate(workflow.lines):
        found.extend(_line(workflow, position, line, kinds, world, around[line.id] if line.id in around else Around({}, {})))
    found.extend(_unapproved(workflow, kinds))
    found.extend(_unasked(workflow, kinds))
    found.extend(_tools(workflow, kinds))
    return found


def _line(workflow: Workflow, position: int, line: Line, kinds: Kinds, world: World | None, around: Around) -> list[LineProblem]:
    spec = kinds.get(line.kind)
    if spec is None:
        return [LineProblem(line.id, f"This Ulmus does not know the kind “{line.kind}”.")]
    if (spec.manner == "start") != (position == 0):
        where = "start can only stand at the top" if spec.manner == "start" else "step cannot stand as the start"
        return [LineProblem(line.id, f"“{spec.title}”: a {where}.")]
    found = _shape(line, spec, around)
    settings, wrong = read_settings(spec.settings, line.settings)
    found += [LineProblem(line.id, f"{_title(spec, name)}: {words}", place=(name,)) for name, words in wrong]
    for place, text in templates_of(spec, line.settings):
        control = controls_of(spec.settings)[place[0]]
        problems = (
            slots.check_value(text, around.scope)
            if control == "value"
            else slots.check(slots.parse(text), around.scope, around.maybe)
        )
        found += [LineProblem(line.id, p.message, p.severity, place, p.start, p.end) for p in problems]
    for name, control in controls_of(spec.settings).items():
        if control == "condition":
            text = str(line.settings.get(name, ""))
            problems = slots.check_condition(text, around.closing or around.scope)
            found += [LineProblem(line.id, p.message, p.severity, (name,), p.start, p.end) for p in problems]
    found += _gaps(line, spec)
    if settings is not None:
        found += _references(workflow, position, line, spec, settings, kinds, world)
        for words in contradictions(getattr(settings, "rules", [])):
            found.append(LineProblem(line.id, words, place=("rules",)))
        if spec.faults is not None:
            found += [LineProblem(line.id, words, place=(name,)) for name, words in spec.faults(settings)]
    return found


_GAP = re.compile(r"<<\?\s*([^<>]*?)\s*>>")


def _gaps(line: Line, spec: KindSpec) -> list[LineProblem]:
    """Gaps that a page came with, written ``<<? what goes here>>``: each is to be filled in."""
    texts = dict(templates_of(spec, line.settings))
    texts |= {(name,): value for name, value in line.settings.items() if isinstance(value, str)}
    return [
        LineProblem(line.id, f"To be filled in: {gap.group(1) or 'this'}.", "error", place, gap.start(), gap.end())
        for place, text in texts.items()
        for gap in _GAP.finditer(text)
    ]


def _shape(line: Line, spec: KindSpec, around: Around) -> list[LineProblem]:
    """Whether a block holds what it needs, and its lanes' conditions name what there is."""
    found = []
    if spec.manner in ("each", "repeat", "assign"):
        if line.lanes:
            found.append(LineProblem(line.id, "Only a fork has lanes."))
        if not line.steps:
            words = (
                "There is no tool in it yet: add the lines it may use."
                if spec.manner == "assign"
                else "There is no step inside this block yet."
            )
            found.append(LineProblem(line.id, words))
        name = str(line.settings.get("item", "item"))
        if spec.manner == "each" and name in around.scope:
            found.append(LineProblem(line.id, f"“{name}” is a name already; call the item something else.", place=("item",)))
    elif spec.manner == "fork":
        if line.steps:
            found.append(LineProblem(line.id, "The steps of a fork stand in its lanes."))
        if not line.lanes:
            found.append(LineProblem(line.id, "There is no lane in this fork yet."))
        last = len(line.lanes) - 1
        for i, lane in enumerate(line.lanes):
            if not lane.when.strip() and i != last and line.settings.get("which", "first") == "first":
                words = f"The lane “{lane.id}” has no condition, so no lane after it can run. Put it last."
                found.append(LineProblem(line.id, words, "warning", ("lanes", lane.id)))
            for p in slots.check_condition(lane.when, around.scope):
                found.append(LineProblem(line.id, p.message, p.severity, ("lanes", lane.id), p.start, p.end))
    elif line.steps or line.lanes:
        found.append(LineProblem(line.id, f"“{spec.title}” holds no steps of its own."))
    return found


def _askable(workflow: Workflow, step: str) -> set[str]:
    """The steps whose drafts a line may show: above it, and not outside the *for each* it stands in."""
    here: tuple[Line | Lane, ...] = next((p.within for p in workflow.walk() if p.line.id == step), ())
    loops = [w for w in here if isinstance(w, Line) and w.kind == "for_each"]
    out = set()
    for placed in workflow.walk():
        if placed.line.id == step:
            break
        if [w for w in placed.within if isinstance(w, Line) and w.kind == "for_each"] == loops:
            out.add(placed.line.id)
    return out


def _references(
    workflow: Workflow, position: int, line: Line, spec: KindSpec, settings: Any, kinds: Kinds, world: World | None
) -> list[LineProblem]:
    found = []
    for name, info in spec.settings.model_fields.items():
        control, value = field_control(info), getattr(settings, name)
        what = control.get("control")
        if what == "step":
            target = next((s for s in workflow.lines[:position] if s.id == value), None)
            if target is None or target.kind != control.get("needs"):
                found.append(LineProblem(line.id, "Choose which draft above this line is shown.", place=(name,)))
            elif target.id not in _askable(workflow, line.id):
                words = f"“{target.id}” stands outside this block; ask inside the block it stands in."
                found.append(LineProblem(line.id, words, place=(name,)))
        elif what == "line":
            if value and not any(step.id == value for step in workflow.every_step):
                shown = value if len(value) < 40 else f"{value[:40]}…"
                words = f"There is no line called “{shown}”, so that nothing would be given. Choose a line."
                found.append(LineProblem(line.id, words, place=(name,)))
        elif what == "workflow" and world:
            if value not in world.workflows:
                found.append(LineProblem(line.id, "Choose which workflow is meant.", place=(name,)))
        elif what == "connection" and world and not (value == "" and not info.is_required()):
            known = world.connections.get(value)
            if known is None:
                words = f"The connection “{value}” is not here yet." if value else "No connection chosen."
                found.append(LineProblem(line.id, f"{words} Choose one, or add it under Connections.", place=(name,)))
            elif known.kind != control.get("needs"):
                found.append(LineProblem(line.id, f"“{known.name}” is not a fitting connection here.", place=(name,)))
            elif known.limit is not None:
                found += _too_long_for(workflow, kinds, line, settings, known)
        elif what == "sheet" and world:
            if value not in world.sheets:
                found.append(LineProblem(line.id, f"There is no sheet “{value}” here. Choose one.", place=(name,)))
                continue
            title, columns = world.sheets[value]
            named = [*getattr(settings, "cells", {}), *(c for c in [getattr(settings, "used", "")] if c)]
            for column in named:
                if column not in columns:
                    message = f"The sheet “{title}” has no column “{column}”."
                    found.append(
                        LineProblem(
                            line.id, message, place=("cells", column) if column in getattr(settings, "cells", {}) else ("used",)
                        )
                    )
    return found


def _too_long_for(workflow: Workflow, kinds: Kinds, line: Line, settings: Any, known: Any) -> list[LineProblem]:
    roots = {path.root for _, text in templates_of(kinds[line.kind], line.settings) for path in slots.parse(text).reads}
    found = []
    for draft in workflow.every_step:
        if draft.id not in roots or "rules" not in getattr(kinds.get(draft.kind), "settings", type(settings)).model_fields:
            continue
        limits = [r.get("most") for r in draft.settings.get("rules", []) if isinstance(r, dict) and r.get("rule") == "length"]
        if not limits or not all(isinstance(m, int) and m <= (known.limit or 0) for m in limits):
            message = f"“{known.name}” takes at most {known.limit} characters; no rule keeps the draft within that."
            rules = [r for r in draft.settings.get("rules", []) if not (isinstance(r, dict) and r.get("rule") == "length")]
            mended = {**draft.settings, "rules": [{"rule": "length", "most": known.limit}, *rules]}
            mend = f"Keep it within {known.limit} characters"
            found.append(LineProblem(draft.id, message, "warning", ("rules",), mend=mend, settings=mended))
    return found


def _unapproved(workflow: Workflow, kinds: Kinds) -> list[LineProblem]:
    """Lines that let out what was made before the approval it rests on."""
    found = []
    for one in unapproved(workflow, kinds):
        if one.made == one.draft:
            words = f"This lets “{one.draft}” out before “{one.ask}” has been asked about it."
        else:
            words = (
                f"“{one.made}” is made from “{one.draft}” before “{one.ask}” is asked about it: "
                "what goes out could be what was changed or turned down."
            )
        names = " and ".join(f"“{name}”" for name in one.moving)
        mend = f"Move {names} behind “{one.ask}”" if one.moving else ""
        found.append(LineProblem(one.step, words, mend=mend, moving=one.moving, after=one.ask if one.moving else ""))
    return found


def _unasked(workflow: Workflow, kinds: Kinds) -> list[LineProblem]:
    asked = False
    for line, within, muted in workflow.walk():
        manner = getattr(kinds.get(line.kind), "manner", "")
        asked = asked or (manner == "ask" and kinds[line.kind].shows_a_draft and not muted)
        if any(isinstance(w, Line) and w.settings.get("permission", "each") != "never" for w in _assignments(within, kinds)):
            continue
        if manner == "send" and kinds[line.kind].stage == "publish" and not asked and not muted:
            words = "This acts outside with nobody asked." if kinds[line.kind].act else "This goes out with nobody asked."
            return [LineProblem(line.id, words, "warning")]
    return []


def _assignments(within: Sequence[Line | Lane], kinds: Kinds) -> list[Line]:
    return [w for w in within if isinstance(w, Line) and getattr(kinds.get(w.kind), "manner", "") == "assign"]


def _tools(workflow: Workflow, kinds: Kinds) -> list[LineProblem]:
    """Lines inside an assignment that cannot be its tools."""
    found = []
    for line, within, _ in workflow.walk():
        spec = kinds.get(line.kind)
        if spec is not None and _assignments(within, kinds) and not spec.can_be_a_tool:
            found.append(LineProblem(line.id, f"“{spec.title}” cannot be a tool of an assignment. Move it out."))
        elif spec is not None and _assignments(within, kinds):
            for place, text in templates_of(spec, line.settings):
                if place[0] not in spec.fixed_as_tool:
                    continue
                if any(path.root == "given" for path in slots.parse(text).reads):
                    words = f"{_title(spec, place[0])}: a tool has a fixed one; the model gives values, and never where they go."
                    found.append(LineProblem(line.id, words, place=place))
                elif place[0] == "path" and text.strip().startswith(("http://", "https://")):
                    words = f"{_title(spec, place[0])}: a tool stays on the service’s own host; write what follows its address."
                    found.append(LineProblem(line.id, words, place=place))
    return found


def _title(spec: KindSpec, name: str) -> str:
    info = spec.settings.model_fields.get(name)
    return (info.title if info and info.title else name.replace("_", " ")) if name else "Settings"
