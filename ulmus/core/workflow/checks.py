"""What is missing or risky on a page, each finding leading to its line.

Severity: ``error`` keeps the workflow from going live, ``warning`` does not.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from .. import slots
from ..drafting.rules import contradictions
from .file import read_settings
from .kinds import Kinds, KindSpec, field_control, templates_of
from .model import Line, Workflow

BRAND_SCOPE = {"name": "text", "about": "text", "audience": "text", "promise": "text", "voice": "text"}
RUN_SCOPE = {"date": "text", "time": "text", "number": "number"}


@dataclass(frozen=True)
class Known:
    """A connection as the checker needs it: its kind, name, and the longest post it takes (characters)."""

    kind: str
    name: str
    limit: int | None = None


@dataclass(frozen=True)
class World:
    """What exists around the page: connections and sheets by key, and brands."""

    connections: Mapping[str, Known] = field(default_factory=dict)
    sheets: Mapping[str, tuple[str, tuple[str, ...]]] = field(default_factory=dict)
    brands: frozenset[str] = frozenset()


@dataclass(frozen=True)
class LineProblem:
    """A finding on a line; `place` is the setting, `start`/`end` characters in its text where it has a place."""

    step: str
    message: str
    severity: Literal["error", "warning"] = "error"
    place: tuple[str, ...] = ()
    start: int | None = None
    end: int | None = None


def scope_before(workflow: Workflow, kinds: Kinds, step: str) -> dict[str, Any]:
    """The names a line may use: the start, the steps above it, the brand and the run."""
    scope: dict[str, Any] = {}
    for line in workflow.lines:
        if line.id == step:
            break
        if spec := kinds.get(line.kind):
            scope[line.id] = spec.scope()
    scope["run"] = RUN_SCOPE
    if workflow.brand:
        scope["brand"] = BRAND_SCOPE
    return scope


def check(workflow: Workflow, kinds: Kinds, world: World | None = None) -> list[LineProblem]:
    """Everything missing or risky. Without `world`, connections and sheets are not looked for."""
    found: list[LineProblem] = []
    if world and workflow.brand and workflow.brand not in world.brands:
        found.append(LineProblem(workflow.start.id, f"There is no brand “{workflow.brand}” here. Choose one."))
    muted = frozenset(line.id for line in workflow.steps if line.muted)
    for position, line in enumerate(workflow.lines):
        found.extend(_line(workflow, position, line, kinds, world, muted))
    found.extend(_unasked(workflow, kinds))
    return found


def _line(
    workflow: Workflow, position: int, line: Line, kinds: Kinds, world: World | None, muted: frozenset[str]
) -> list[LineProblem]:
    spec = kinds.get(line.kind)
    if spec is None:
        return [LineProblem(line.id, f"This Ulmus does not know the kind “{line.kind}”.")]
    if (spec.manner == "start") != (position == 0):
        where = "start can only stand at the top" if spec.manner == "start" else "step cannot stand as the start"
        return [LineProblem(line.id, f"“{spec.title}”: a {where}.")]
    found = []
    settings, wrong = read_settings(spec.settings, line.settings)
    found += [LineProblem(line.id, f"{_title(spec, name)}: {words}", place=(name,)) for name, words in wrong]
    scope = scope_before(workflow, kinds, line.id)
    for place, text in templates_of(spec, line.settings):
        for p in slots.check(slots.parse(text), scope, muted):
            found.append(LineProblem(line.id, p.message, p.severity, place, p.start, p.end))
    if settings is not None:
        found += _references(workflow, position, line, spec, settings, kinds, world)
        for words in contradictions(getattr(settings, "rules", [])):
            found.append(LineProblem(line.id, words, place=("rules",)))
    return found


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
            for column in getattr(settings, "cells", {}):
                if column not in columns:
                    message = f"The sheet “{title}” has no column “{column}”."
                    found.append(LineProblem(line.id, message, place=("cells", column)))
    return found


def _too_long_for(workflow: Workflow, kinds: Kinds, line: Line, settings: Any, known: Any) -> list[LineProblem]:
    roots = {s.path.root for _, text in templates_of(kinds[line.kind], line.settings) for s in slots.parse(text).slots}
    found = []
    for draft in workflow.steps:
        if draft.id not in roots or "rules" not in getattr(kinds.get(draft.kind), "settings", type(settings)).model_fields:
            continue
        limits = [r.get("most") for r in draft.settings.get("rules", []) if isinstance(r, dict) and r.get("rule") == "length"]
        if not limits or not all(isinstance(m, int) and m <= (known.limit or 0) for m in limits):
            message = f"“{known.name}” takes at most {known.limit} characters; no rule keeps the draft within that."
            found.append(LineProblem(draft.id, message, "warning", ("rules",)))
    return found


def _unasked(workflow: Workflow, kinds: Kinds) -> list[LineProblem]:
    asked = False
    for line in workflow.steps:
        manner = getattr(kinds.get(line.kind), "manner", "")
        asked = asked or (manner == "ask" and not line.muted)
        if manner == "send" and not asked and not line.muted:
            return [LineProblem(line.id, "This goes out with nobody asked.", "warning")]
    return []


def _title(spec: KindSpec, name: str) -> str:
    info = spec.settings.model_fields.get(name)
    return (info.title if info and info.title else name.replace("_", " ")) if name else "Settings"
