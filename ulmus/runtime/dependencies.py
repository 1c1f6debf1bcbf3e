"""What each line of a page depends on, and the key under which its result is kept.

A key is made of everything a result depends on: the kind, the settings, the connection's settings and the values its
slots name. Nothing here is stored or carried out.
"""

from __future__ import annotations

import hashlib
import json
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from ..core import slots
from ..core.drafting.rules import ALWAYS, BRAND, NEVER
from ..core.workflow import Line, Workflow, points_at, read_settings, reading, takes_of
from ..core.workflow.kinds import BlockSpec, DraftSpec
from ..core.workflow.plans import AskPlan, DraftPlan
from ..steps import kinds


def roots_used(line: Line, names: Iterable[str]) -> set[str]:
    """Which of `names` the line depends on: through slots, conditions, or by pointing at a step; a block, through
    everything in it."""
    return {path.root for path in reads(line)} & set(names)


def reads(line: Line) -> set[slots.Path]:
    """Every value from outside itself that a line depends on."""
    return reading.reads(line, kinds())


def roots_read(workflow: Workflow, line: Line) -> frozenset[str]:
    """The roots of every value carrying out a line may need: its own, and where it shows a draft, those of the draft's rules."""
    kind = kinds().get(line.kind)
    if kind is None:
        return frozenset()
    # A line may read itself: what it gave in the round before.
    found = {path.root for one in (line, *takes_of(line, kinds())) for path in reads(one)} | {line.id}
    plan = kind.plan_of(line.settings)
    if isinstance(plan, DraftPlan):
        found.add(BRAND)  # its rules hold for every draft
    if isinstance(plan, AskPlan) and plan.draft:
        draft = workflow.line(plan.draft)
        found |= {BRAND, *(path.root for path in reads(draft))} if draft is not None else set()
    return frozenset(found)


def dependents(workflow: Workflow) -> dict[str, list[str]]:
    """For each line, the lines below whose results follow from it, directly or by way of others.

    A line inside a block follows with its block, which is proofed as a whole; an edit inside touches all of the block.
    """
    outer = outermost(workflow)
    needs: dict[str, set[str]] = {workflow.start.id: set()}
    seen = [workflow.start.id]
    for line in workflow.steps:
        direct = {outer.get(root, root) for root in roots_used(line, [*seen, *outer])} - {line.id}
        needs[line.id] = direct.union(*(needs.get(d, set()) for d in direct)) if direct else set()
        seen.append(line.id)
    blocks: dict[str, list[str]] = defaultdict(list)
    follow: dict[str, list[str]] = defaultdict(list)
    tops = [(line.id, outer.get(line.id, line.id)) for line in workflow.lines]
    for line_id, top in tops:
        blocks[top].append(line_id)
        for need in needs.get(top, ()):
            follow[need].append(line_id)
    inside = {line_id: [other for other in blocks[top] if other != line_id] for line_id, top in tops if line_id in outer}
    return {line_id: inside.get(line_id, []) + follow[top] for line_id, top in tops}


def outermost(workflow: Workflow) -> dict[str, str]:
    """For each line inside a block, the block of the page it stands in."""
    return {p.line.id: p.within[0].id for p in workflow.walk() if p.within}


def names_inside(line: Line) -> list[str]:
    """The lines inside a block, at any depth, and their takes."""
    lines = [*line.steps, *(step for lane in line.lanes for step in lane.steps)]
    return [name for one in lines for name in (one.id, *(t.id for t in takes_of(one, kinds())), *names_inside(one))]


@dataclass(frozen=True)
class Dependencies:
    """What a line stands on, the same for every sample. `prints` are fingerprints of the connections."""

    line: Line
    prints: Mapping[str, str] = field(repr=False)

    @cached_property
    def roots(self) -> frozenset[str]:
        """The names of what it reads."""
        return frozenset(path.root for path in self.reads)

    @cached_property
    def reads(self) -> list[slots.Path]:
        """The values it reads."""
        return sorted(reads(self.line), key=str)

    @cached_property
    def _fixed(self) -> tuple[str, str]:
        """What stands before and after the values in what the key is made of."""
        line, kind = self.line, kinds()[self.line.kind]
        if isinstance(kind, BlockSpec):
            lanes = [lane.model_dump(mode="json") for lane in line.lanes]
            inside = [inner.model_dump(mode="json") for inner in line.steps], lanes
            return _json([kind.name, line.settings, inside])[:-1], _json(sorted(self.prints.items()))
        settings, _ = read_settings(kind.settings, line.settings)
        used = [key for _, key in points_at(kind, line.settings, "connection")]
        dumped = line.settings
        if settings is not None:
            dumped = settings.model_dump(mode="json", exclude=set(kind.not_in_results), exclude_defaults=True)
        return _json([kind.name, dumped])[:-1], _json([self.prints.get(key, "") for key in used])

    def key(self, values: Mapping[str, Any]) -> str:
        """The key of its result where these are the values; empty where its kind is not here."""
        if self.line.kind not in kinds():
            return ""
        used: dict[str, Any] = {}
        for path in self.reads:
            value = slots.look_up(path, values)
            used[str(path)] = None if value is slots.MISSING else value
        if isinstance(kinds()[self.line.kind], DraftSpec):
            brand = values.get(BRAND) or {}
            # Named only where there are such rules, so that results from before there were any still hold.
            used |= {f"{BRAND} {name}": brand[name] for name in (NEVER, ALWAYS) if brand.get(name)}
        before, after = self._fixed
        return hashlib.sha256(f"{before}, {_json(used)}, {after}]".encode()).hexdigest()


def fingerprint(value: Any) -> str:
    """A short name for a value, the same for the same."""
    return hashlib.sha256(_json(value).encode()).hexdigest()


def _json(value: Any) -> str:
    return json.dumps(value, sort_keys=True, ensure_ascii=False, default=str)
