"""What is missing or risky on a page, each finding leading to its line.

Severity: ``error`` keeps the workflow from going live, ``warning`` does not.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from .. import slots
from ..people import addresses
from .approved import unapproved
from .controls import Checking, Rules, settings_of, with_control
from .kinds import AskSpec, Kinds, KindSpec, SendSpec, StartSpec, StepSpec, WriteSpec, points_at, templates_of
from .model import Lane, Line, Workflow
from .plans import BLOCKS, AskPlan, AssignmentPlan, DestinationsPlan, EachPlan, ForkPlan, RepeatPlan, SendPlan
from .settings import read_settings
from .world import BRAND_SCOPE, RUN_SCOPE, Around, LineProblem, World


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
        match spec.plan_of(line.settings):
            case EachPlan(items=items, item=name):
                element = _element(items, scope)
                inside = _around(line.steps, {**scope, name: element}, dict(maybe), kinds, world, out)
                gives[line.id] = {**gives[line.id], "results": [{name: element, **inside}]}
            case DestinationsPlan():
                # They go out side by side and see nothing of one another; what one gives is there even where it is muted or failed.
                for one in line.steps:
                    gives |= _around([one], dict(scope), dict(maybe), kinds, world, out)
            case ForkPlan():
                for lane in line.lanes:
                    inside = _around(lane.steps, dict(scope), dict(maybe), kinds, world, out)
                    gives |= inside
                    why = f"the lane “{lane.id}” is muted" if lane.muted else f"the lane “{lane.id}” may not run"
                    unsure |= dict.fromkeys(inside, why)
            case AssignmentPlan():
                # Each tool stands alone: it sees what is above the assignment, and what the model gives it.
                for tool in line.steps:
                    _around([tool], {**scope, "given": "any"}, dict(maybe), kinds, world, out)
            case RepeatPlan():
                inner, unclear = dict(scope), dict(maybe)
                for step in line.steps:
                    if one_spec := kinds.get(step.kind):
                        inner.setdefault(step.id, one_spec.given(step.settings, world))
                        unclear[step.id] = "in the first round it is not there yet"
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
    problems: list[LineProblem] = []
    if world and workflow.brand and workflow.brand not in world.brands:
        problems.append(LineProblem(workflow.start.id, f"There is no brand “{workflow.brand}” here. Choose one."))
    around = surroundings(workflow, kinds, world)
    for position, line in enumerate(workflow.lines):
        problems.extend(_line(workflow, position, line, kinds, world, around[line.id] if line.id in around else Around({}, {})))
    problems.extend(_guessed(workflow))
    problems.extend(_unapproved(workflow, kinds))
    problems.extend(_unasked(workflow, kinds))
    problems.extend(_tools(workflow, kinds))
    problems.extend(_destinations(workflow, kinds))
    problems.extend(_without_places(workflow, kinds, world) if world is not None else ())
    problems.extend(_untold(workflow, kinds, world) if world is not None and world.people else ())
    return problems


def _line(workflow: Workflow, position: int, line: Line, kinds: Kinds, world: World | None, around: Around) -> list[LineProblem]:
    spec = kinds.get(line.kind)
    if spec is None:
        return [LineProblem(line.id, f"This Ulmus does not know the kind “{line.kind}”.")]
    if isinstance(spec, StartSpec) != (position == 0):
        where = "start can only stand at the top" if isinstance(spec, StartSpec) else "step cannot stand as the start"
        return [LineProblem(line.id, f"“{spec.title}”: a {where}.")]
    line_problems = _shape(line, spec, around)
    settings, wrong = read_settings(spec.settings, line.settings)
    line_problems += [LineProblem(line.id, f"{_title(spec, name)}: {words}", place=(name,)) for name, words in wrong]
    for name, setting in settings_of(spec.settings).items():
        value = line.settings.get(name, setting.default)
        for place, text in setting.control.texts(value):
            problems = setting.control.text_problems(text, around)
            line_problems += [LineProblem(line.id, p.message, p.severity, (name, *place), p.start, p.end) for p in problems]
    for name, setting in settings_of(spec.settings).items():
        problems = setting.control.value_problems(line.settings.get(name, setting.default), around)
        line_problems += [LineProblem(line.id, p.message, p.severity, (name,), p.start, p.end) for p in problems]
    line_problems += _gaps(line, spec)
    if settings is not None:
        for at in _settings(workflow, position, line, spec, settings, kinds, world, around):
            line_problems += at.setting.control.problems(at)
        if isinstance(spec, WriteSpec) and spec.own_row(settings) and not from_its_row(workflow, line, spec, kinds):
            words = "A run of this page does not come from a row of this sheet. Say how the row is found."
            line_problems.append(LineProblem(line.id, words, place=("which",)))
        if spec.faults is not None:
            line_problems += [LineProblem(line.id, words, place=(name,)) for name, words in spec.faults(settings)]
    return line_problems


def from_its_row(workflow: Workflow, line: Line, spec: KindSpec[Any], kinds: Kinds) -> bool:
    """Whether a run of the page comes from a row of the sheet that a line writes into."""
    start = kinds.get(workflow.start.kind)
    of_start = {key for _, key in points_at(start, workflow.start.settings, "sheet")} if start is not None else set()
    written = next((key for _, key in points_at(spec, line.settings, "sheet")), "")
    return not written or written in of_start


_GAP = re.compile(r"<<\?\s*([^<>]*?)\s*>>")


def _gaps(line: Line, spec: KindSpec[Any]) -> list[LineProblem]:
    """Gaps that a page came with, written ``<<? what goes here>>``: each is to be filled in."""
    texts = dict(templates_of(spec, line.settings))
    texts |= {(name,): value for name, value in line.settings.items() if isinstance(value, str)}
    return [
        LineProblem(line.id, f"To be filled in: {gap.group(1) or 'this'}.", "error", place, gap.start(), gap.end())
        for place, text in texts.items()
        for gap in _GAP.finditer(text)
    ]


def _shape(line: Line, spec: KindSpec[Any], around: Around) -> list[LineProblem]:
    """Whether a block holds what it needs, and its lanes' conditions name what there is."""
    plan = spec.plan_of(line.settings)
    if isinstance(plan, ForkPlan) and not isinstance(plan, DestinationsPlan):
        return list(_lanes(line, plan, around))
    if not isinstance(plan, BLOCKS):
        holds = line.steps or line.lanes
        return [LineProblem(line.id, f"“{spec.title}” holds no steps of its own.")] if holds else []
    found = []
    if line.lanes:
        found.append(LineProblem(line.id, "Only a fork has lanes."))
    if not line.steps:
        words = "There is no step inside this block yet."
        if isinstance(plan, AssignmentPlan):
            words = "There is no tool in it yet: add the lines it may use."
        if isinstance(plan, DestinationsPlan):
            words = "There is no destination in it yet: add a line that publishes for each."
        found.append(LineProblem(line.id, words))
    return found


def _lanes(line: Line, plan: ForkPlan, around: Around) -> Iterator[LineProblem]:
    if line.steps:
        yield LineProblem(line.id, "The steps of a fork stand in its lanes.")
    if not line.lanes:
        yield LineProblem(line.id, "There is no lane in this fork yet.")
    for i, lane in enumerate(line.lanes, 1):
        if not lane.when.strip() and i != len(line.lanes) and not plan.every:
            words = f"The lane “{lane.id}” has no condition, so no lane after it can run. Put it last."
            yield LineProblem(line.id, words, "warning", ("lanes", lane.id))
        for p in slots.check_condition(lane.when, around.scope):
            yield LineProblem(line.id, p.message, p.severity, ("lanes", lane.id), p.start, p.end)


def _settings(
    workflow: Workflow,
    position: int,
    line: Line,
    spec: KindSpec[Any],
    settings: Any,
    kinds: Kinds,
    world: World | None,
    around: Around,
) -> Iterator[Checking]:
    """A line's settings, each with what it can be checked against."""
    askable = frozenset(_askable(workflow, line.id, kinds))
    drafts = {}
    for one in workflow.every_step:
        rules = with_control(kinds[one.kind].settings, Rules) if one.kind in kinds else None
        if rules is not None:
            drafts[one.id] = rules
    reads = frozenset(path.root for _, text in templates_of(spec, line.settings) for path in slots.parse(text).reads)
    for name, setting in settings_of(spec.settings).items():
        value = getattr(settings, name)
        yield Checking(workflow, line, setting, value, settings, workflow.lines[:position], askable, world, drafts, reads, around)


def _askable(workflow: Workflow, step: str, kinds: Kinds) -> set[str]:
    """The steps whose drafts a line may show: above it, and not outside the *for each* it stands in."""

    def loops(within: Sequence[Line | Lane]) -> list[Line]:
        return [w for w in within if isinstance(w, Line) and isinstance(_plan(w, kinds), EachPlan)]

    here: tuple[Line | Lane, ...] = next((p.within for p in workflow.walk() if p.line.id == step), ())
    out = set()
    for placed in workflow.walk():
        if placed.line.id == step:
            break
        if loops(placed.within) == loops(here):
            out.add(placed.line.id)
    return out


def _plan(line: Line, kinds: Kinds) -> Any:
    spec = kinds.get(line.kind)
    return spec.plan_of(line.settings) if spec is not None else None


def _guessed(workflow: Workflow) -> list[LineProblem]:
    """What a page made from a description could only guess, as long as it stands so."""
    return [
        LineProblem(line.id, f"A guess: {guess.why}", "warning", (name,), mend="That is right", guess=name)
        for line in workflow.lines
        for name, guess in line.guesses.items()
        if line.settings.get(name) == guess.value
    ]


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
    shown = asked = told = False
    found: list[LineProblem] = []
    for line, within, muted in workflow.walk():
        spec = kinds.get(line.kind)
        asked = asked or (isinstance(spec, AskSpec) and not muted)
        shown = shown or (isinstance(spec, AskSpec) and spec.shows_a_draft and not muted)
        if any(plan.permission != "never" for plan in _assignments(within, kinds)):
            continue
        if not isinstance(spec, SendSpec) or spec.stage != "publish" or muted:
            continue
        if spec.lets_go:
            if not asked and not line.settings.get(spec.lets_go):
                words = "This acts outside with nobody asked. Ask somebody above it, or say that nobody need be asked."
                settings = {**line.settings, spec.lets_go: True}
                found.append(LineProblem(line.id, words, place=(spec.lets_go,), mend="Nobody need be asked", settings=settings))
        elif not shown and not told:
            told = True
            words = "This acts outside with nobody asked." if spec.act else "This goes out with nobody asked."
            found.append(LineProblem(line.id, words, "warning"))
    return found


def _assignments(within: Sequence[Line | Lane], kinds: Kinds) -> list[AssignmentPlan]:
    planned = (_plan(one, kinds) for one in within if isinstance(one, Line))
    return [plan for plan in planned if isinstance(plan, AssignmentPlan)]


def _tools(workflow: Workflow, kinds: Kinds) -> list[LineProblem]:
    """Lines inside an assignment that cannot be its tools."""
    found = []
    for line, within, _ in workflow.walk():
        spec = kinds.get(line.kind)
        if not isinstance(spec, StepSpec) or not _assignments(within, kinds):
            continue
        if not spec.can_be_a_tool:
            found.append(LineProblem(line.id, f"“{spec.title}” cannot be a tool of an assignment. Move it out."))
            continue
        for place, text in templates_of(spec, line.settings):
            if place[0] not in spec.fixed_as_tool:
                continue
            title = settings_of(spec.settings)[place[0]].title
            if any(path.root == "given" for path in slots.parse(text).reads):
                words = f"{title}: a tool has a fixed one; the model gives values, and never where they go."
                found.append(LineProblem(line.id, words, place=place))
            elif place[0] in spec.within_base and text.strip().startswith(("http://", "https://")):
                words = f"{title}: a tool stays on the service’s own host; write what follows its address."
                found.append(LineProblem(line.id, words, place=place))
    return found


def _destinations(workflow: Workflow, kinds: Kinds) -> Iterator[LineProblem]:
    """Lines among destinations that let nothing out."""
    for line, within, _ in workflow.walk():
        holder = within[-1] if within else None
        if not isinstance(holder, Line) or not isinstance(_plan(holder, kinds), DestinationsPlan):
            continue
        spec = kinds.get(line.kind)
        if spec is not None and not isinstance(spec, SendSpec):
            yield LineProblem(line.id, f"“{spec.title}” is no destination: only lines that publish stand here. Move it out.")


def _without_places(workflow: Workflow, kinds: Kinds, world: World) -> Iterator[LineProblem]:
    """Lines whose pieces go at the next free place of a channel that has none."""
    for line in workflow.every_step:
        spec, plan = kinds.get(line.kind), _plan(line, kinds)
        if spec is None or not isinstance(plan, SendPlan) or plan.goes != "place":
            continue
        for _, key in points_at(spec, line.settings, "connection"):
            channel = world.connections.get(key)
            if channel is not None and not channel.timetable:
                words = f"{channel.name} has no timetable, so there is no next free place. Give it one under Connections."
                yield LineProblem(line.id, words, place=("goes",))


def _untold(workflow: Workflow, kinds: Kinds, world: World) -> Iterator[LineProblem]:
    """Lines that ask people who have no account, and tell them of it by nothing."""
    alone = sum(one.kind == "mail" for one in world.connections.values()) == 1
    for line, _, muted in workflow.walk():
        plan = _plan(line, kinds)
        if muted or not isinstance(plan, AskPlan) or plan.mail or plan.room or (plan.outside and alone):
            continue
        for address in addresses(plan.who)[0]:
            if address.casefold() not in world.people:
                words = f"{address} has no account here and is told by nothing. Choose by which mail server, or in which room."
                yield LineProblem(line.id, words, "warning")


def _title(spec: KindSpec[Any], name: str) -> str:
    setting = settings_of(spec.settings).get(name)
    return setting.title if setting is not None else name.replace("_", " ") if name else "Settings"
