"""Carrying out one line: settings filled in, the kind's function called. Used live and in proofs."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache, partial
from typing import Any, TypeVar, cast

from pydantic import BaseModel

from ..core import flow, pieces, slots
from ..core.drafting import Known, assemble, broken, measure
from ..core.drafting.prompts import material_of
from ..core.drafting.rules import BRAND, Rule, of_brand
from ..core.rows import Change
from ..core.values import NotPlain, plain_object
from ..core.workflow import KindSpec, Line, Workflow, World, points_at, read_settings, sentence, settings_of, templates_of
from ..core.workflow.controls import ConnectionKey
from ..core.workflow.kinds import AskSpec, S, SendSpec, StepSpec, with_texts
from ..core.workflow.plans import (
    AnyPlan,
    AskPlan,
    AssignmentPlan,
    CallPlan,
    ClockPlan,
    ComputePlan,
    DraftPlan,
    EachPlan,
    PerformPlan,
)
from ..protocols.errors import Misconfigured, NothingToDo, OutsideError, TooLarge
from ..protocols.languages import language_of
from ..steps import connection_kinds, kinds
from ..steps.api import (
    Assigns,
    Calls,
    Changes,
    Computes,
    Connection,
    Context,
    Drafts,
    Jobs,
    Mails,
    Outgoing,
    Performs,
    Progress,
    Result,
    Sends,
    StepFailed,
    Tool,
    Writes,
)

T = TypeVar("T")
log = logging.getLogger("ulmus")
MOST_READ = 512
KEPT = "kept"
"""Where a line's memory holds the last result of a job, for proofs to go on with."""


class Same:
    """A line as a key: lines never change, so that what was made of this very one still holds."""

    __slots__ = ("line",)

    def __init__(self, line: Line) -> None:
        self.line = line

    def __hash__(self) -> int:
        return id(self.line)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and other.line is self.line


@lru_cache(MOST_READ)
def _read(same: Same) -> tuple[BaseModel | None, str]:
    settings, wrong = read_settings(kinds()[same.line.kind].settings, same.line.settings)
    return settings, " ".join(words for _, words in wrong)


def read(line: Line) -> BaseModel:
    """The line's settings as its kind's model. Raises `OutsideError` where they cannot be read."""
    settings, wrong = _read(Same(line))
    if settings is None:
        raise Misconfigured(f"This line is not set up: {wrong}")
    return settings


@lru_cache(MOST_READ)
def _plan(same: Same) -> AnyPlan:
    return kinds()[same.line.kind].plan_of(same.line.settings)


def asks(line: Line) -> tuple[str, ...]:
    """The connections a line asks for answers when it is carried out, by key; none for one that sends, writes or arranges."""
    kind = kinds().get(line.kind)
    if not isinstance(kind, Performs | Drafts | Assigns):
        return ()
    return tuple(key for _, key in points_at(kind, line.settings, "connection") if key)[:1]


def plan_of(line: Line) -> AnyPlan:
    """How a line is carried out, or listened to. Raises `KeyError` where its kind is not here."""
    return _plan(Same(line))


def zone_of_page(workflow: Workflow) -> str:
    """The time zone that times on a page are in (IANA); empty: the server's."""
    try:
        plan = plan_of(workflow.start)
    except KeyError:
        return workflow.zone
    return workflow.zone or (plan.zone if isinstance(plan, ClockPlan) else "")


def filled(kind: KindSpec[S], line: Line, values: Mapping[str, Any]) -> S:
    """The line's settings with its texts filled in. Raises `OutsideError` where they cannot be read."""
    settings = cast(S, read(line))
    return with_texts(kind, settings, lambda text: slots.render(slots.parse(text), values).text)


def perform(line: Line, context: Context) -> Result:
    """Carry out a line that gathers, drafts or thinks."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Performs | Drafts | Assigns)
    if isinstance(kind, Assigns):
        context = replace(context, tools=tools_of(line, context))
    gave = guarded(lambda: kind.perform(filled(kind, line, context.values), context))
    try:
        return replace(gave, output=kept(gave.output), detail=kept(gave.detail))
    except OutsideError as error:
        # What it cost is known, though what it gave cannot be kept.
        raise StepFailed(error, gave.usage) from None


def kept(value: Any) -> dict[str, Any]:
    """What a kind gave, as values the house can keep. Raises `OutsideError` where it cannot."""
    try:
        return plain_object(value)
    except NotPlain as error:
        raise OutsideError(f"What this line gave cannot be kept: {error}.") from None


def tools_of(line: Line, context: Context) -> tuple[Tool, ...]:
    """The lines inside an assignment as tools: what the model is to give is what their slots take from ``given``, or what the kind
    says. Raises `OutsideError` where a kind has to ask for that and is not told."""
    known, out = kinds(), []
    for inner in line.steps:
        kind = known.get(inner.kind)
        if not isinstance(kind, StepSpec) or inner.muted or not kind.can_be_a_tool:
            continue
        if isinstance(kind, Sends | Calls) and (told := guarded(partial(kind.as_tool, read(inner), context, inner.id))):
            out.append(told)
            continue
        wanted: dict[str, str] = {}
        for place, text in templates_of(kind, inner.settings):
            for path in slots.parse(text).reads:
                if path.root == flow.GIVEN and len(path.parts) > 1:
                    title = settings_of(kind.settings)[place[0]].title
                    wanted.setdefault(str(path.parts[1]), title if len(place) == 1 else place[-1])
        does = "".join(part.text for part in sentence(inner, kind, World()))
        out.append(Tool(inner.id, f"{does}. {kind.about}", tuple(wanted.items())))
    return tuple(out)


def piece(line: Line, context: Context, refusing: bool = True) -> Outgoing:
    """What a publishing line would send. `refusing`: what its channel would not take is none, which raises `TooLarge`."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Sends | Mails | Jobs)
    settings = filled(kind, line, context.values)
    outgoing = guarded(lambda: kind.piece(settings, context))
    outgoing = replace(outgoing, content=kept(outgoing.content))
    if refusing and (wrong := refusals_of(line, outgoing, context)):
        raise TooLarge(" ".join(wrong))
    return outgoing


PIECES = "pieces"
"""Where the output of a question holds what was changed of the pieces it let out, by their lines."""


def changed(line: Line, outgoing: Outgoing, change: Mapping[str, Any]) -> Outgoing:
    """A piece as a person changed it when they approved it. Raises `NothingToDo` where that cannot be."""
    kind = kinds()[line.kind]
    assert isinstance(kind, SendSpec)
    try:
        return replace(outgoing, content=kept(pieces.changed(kind.form, outgoing.content, change))) if change else outgoing
    except ValueError as error:
        raise NothingToDo(str(error)) from None


def change_of(workflow: Workflow, scope: Mapping[str, Any], step: str) -> Mapping[str, Any]:
    """What was changed of a line's piece when it was approved. Only what a question gave is believed: values from outside may be
    called anything."""
    found: Mapping[str, Any] = {}
    for line in workflow.every_step:
        given = scope.get(line.id) if isinstance(kinds().get(line.kind), AskSpec) else None
        told = given.get(PIECES) if isinstance(given, Mapping) else None
        if isinstance(told, Mapping) and isinstance(told.get(step), Mapping):
            found = told[step]
    return found


def refusals_of(line: Line, outgoing: Outgoing, context: Context) -> list[str]:
    """What of a piece its channel would not take, in words."""
    kind = kinds()[line.kind]
    assert isinstance(kind, SendSpec)
    piece = pieces.read(kind.form, outgoing.content)
    for setting in settings_of(kind.settings).values():
        if isinstance(setting.control, ConnectionKey) and line.settings.get(setting.name) == outgoing.connection:
            connection = context.connect(outgoing.connection, setting.needs)
            return pieces.refusals(piece, connection_kinds()[connection.kind].takes(connection.settings), connection.name)
    return []


def played(line: Line, content: dict[str, Any], context: Context) -> dict[str, Any]:
    """What a publishing line gives in proofs, whose piece has this content."""
    kind = kinds()[line.kind]
    if isinstance(kind, Sends):
        return kept(guarded(lambda: kind.foretold(content)))
    if isinstance(kind, Mails):
        return kept(guarded(lambda: kind.told(content, {"sent": content.get("readers", 0)})))
    assert isinstance(kind, Jobs)
    return content | kept(guarded(lambda: kind.plays(filled(kind, line, context.values), context.kept.get(line.id, {}))))


def follow(line: Line, context: Context, connection: Connection, receipt: dict[str, Any], seconds: float) -> Progress:
    """How a job that was taken `seconds` ago gets on."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Jobs)
    settings = read(line)
    progress = guarded(lambda: kind.follow(context.web, connection, settings, receipt, seconds))
    return progress if progress.output is None else replace(progress, output=kept(progress.output))


def rules_of(line: Line, values: Mapping[str, Any]) -> Sequence[Rule]:
    """The rules of a draft's line with their texts filled in, and those of its brand; none where its settings cannot be read."""
    kind = kinds()[line.kind]
    settings, _ = read_settings(kind.settings, line.settings)
    if settings is None or not isinstance(kind, Drafts):
        return ()
    filled_in = with_texts(kind, settings, lambda text: slots.render(slots.parse(text), values).text, as_written=True)
    plan = kind.plan(filled_in)
    return (*plan.rules, *of_brand(values.get(BRAND), plan.whole))


def known_of(line: Line, values: Mapping[str, Any], text: str, outside: frozenset[str], known: Known) -> Known:
    """What is known besides where `text` is measured as the draft of a line: its fields, where it is what they say, what the model
    was told, and what it was given to write from."""
    given = values.get(line.id)
    fields = given if isinstance(given, dict) and given.get("text") == text else None
    plan = kinds()[line.kind].plan_of(line.settings)
    instruction = plan.instruction if isinstance(plan, DraftPlan) else ""
    sources = material_of(assemble("", instruction, values, outside, rules_of(line, values)).messages) if instruction else None
    return replace(known, values=fields, instruction=instruction, sources=sources)


def broken_rules(line: Line | None, values: Mapping[str, Any], text: str, outside: frozenset[str] = frozenset()) -> tuple[str, ...]:
    """The must-rules of a draft that `text` breaks, in words. No link is tried."""
    if line is None:
        return ()
    known = known_of(line, values, text, outside, Known(language_of=language_of))
    return tuple(finding.says for finding in broken(measure(text, rules_of(line, values), known)))


def change(line: Line, context: Context) -> Change:
    """What a recording line would do to a sheet."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Writes | Changes)
    settings = filled(kind, line, context.values)
    if isinstance(kind, Changes):
        wanted = guarded(lambda: kind.change(settings, context))
        rows = tuple(_texts(cells) for cells in wanted.rows)
        puts = {str(column): replace(one, text=str(kept({"": one.text})[""])) for column, one in wanted.cells.items()}
        return replace(wanted, sheet=str(wanted.sheet), rows=rows, cells=puts)
    sheet, cells = guarded(lambda: kind.row(settings, context))
    return Change(str(sheet), rows=(_texts(cells),))


def _texts(cells: Mapping[str, Any]) -> dict[str, str]:
    """Cells as texts the house can keep. Raises `OutsideError` where one cannot be."""
    return {column: str(value) for column, value in kept(dict(cells)).items()}


def call(line: Line, values: Mapping[str, Any]) -> CallPlan:
    """Which workflow a line runs, with what values. Raises `OutsideError` where it is not set up."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Calls)
    plan = kind.plan(filled(kind, line, values))
    # As a tool that says nothing of what it begins with, it begins with what the model gives.
    return replace(plan, item=plain_object(dict(plan.item or values.get(flow.GIVEN) or {})))


def guarded(call: Callable[[], T]) -> T:
    """Call; a fault of our own becomes an `OutsideError` in plain words, and is logged in full.

    It is ambiguous: where something was being sent, the other side may have it already.
    """
    try:
        return call()
    except (OutsideError, NotPlain):
        raise
    except Exception as error:
        log.exception("a step failed in a way it should not")
        raise OutsideError(f"Ulmus made a mistake here ({type(error).__name__}); it has been logged.", ambiguous=True) from error


def work(line: Line, values: Mapping[str, Any], memory: dict[str, Any], seed: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """What a line that only works values out gives, and what it remembers."""
    kind = kinds()[line.kind]
    assert isinstance(kind, Computes)
    settings = read(line)
    output, after = guarded(lambda: kind.work(settings, values, memory, seed))
    return kept(output), kept(after)


def effect_key(house: str, run_id: int, address: str, generation: int) -> str:
    """The idempotency key of an effect: the same for every try at the same place of the same run of the same house, and of
    no other (`house` is its random identity)."""
    return hashlib.sha256(f"{house}/{run_id}/{address}/{generation}".encode()).hexdigest()[:40]


def loops_of(workflow: Workflow) -> frozenset[str]:
    """The blocks that carry out what is in them for each of several items."""
    steps = (placed.line for placed in workflow.walk() if placed.line.kind in kinds())
    return frozenset(line.id for line in steps if isinstance(plan_of(line), EachPlan))


def lot(run_id: int, address: str, loops: Collection[str]) -> str:
    """What a draft's take is drawn by: its run and its items, so that every round of it is written by the same take."""
    items = [f"{step}:{n}" for step, n in flow.Address.parse(address).within if step in loops]
    return "/".join([str(run_id), *items])


def outside_roots(workflow: Workflow) -> frozenset[str]:
    """The names whose values come from outside, or are made of such values: material, and never instruction."""
    known, found = kinds(), set[str]()
    for line in workflow.lines:
        kind = known.get(line.kind)
        if kind is None:
            continue
        from_outside = {path.root for _, text in templates_of(kind, line.settings) for path in slots.parse(text).reads} & found
        inner = any(known[one.kind].gives_outside for one in _inner(line) if one.kind in known)
        plan = kind.plan_of(line.settings)
        if (
            kind.gives_outside
            or (isinstance(plan, PerformPlan | DraftPlan | ComputePlan) and from_outside)
            or (isinstance(plan, AssignmentPlan) and (from_outside or inner))
        ):
            found.add(line.id)
        elif isinstance(plan, EachPlan):
            if from_outside:
                found.add(plan.item)
            if from_outside or inner:
                found.add(line.id)
    return frozenset(found)


def _inner(line: Line) -> list[Line]:
    lines = [*line.steps, *(step for lane in line.lanes for step in lane.steps)]
    return [*lines, *(deeper for one in lines for deeper in _inner(one))]


def asked_about(workflow: Workflow) -> frozenset[str]:
    """The drafts that a person will be shown."""
    lines = (line for line, _, off in workflow.walk() if not off and line.kind in kinds())
    return frozenset(plan.draft for line in lines if isinstance(plan := plan_of(line), AskPlan) and plan.draft)
