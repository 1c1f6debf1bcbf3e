"""Comparing two versions of a page on the same items, samples and what runs of late began with, with nothing going out.

Both are carried out in rehearsal (see `proofing`); what was made before for the same settings and values is not made, or paid for, again.
The last comparison of each workflow is kept for as long as the house runs.
"""

from __future__ import annotations

import itertools
import logging
import threading
from collections.abc import Sequence
from contextvars import copy_context
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.drafting import best_round
from ..core.drafting.prompts import PROMPT, material_of
from ..core.drafting.trials import LineTrial, Outcome, Pair, counted, failed_tests
from ..core.evidence import evidence
from ..core.workflow import Line, Workflow
from ..core.workflow.kinds import BlockSpec
from ..core.workflow.plans import DraftPlan
from ..steps import kinds
from ..store import tables
from .executors import Executor
from .proofing import Column, Proofs, broken_musts
from .services import Services

log = logging.getLogger("ulmus")
MOST_ITEMS = 60
_FIRST = "SELECT event FROM journal WHERE run_id = ? ORDER BY seq LIMIT 1"
DAY = 86_400.0


@dataclass(frozen=True)
class Item:
    """Something a page is carried out for: what it is called, the item, and when it came."""

    label: str
    item: dict[str, Any]
    at: float


@dataclass
class Comparison:
    """A comparison under way or done: of how many items, how many are done, and the pairs of drafts so far."""

    before: str
    after: str
    of: int
    done: int = 0
    pairs: list[Pair] = field(default_factory=list)
    failed: list[str] = field(default_factory=list)
    stop: threading.Event = field(default_factory=threading.Event)
    order: dict[str, int] = field(default_factory=dict)
    with_tests: frozenset[str] = frozenset()

    @property
    def lines(self) -> list[LineTrial]:
        """What it came to, by line."""
        return counted(self.pairs)


def items_of(session: Session, workflow_id: int, samples: bool, days: float, now: float, most: int = MOST_ITEMS) -> list[Item]:
    """The samples of a workflow, and what its runs of the last days began with, each thing once; the newest first."""
    found: list[Item] = []
    if samples:
        kept = select(tables.Sample).where(tables.Sample.workflow_id == workflow_id, tables.Sample.shown)
        found += [
            Item(s.label, s.item, s.created_at) for s in session.scalars(kept.order_by(tables.Sample.place, tables.Sample.id))
        ]
    if days > 0:
        run = tables.Run
        late = select(run.id, run.title, run.started_at).where(run.workflow_id == workflow_id, run.started_at >= now - days * DAY)
        for number, title, began in session.execute(late.order_by(run.started_at.desc()).limit(most)).all():
            text = session.connection().exec_driver_sql(_FIRST, (number,)).scalar()
            first = flow.read_event(text) if text else None
            if isinstance(first, flow.Begun) and all(first.item != one.item for one in found):
                found.append(Item(title, dict(first.item), began))
    return found[:most]


class Comparisons:
    """Carries comparisons out. Thread-safe."""

    def __init__(self, services: Services, proofs: Proofs, executor: Executor) -> None:
        self.services, self.proofs, self.executor = services, proofs, executor
        self._kept: dict[int, Comparison] = {}
        self._lock = threading.Lock()
        self._numbers = itertools.count(1)

    def of(self, workflow_id: int) -> Comparison | None:
        """The last comparison of a workflow."""
        with self._lock:
            return self._kept.get(workflow_id)

    def begin(
        self, workflow_id: int, before: tuple[str, Workflow], after: tuple[str, Workflow], items: Sequence[Item]
    ) -> Comparison:
        """Begin one, in place of the last; each version has a name in words."""
        order = {line.id: n for n, line in enumerate(after[1].every_step)}
        plans = {line.id: _plan(line) for line in after[1].every_step}
        with_tests = frozenset(step for step, plan in plans.items() if isinstance(plan, DraftPlan) and plan.tests)
        made = Comparison(before[0], after[0], len(items), order=order, with_tests=with_tests)
        with self._lock:
            if (last := self._kept.get(workflow_id)) is not None:
                last.stop.set()
            self._kept[workflow_id] = made
        for item in items:
            self.executor.submit(copy_context().run, self._one, workflow_id, made, before[1], after[1], item)
        return made

    def stop(self, workflow_id: int) -> None:
        """Stop the one under way; what it has so far stays."""
        if (made := self.of(workflow_id)) is not None:
            made.stop.set()

    def _one(self, workflow_id: int, made: Comparison, before: Workflow, after: Workflow, item: Item) -> None:
        try:
            if made.stop.is_set():
                return
            pairs = pairs_of(item.label, *(self._outcomes(workflow_id, page, item, made.stop) for page in (before, after)))
            with self._lock:
                if not made.stop.is_set():
                    made.pairs += pairs
                    made.pairs.sort(key=lambda pair: made.order.get(pair.step, -1))
        except Exception:
            log.exception("a comparison met a fault")
            made.failed.append(item.label)
        finally:
            with self._lock:
                made.done += 1
            self.services.bus.publish("comparison", workflow=workflow_id, done=made.done, of=made.of)

    def _outcomes(self, workflow_id: int, page: Workflow, item: Item, stop: threading.Event) -> dict[tuple[str, str], Outcome]:
        # A sample that is nowhere kept; what is made for it is, by what it depends on.
        sample = tables.Sample(
            id=-next(self._numbers), workflow_id=workflow_id, label=item.label, item=item.item, created_at=item.at, shown=True
        )
        column = self.proofs.carry_out(workflow_id, page, sample, stop)
        return outcomes(page, column, item.label)


def pairs_of(item: str, before: dict[tuple[str, str], Outcome], after: dict[tuple[str, str], Outcome]) -> list[Pair]:
    """The drafts of an item in pairs. Where one version has none at a place, that is said of it."""
    missing = Outcome(failed="no draft was made here")
    places = [*after, *(place for place in before if place not in after)]
    steps = {step for step, _ in before} & {step for step, _ in after}
    return [
        Pair(item, step, place, before.get((step, place), missing), after.get((step, place), missing))
        for step, place in places
        if step in steps
    ]


def outcomes(page: Workflow, column: Column, item: str) -> dict[tuple[str, str], Outcome]:
    """What came of every draft of a page for an item, by its line and its place."""
    drafts = {line.id: plan for line in page.every_step if isinstance(plan := _plan(line), DraftPlan)}
    out: dict[tuple[str, str], Outcome] = {}
    for line in page.steps:
        cell = column.cells.get(line.id)
        if cell is None or cell.result is None or cell.state not in ("fresh", "failed"):
            continue
        made = cell.result
        if isinstance(kinds().get(line.kind), BlockSpec):
            for address, record in made.detail.get("places", {}).items():
                if (plan := drafts.get(flow.Address.parse(address).step)) is not None:
                    out[flow.Address.parse(address).step, address] = outcome(plan, record, item, column.values)
        elif (plan := drafts.get(line.id)) is not None:
            record = {"ok": made.ok, "output": made.output, "detail": made.detail, "usage": made.usage}
            out[line.id, ""] = outcome(plan, record, item, column.values)
    return out


def _plan(line: Line) -> Any:
    kind = kinds().get(line.kind)
    return kind.plan_of(line.settings) if kind is not None else None


def outcome(plan: DraftPlan, made: dict[str, Any], item: str, values: dict[str, Any]) -> Outcome:
    """What came of one draft, as it was kept: whether it could be made, output, detail and usage."""
    output, detail, usage = made.get("output") or {}, made.get("detail") or {}, made.get("usage") or {}
    calls, cost = int(usage.get("calls", 0)), float(usage.get("cost", 0.0))
    if not made.get("ok"):
        text = str(best_round(detail).get("text", ""))
        return Outcome(text, str(output.get("message", "")) or "it failed", tuple(broken_musts(detail)), calls=calls, cost=cost)
    text = str(output.get("text", ""))
    sources = material_of(detail.get("messages") or [])
    flagged = evidence(text, sources).flagged if set(sources) - {PROMPT} else []
    unsourced = tuple(one.text[:200] for one in flagged if one.level != "doubtful")
    return Outcome(text, "", tuple(broken_musts(detail)), failed_tests(plan.tests, item, output, values), unsourced, calls, cost)
