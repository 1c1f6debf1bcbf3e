"""Proofs: the page carried out on samples, with nothing leaving the house.

A result is kept under a key made of everything it depends on (see `dependencies`). So an edit makes out of date exactly what it touches, and undoing it makes it
fresh again. Only the lines that gather and draft are performed; publishing and writing are answered here with
what they would have done, and the functions that send are never called.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Collection, Iterable, Mapping
from contextlib import suppress
from contextvars import copy_context
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any, Literal

from sqlalchemy import select

from ..core.cost import Usage
from ..core.drafting import best_round
from ..core.flow import GIVEN
from ..core.workflow import Line, Workflow, takes_of
from ..core.workflow.kinds import BlockSpec
from ..core.workflow.plans import AssignmentPlan, EachPlan
from ..core.workflow.takes import MARK
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Context, StepFailed
from ..store import tables
from . import execution
from .dependencies import Dependencies, fingerprint, names_inside, outermost, roots_used
from .executors import Executor
from .handlers import Handlers, items
from .quotas import Uses
from .rehearsal import Rehearsal
from .services import Services, brand_values, run_values
from .underway import Inside, UnderWay
from .workspace import workspace

log = logging.getLogger("ulmus")
FAULT = "Ulmus made a mistake with this line; it has been logged. Look its settings through, or run it again."
CellState = Literal["empty", "stale", "running", "fresh", "failed", "muted", "passed"]


@dataclass
class Cell:
    """One cell: its state, the result last shown (which may be out of date), and, where known, its present key. While a
    block is made, the cells of its lines have how many of their carryings-out are done and at work. `stops` says that a run
    would stop here, or further up: a must-rule is broken, and nobody is asked."""

    step: str
    sample: int
    state: CellState
    key: str = ""
    result: tables.Proof | None = None
    partial: str = ""
    done: int = 0
    at_work: int = 0
    stops: Literal["", "here", "before"] = ""


@dataclass
class Column:
    """A sample's column, walked from the top: the cells and the values up to where they are fresh.

    `absent` are steps inside blocks that did not run for this sample, and will have no value; `ended` is whether the
    page ended the run further up.
    """

    cells: dict[str, Cell] = field(default_factory=dict)
    values: dict[str, Any] = field(default_factory=dict)
    absent: set[str] = field(default_factory=set)
    ended: bool = False
    stopped: bool = False


@dataclass
class _Known:
    """What stands around the columns of a page: the proofs shown last, the brand's values, fingerprints of connections,
    all names on the page and those of muted lines."""

    last: dict[tuple[int, str], tables.Proof]
    brand: dict[str, Any]
    prints: Mapping[str, str]
    names: set[str]
    quiet: set[str]
    unasked: set[str]
    footings: dict[str, Dependencies] = field(default_factory=dict)

    def footing(self, line: Line) -> Dependencies:
        """What a line stands on, worked out once for all samples."""
        if line.id not in self.footings:
            self.footings[line.id] = Dependencies(line, self.prints)
        return self.footings[line.id]


def broken_musts(detail: Mapping[str, Any]) -> list[str]:
    """The must-rules that the round of a draft that counts broke, in words."""
    found = best_round(detail).get("findings", [])
    return [str(one["says"]) for one in found if one.get("strength") == "must" and not one.get("kept")]


class Proofs:
    """Keeps and makes proofs. Thread-safe."""

    def __init__(self, services: Services, executor: Executor, handlers: Handlers, uses: Uses) -> None:
        self.services = services
        self.uses = uses
        self.handlers = handlers
        self.executor = executor
        self._running: dict[tuple[int, str], UnderWay] = {}
        self._stop: dict[int, threading.Event] = {}
        self._lock = threading.Lock()

    # -- reading ------------------------------------------------------------------------------------

    def columns(self, workflow: Workflow, samples: Iterable[tables.Sample]) -> dict[int, Column]:
        """The cells of every sample."""
        samples = list(samples)
        known = self._known(workflow, samples)
        out = {}
        for sample in samples:
            column = out[sample.id] = Column(values=_ground(workflow, sample, known.brand))
            for line in workflow.steps:
                self._put(column, line, sample, known)
        return out

    def _known(self, workflow: Workflow, samples: list[tables.Sample]) -> _Known:
        with self.services.store.read() as session:
            rows = session.execute(
                select(tables.ProofCell.sample_id, tables.ProofCell.step, tables.Proof)
                .join(tables.Proof, tables.Proof.key == tables.ProofCell.key)
                .where(tables.ProofCell.sample_id.in_([s.id for s in samples]))
            ).all()
            brand = brand_values(session, workflow.brand)
            prints = {c.key: fingerprint([c.kind, c.settings]) for c in session.scalars(select(tables.Connection))}
        quiet = {placed.line.id for placed in workflow.walk() if placed.muted}
        names = {line.id for line in workflow.lines}
        # A draft nobody is asked about, whose line does not say how else to go on, stops a run where it breaks a must-rule.
        asked = execution.asked_about(workflow)
        unasked = {n.id for n in workflow.every_step if n.id not in asked and n.on_failure.after == "stop"}
        return _Known({(sample, step): proof for sample, step, proof in rows}, brand, prints, names, quiet, unasked)

    def _put(self, column: Column, line: Line, sample: tables.Sample, known: _Known) -> None:
        """Put a line's cell into a column that holds those above it, and add the values it gives where it is fresh."""
        shown = known.last.get((sample.id, line.id))
        cell = Cell(line.id, sample.id, "stale" if shown else "empty", result=shown)
        column.cells[line.id] = cell
        if line.muted or column.ended:
            cell.state, cell.result = ("muted", shown) if line.muted else ("passed", None)
            for inner in names_inside(line):
                column.cells[inner] = Cell(inner, sample.id, cell.state)
            return
        under_way = self._under_way(sample.id, line.id)
        footing = known.footing(line)
        if all(
            root in column.values or root in known.quiet or root in column.absent or root not in known.names
            for root in footing.roots
        ):
            cell.key = footing.key(column.values)
            shown = cell.result = self._shown(cell.key, shown)
            if shown is not None and shown.key == cell.key:
                cell.state = "fresh" if shown.ok else "failed"
                if shown.ok:
                    column.values[line.id] = shown.output
                    column.ended = bool(shown.detail.get("ended"))
                    column.values.update(shown.detail.get("values", {}))
                    column.absent |= {inner for inner in names_inside(line) if inner not in column.values}
        if column.stopped:
            cell.stops = "before"
        elif cell.state == "fresh" and shown is not None and line.id in known.unasked and broken_musts(shown.detail):
            cell.stops, column.stopped = "here", True
        if under_way is not None:
            cell.state, cell.partial = "running", under_way.text
        for take in takes_of(line, kinds()) if cell.key else ():
            column.cells[take.id] = self._take(take, sample, known, column.values)
        for inner in names_inside(line):
            column.cells[inner] = Cell(inner, sample.id, "muted" if inner in known.quiet else cell.state, result=cell.result)
            told = self._under_way(sample.id, inner) if cell.state == "running" else None
            if told is not None:
                column.cells[inner] = replace(column.cells[inner], partial=told.text, done=told.done, at_work=len(told.at))

    def _shown(self, key: str, last: tables.Proof | None) -> tables.Proof | None:
        """The proof under a key, where it was made for whatever sample; else the one shown last."""
        if last is not None and last.key == key:
            return last
        with self.services.store.read() as session:
            return session.get(tables.Proof, key) or last

    def _take(self, take: Line, sample: tables.Sample, known: _Known, values: dict[str, Any]) -> Cell:
        """The cell of another take of a draft; nothing follows from it."""
        shown = known.last.get((sample.id, take.id))
        cell = Cell(take.id, sample.id, "stale" if shown else "empty", known.footing(take).key(values), shown)
        shown = cell.result = self._shown(cell.key, shown)
        if shown is not None and shown.key == cell.key:
            cell.state = "fresh" if shown.ok else "failed"
        under_way = self._under_way(sample.id, take.id)
        if under_way is not None:
            cell.state, cell.partial = "running", under_way.text
        return cell

    def _under_way(self, sample: int, step: str) -> UnderWay | None:
        with self._lock:
            return self._running.get((sample, step))

    # -- making -------------------------------------------------------------------------------------

    def run(self, workflow_id: int, workflow: Workflow, samples: list[tables.Sample], steps: set[str] | None, again: bool) -> None:
        """Make the cells of `steps` (all where ``None``) that are not fresh, with whatever they need first.

        `again` makes them anew although they are fresh. Columns are made side by side.
        """
        with self._lock:
            stop = self._stop.get(workflow_id)
            if stop is None or stop.is_set():
                stop = self._stop[workflow_id] = threading.Event()
        for sample in samples:
            self.executor.submit(copy_context().run, self._make_column, workflow_id, workflow, sample, steps, again, stop)

    def stop(self, workflow_id: int) -> None:
        """Stop what is being made for this workflow."""
        with self._lock:
            if workflow_id in self._stop:
                self._stop[workflow_id].set()

    def carry_out(self, workflow_id: int, workflow: Workflow, sample: tables.Sample, stop: threading.Event) -> Column:
        """Make a whole column here and now, also for a sample that is nowhere kept (its number is negative). What a line gave is
        kept by what it depends on, so that nothing is made twice."""
        known = self._known(workflow, [sample])
        column = Column(values=_ground(workflow, sample, known.brand))
        for line in workflow.steps:
            if stop.is_set():
                break
            self._put(column, line, sample, known)
            cell = column.cells[line.id]
            if cell.state == "passed":
                break
            if cell.state in ("muted", "running", "fresh") or not cell.key:
                continue  # what failed before is tried again: it may have been the outside
            made = self._make(workflow_id, workflow, sample, line, cell.key, column.values, stop)
            if made is None:
                break
            known.last[sample.id, line.id] = made
            self._put(column, line, sample, known)
            if not made.ok:
                break
        return column

    def _make_column(
        self,
        workflow_id: int,
        workflow: Workflow,
        sample: tables.Sample,
        steps: set[str] | None,
        again: bool,
        stop: threading.Event,
    ) -> None:
        try:
            outer = outermost(workflow)
            asked = steps
            steps = None if steps is None else {outer.get(step.split(MARK)[0], step) for step in steps}
            wanted = _with_needs(workflow, steps)
            known = self._known(workflow, [sample])
            column = Column(values=_ground(workflow, sample, known.brand))
            for line, is_take in _with_takes(workflow):
                if stop.is_set():
                    return
                if not is_take:
                    self._put(column, line, sample, known)
                if line.muted or (line.id not in wanted and not (is_take and steps is None)):
                    continue
                cell = column.cells.get(line.id)
                if cell is None:
                    continue
                forced = again and (steps is None or line.id in steps)
                if cell.state == "passed":
                    return
                if cell.state in ("running", "fresh") and not (forced and cell.state == "fresh"):
                    continue
                anew = _asked_inside(line, asked) if forced else set()
                made = self._make(workflow_id, workflow, sample, line, cell.key, column.values, stop, anew) if cell.key else None
                if is_take:
                    continue
                if made is None or not made.ok:
                    return
                known.last[sample.id, line.id] = made
                self._put(column, line, sample, known)
        except Exception:
            log.exception("a proof met a fault")

    def _make(
        self,
        workflow_id: int,
        workflow: Workflow,
        sample: tables.Sample,
        line: Line,
        key: str,
        values: dict[str, Any],
        stop: threading.Event,
        anew: Collection[str] = (),
    ) -> tables.Proof | None:
        """Make a cell and keep it; nothing where it was stopped, or is being made already. `anew` are the lines of a block that
        are carried out again although what they gave is known."""
        place = (sample.id, line.id)
        with self._lock:
            if place in self._running:
                return None
            self._running[place] = UnderWay()
        self._say(workflow_id, place, state="running", text="")

        def progress(text: str) -> None:
            with self._lock:
                self._running[place] = UnderWay(text)
            self._say(workflow_id, place, state="running", text=text)

        inside = Inside(partial(self._tell, workflow_id, sample.id))

        context = Context(
            web=self.services.web,
            connect=self.services.connect,
            values=dict(values),
            outside=execution.outside_roots(workflow),
            asked_later=True,  # a proof is always seen by someone: a broken rule is shown, not a reason to stop
            workspace=workspace(self.services, workflow.brand),
            seed=f"{sample.id}/{line.id}",
            kept=self._kept(workflow_id),
            progress=progress,
            cancelled=stop.is_set,
        )
        try:
            proof = self._result(workflow, line, context, key, anew, inside)
            if stop.is_set():
                return None
            self._keep(sample.id, line.id, proof)
            return proof
        finally:
            over = [place, *((sample.id, step) for step in inside.told)]
            with self._lock:
                for one in over:
                    self._running.pop(one, None)
            for one in over:
                self._say(workflow_id, one, state="made")

    def _kept(self, workflow_id: int) -> dict[str, Any]:
        """What the jobs of a workflow's lines gave last, by line."""
        with self.services.store.read() as session:
            memories = session.scalars(select(tables.StepMemory).where(tables.StepMemory.workflow_id == workflow_id))
            return {memory.step: memory.data[execution.KEPT] for memory in memories if execution.KEPT in memory.data}

    def _tell(self, workflow_id: int, sample: int, step: str, now: UnderWay) -> None:
        """A line inside a block that is being made got on."""
        with self._lock:
            self._running[sample, step] = now
        self._say(workflow_id, (sample, step), state="running", text=now.text, done=now.done, at_work=len(now.at))

    def _result(
        self, workflow: Workflow, line: Line, context: Context, key: str, anew: Collection[str], inside: Inside
    ) -> tables.Proof:
        try:
            if isinstance(kinds()[line.kind], BlockSpec):
                execution.read(line)
                output, detail, usage = self._block(workflow, line, context, anew, inside)
            else:
                output, detail, usage = self._play(line, context, workflow)
            ok = True
        except OutsideError as error:
            ok, output, usage = False, {"message": error.message, "code": error.code}, Usage()
            detail = {}
            if isinstance(error, StepFailed):
                usage, detail = error.usage, error.detail
        except Exception:
            log.exception("a proof met a fault")
            ok, output, detail, usage = False, {"message": FAULT}, {}, Usage()
        return tables.Proof(key=key, ok=ok, output=output, detail=detail, usage=usage.model_dump(), at=self.services.clock())

    def _play(self, line: Line, context: Context, workflow: Workflow) -> tuple[dict[str, Any], dict[str, Any], Usage]:
        """One line in rehearsal, within the quotas of what it asks."""
        asks, usage = execution.asks(line), Usage()
        if words := self.uses.reached(asks):
            raise OutsideError(f"{words} Raise it under Connections, or try again when it is over.")
        try:
            output, detail, usage = self.handlers.play(line, context, workflow)
            return output, detail, usage
        except StepFailed as error:
            usage = error.usage
            raise
        finally:
            self.uses.note(asks, usage)

    def _block(
        self, workflow: Workflow, line: Line, context: Context, anew: Collection[str], inside: Inside
    ) -> tuple[dict[str, Any], dict[str, Any], Usage]:
        """A block carried out in rehearsal. What was made before for the same settings and values is not made again, but for
        the lines in `anew`."""
        with self.services.store.read() as session:
            prints = {c.key: fingerprint([c.kind, c.settings]) for c in session.scalars(select(tables.Connection))}

        def one(address: str, inner: Line, values: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any], Usage]:
            key = Dependencies(inner, prints).key(values)
            with self.services.store.read() as session:
                kept = session.get(tables.Proof, key)
            if kept is not None and kept.ok and inner.id not in anew:
                inside.known(inner.id)
                return kept.output, kept.detail, Usage()
            with inside.at_work(inner.id, address) as progress:
                here = replace(context, values=dict(values), progress=progress)
                output, detail, usage = self._play(inner, here, workflow)
            with self.services.store.write() as session:
                now = self.services.clock()
                session.merge(tables.Proof(key=key, ok=True, output=output, detail=detail, usage=usage.model_dump(), at=now))
            return output, detail, usage

        return Rehearsal(self.handlers, workflow, line, context, one, self.services.clock()).carry_out()

    def _keep(self, sample_id: int, step: str, proof: tables.Proof) -> None:
        with self.services.store.write() as session:
            if sample_id > 0 and session.get(tables.Sample, sample_id) is None:
                return
            session.merge(proof)
            if sample_id > 0:
                session.merge(tables.ProofCell(sample_id=sample_id, step=step, key=proof.key))

    def _say(self, workflow_id: int, place: tuple[int, str], **what: Any) -> None:
        if place[0] > 0:
            self.services.bus.publish("proof", workflow=workflow_id, sample=place[0], step=place[1], **what)


def values_at(workflow: Workflow, column: Column, step: str) -> dict[str, Any]:
    """The values a line can name in a sample's column; inside a *for each*, those of its first item."""
    values = dict(column.values)
    placed = next((p for p in workflow.walk() if p.line.id == step), None)
    if placed is None or not placed.within:
        return values
    cell = column.cells.get(placed.within[0].id)
    places = cell.result.detail.get("places", {}) if cell is not None and cell.result is not None else {}
    prefix = ""
    for block in placed.within:
        if isinstance(block, Line):
            plan = execution.plan_of(block)
            if isinstance(plan, EachPlan):
                with suppress(OutsideError):
                    found = items(block, values)
                    if found:
                        values[plan.item] = found[0]
            elif isinstance(plan, AssignmentPlan) and cell is not None and cell.result is not None:
                talk = cell.result.detail.get("talk", [])
                values[GIVEN] = next((turn["given"] for turn in talk if turn["tool"] == step), {})
        if isinstance(block, Line):
            prefix += f"{block.id}:"
            inside = [a for a in places if a.startswith(prefix)]
            if not inside:
                break
            prefix = prefix + inside[0][len(prefix) :].split("/")[0] + "/"
            for address, record in places.items():
                if address.startswith(prefix) and "/" not in address[len(prefix) :] and record["ok"]:
                    values.setdefault(address[len(prefix) :].split(":")[0], record["output"])
    return values


def _ground(workflow: Workflow, sample: tables.Sample, brand: dict[str, str]) -> dict[str, Any]:
    # The run's date is the day the sample was kept, so that proofs do not go out of date overnight.
    return {
        workflow.start.id: sample.item,
        "brand": brand,
        "run": run_values(sample.created_at, 1, execution.zone_of_page(workflow)),
    }


def _with_takes(workflow: Workflow) -> list[tuple[Line, bool]]:
    """The page's steps, each followed by its other takes; with whether it is such a take."""
    out = []
    for line in workflow.steps:
        out += [(line, False), *((take, True) for take in takes_of(line, kinds()))]
    return out


def _asked_inside(block: Line, asked: set[str] | None) -> set[str]:
    """Which lines and takes inside a block are asked for: all of them where the block itself is."""
    names = set(names_inside(block))
    return names if asked is None or block.id in asked else names & asked


def _with_needs(workflow: Workflow, steps: set[str] | None) -> set[str]:
    if steps is None:
        return {line.id for line in workflow.steps}
    wanted = set(steps)
    for i in range(len(workflow.steps) - 1, -1, -1):
        line = workflow.steps[i]
        if line.id in wanted or any(take.id in wanted for take in takes_of(line, kinds())):
            outer = outermost(workflow)
            wanted |= {outer.get(root, root) for root in roots_used(line, (n.id for n in workflow.every_step))} - {line.id}
    return wanted
