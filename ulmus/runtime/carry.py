"""Carrying out one line: settings filled in, the kind's function called. Used live and in proofs."""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Collection, Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

from pydantic import BaseModel

from ..core import flow, slots
from ..core.drafting import Known, broken, measure
from ..core.values import NotPlain, plain_object
from ..core.workflow import Line, Workflow, World
from ..core.workflow.file import read_settings
from ..core.workflow.kinds import controls_of, map_templates, templates_of
from ..core.workflow.sentences import sentence
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Connection, Context, Kind, Outgoing, Progress, Result, StepFailed, Tool

log = logging.getLogger("ulmus")
AS_WRITTEN = frozenset({"longslots", "value", "longvalue"})
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
        raise OutsideError(f"This line is not set up: {wrong}")
    return settings


def filled(kind: Kind, line: Line, values: Mapping[str, Any]) -> BaseModel:
    """The line's settings with its texts filled in. Raises `OutsideError` where they cannot be read."""
    controls = controls_of(kind.settings)

    def fill(name: str, text: str) -> str:
        return text if controls[name] in AS_WRITTEN else slots.render(slots.parse(text), values).text

    return map_templates(kind, read(line), fill)


def perform(line: Line, context: Context) -> Result:
    """Carry out a line that gathers or drafts."""
    kind = kinds()[line.kind]
    assert kind.perform is not None
    if kind.manner == "assign":
        context = replace(context, tools=tools_of(line))
    gave: Result = guarded(lambda: kind.perform(filled(kind, line, context.values), context))  # type: ignore[misc]
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


def tools_of(line: Line) -> tuple[Tool, ...]:
    """The lines inside an assignment as tools: what the model is to give is what their slots take from ``given``."""
    known, out = kinds(), []
    for inner in line.steps:
        kind = known.get(inner.kind)
        if kind is None or inner.muted or not kind.can_be_a_tool:
            continue
        wanted: dict[str, str] = {}
        for place, text in templates_of(kind, inner.settings):
            for path in slots.parse(text).reads:
                if path.root == flow.GIVEN and len(path.parts) > 1:
                    title = kind.settings.model_fields[place[0]].title or place[0]
                    wanted.setdefault(str(path.parts[1]), title if len(place) == 1 else place[-1])
        does = "".join(part.text for part in sentence(inner, kind, World()))
        out.append(Tool(inner.id, f"{does}. {kind.about}", tuple(wanted.items())))
    return tuple(out)


def piece(line: Line, context: Context) -> Outgoing:
    """What a publishing line would send."""
    kind = kinds()[line.kind]
    assert kind.piece is not None
    outgoing: Outgoing = guarded(lambda: kind.piece(filled(kind, line, context.values), context))  # type: ignore[misc]
    return replace(outgoing, content=kept(outgoing.content))


def follow(line: Line, context: Context, connection: Connection, receipt: dict[str, Any], seconds: float) -> Progress:
    """How a job that was taken `seconds` ago gets on."""
    kind = kinds()[line.kind]
    assert kind.follow is not None
    settings = read(line)
    progress: Progress = guarded(lambda: kind.follow(context.web, connection, settings, receipt, seconds))  # type: ignore[misc]
    return progress if progress.output is None else replace(progress, output=kept(progress.output))


def rules_of(line: Line, values: Mapping[str, Any]) -> Any:
    """The rules of a draft's line with their texts filled in; none where its settings cannot be read."""
    kind = kinds()[line.kind]
    settings, _ = read_settings(kind.settings, line.settings)
    if settings is None:
        return []
    done = map_templates(kind, settings, lambda _, text: slots.render(slots.parse(text), values).text)
    return getattr(done, "rules", [])


def broken_rules(line: Line | None, values: Mapping[str, Any], text: str) -> tuple[str, ...]:
    """The must-rules of a draft that `text` breaks, in words. No link is tried."""
    if line is None:
        return ()
    given = values.get(line.id)
    known = Known(values=given if isinstance(given, dict) and given.get("text") == text else None)
    return tuple(finding.says for finding in broken(measure(text, rules_of(line, values), known)))


def row(line: Line, context: Context) -> tuple[str, dict[str, Any]]:
    """What a recording line would write: the sheet's key and the cells."""
    kind = kinds()[line.kind]
    assert kind.row is not None
    sheet, cells = guarded(lambda: kind.row(filled(kind, line, context.values), context))  # type: ignore[misc]
    return str(sheet), kept(cells)


def guarded(call: Any) -> Any:
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
    assert kind.work is not None
    settings = read(line)
    output, after = guarded(lambda: kind.work(settings, values, memory, seed))  # type: ignore[misc]
    return kept(output), kept(after)


def effect_key(house: str, run_id: int, address: str, generation: int) -> str:
    """The idempotency key of an effect: the same for every try at the same place of the same run of the same house, and of
    no other (`house` is its random identity)."""
    return hashlib.sha256(f"{house}/{run_id}/{address}/{generation}".encode()).hexdigest()[:40]


def loops_of(workflow: Workflow) -> frozenset[str]:
    """The blocks that carry out what is in them for each of several items."""
    return frozenset(p.line.id for p in workflow.walk() if p.line.kind in kinds() and kinds()[p.line.kind].manner == "each")


def shares(line: Line) -> bool:
    """Whether live runs are shared between the takes of a line."""
    return bool(line.settings.get("shared") and line.settings.get("takes"))


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
        if (
            kind.gives_outside
            or (kind.manner in ("set", "perform") and from_outside)
            or (kind.manner == "assign" and (from_outside or inner))
        ):
            found.add(line.id)
        elif kind.manner == "each":
            if from_outside:
                found.add(str(line.settings.get("item", "item")))
            if from_outside or inner:
                found.add(line.id)
    return frozenset(found)


def _inner(line: Line) -> list[Line]:
    inside = [*line.steps, *(step for lane in line.lanes for step in lane.steps)]
    return [*inside, *(deeper for one in inside for deeper in _inner(one))]


def asked_about(workflow: Workflow) -> frozenset[str]:
    """The drafts that a person will be shown."""
    known = kinds()
    asking = (line for line, _, off in workflow.walk() if not off and line.kind in known and known[line.kind].shows_a_draft)
    return frozenset(str(line.settings.get("draft", "")) for line in asking)
