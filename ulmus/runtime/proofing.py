"""Proofs: the page carried out on samples, with nothing leaving the house.

A result is kept under a key made of everything it depends on: the kind, the settings, the connection's settings
and the values its slots name. So an edit makes out of date exactly what it touches, and undoing it makes it
fresh again. Only the lines that gather and draft are performed; publishing and writing are answered here with
what they would have done, and the functions that send are never called.
"""

from __future__ import annotations

import hashlib
import json
import logging
import threading
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from sqlalchemy import select

from ..core import slots
from ..core.cost import Usage
from ..core.workflow import Line, Workflow, templates_of
from ..core.workflow.file import read_settings
from ..core.workflow.kinds import field_control
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context, StepFailed
from ..store import tables
from . import carry
from .executors import Executor
from .services import Services, brand_values, run_values

log = logging.getLogger("ulmus")
CellState = Literal["empty", "stale", "running", "fresh", "failed", "muted"]
PLAYED_BY = "the editor (played)"


@dataclass
class Cell:
    """One cell: its state, the result last shown (which may be out of date), and, where known, its present key."""

    step: str
    sample: int
    state: CellState
    key: str = ""
    result: tables.Proof | None = None
    partial: str = ""


@dataclass
class Column:
    """A sample's column, walked from the top: the cells and the values up to where they are fresh."""

    cells: dict[str, Cell] = field(default_factory=dict)
    values: dict[str, Any] = field(default_factory=dict)


def roots_used(line: Line, names: Iterable[str]) -> set[str]:
    """Which of `names` the line depends on, through slots or by pointing at a step."""
    kind = kinds().get(line.kind)
    if kind is None:
        return set()
    used = {slot.path.root for _, text in templates_of(kind, line.settings) for slot in slots.parse(text).slots}
    for name, info in kind.settings.model_fields.items():
        if field_control(info).get("control") == "step":
            used.add(str(line.settings.get(name, "")))
    return used & set(names)


def dependents(workflow: Workflow) -> dict[str, list[str]]:
    """For each line, the lines below whose results follow from it, directly or by way of others."""
    needs: dict[str, set[str]] = {}
    for i, line in enumerate(workflow.lines):
        direct = roots_used(line, (above.id for above in workflow.lines[:i]))
        needs[line.id] = direct.union(*(needs[d] for d in direct)) if direct else set()
    return {line.id: [other.id for other in workflow.lines if line.id in needs[other.id]] for line in workflow.lines}


class Proofs:
    """Keeps and makes proofs. Thread-safe."""

    def __init__(self, services: Services, executor: Executor) -> None:
        self.services = services
        self.executor = executor
        self._running: dict[tuple[int, str], str] = {}
        self._stop: dict[int, threading.Event] = {}
        self._lock = threading.Lock()

    # -- reading ------------------------------------------------------------------------------------

    def columns(self, workflow: Workflow, samples: Iterable[tables.Sample]) -> dict[int, Column]:
        """The cells of every sample."""
        samples = list(samples)
        ids = [s.id for s in samples]
        with self.services.store.read() as session:
            rows = session.execute(
                select(tables.ProofCell, tables.Proof)
                .join(tables.Proof, tables.Proof.key == tables.ProofCell.key)
                .where(tables.ProofCell.sample_id.in_(ids))
            ).all()
            brand = brand_values(session, workflow.brand)
            prints = {c.key: _digest([c.kind, c.settings]) for c in session.scalars(select(tables.Connection))}
        last = {(cell.sample_id, cell.step): proof for cell, proof in rows}
        return {s.id: self._column(workflow, s, last, brand, prints) for s in samples}

    def _column(
        self,
        workflow: Workflow,
        sample: tables.Sample,
        last: Mapping[tuple[int, str], tables.Proof],
        brand: dict[str, str],
        prints: Mapping[str, str],
    ) -> Column:
        column = Column(values=_ground(workflow, sample, brand))
        names = [line.id for line in workflow.lines]
        for line in workflow.steps:
            shown = last.get((sample.id, line.id))
            cell = Cell(line.id, sample.id, "stale" if shown else "empty", result=shown)
            column.cells[line.id] = cell
            if line.muted:
                cell.state = "muted"
                continue
            with self._lock:
                partial = self._running.get((sample.id, line.id))
            if roots_used(line, names) <= {*column.values, *(s.id for s in workflow.steps if s.muted)}:
                cell.key = _key(line, column.values, prints)
                if shown is None or shown.key != cell.key:
                    with self.services.store.read() as session:
                        kept = session.get(tables.Proof, cell.key)
                    shown = cell.result = kept or shown
                if shown is not None and shown.key == cell.key:
                    cell.state = "fresh" if shown.ok else "failed"
                    if shown.ok:
                        column.values[line.id] = shown.output
            if partial is not None:
                cell.state, cell.partial = "running", partial
        return column

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
            self.executor.submit(self._make_column, workflow_id, workflow, sample, steps, again, stop)

    def stop(self, workflow_id: int) -> None:
        """Stop what is being made for this workflow."""
        with self._lock:
            if workflow_id in self._stop:
                self._stop[workflow_id].set()

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
            wanted = _with_needs(workflow, steps)
            for line in workflow.steps:
                if stop.is_set():
                    return
                if line.muted or line.id not in wanted:
                    continue
                column = self.columns(workflow, [sample])[sample.id]
                cell = column.cells[line.id]
                forced = again and (steps is None or line.id in steps)
                if cell.state in ("running", "fresh") and not (forced and cell.state == "fresh"):
                    continue
                if not cell.key or not self._make(workflow_id, workflow, sample, line, cell.key, column.values, stop):
                    return
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
    ) -> bool:
        place = (sample.id, line.id)
        with self._lock:
            if place in self._running:
                return False
            self._running[place] = ""
        self._say(workflow_id, place, state="running", text="")

        def progress(text: str) -> None:
            with self._lock:
                self._running[place] = text
            self._say(workflow_id, place, state="running", text=text)

        context = Context(
            web=self.services.web,
            connect=self.services.connect,
            values=dict(values),
            outside=carry.outside_roots(workflow),
            asked_later=True,  # a proof is always seen by someone: a broken rule is shown, not a reason to stop
            progress=progress,
            cancelled=stop.is_set,
        )
        try:
            proof = self._result(line, context, key)
            if not stop.is_set():
                self._keep(sample.id, line.id, proof)
            return proof.ok and not stop.is_set()
        finally:
            with self._lock:
                self._running.pop(place, None)
            self._say(workflow_id, place, state="made")

    def _result(self, line: Line, context: Context, key: str) -> tables.Proof:
        try:
            output, detail, usage = rehearse(line, context)
            ok = True
        except OutsideError as error:
            ok, output, usage = False, {"message": error.message}, Usage()
            detail = {}
            if isinstance(error, StepFailed):
                usage, detail = error.usage, error.detail
        return tables.Proof(key=key, ok=ok, output=output, detail=detail, usage=usage.model_dump(), at=self.services.clock())

    def _keep(self, sample_id: int, step: str, proof: tables.Proof) -> None:
        with self.services.store.write() as session:
            if session.get(tables.Sample, sample_id) is None:
                return
            session.merge(proof)
            session.merge(tables.ProofCell(sample_id=sample_id, step=step, key=proof.key))

    def _say(self, workflow_id: int, place: tuple[int, str], **what: Any) -> None:
        self.services.bus.say("proof", workflow=workflow_id, sample=place[0], step=place[1], **what)


def rehearse(line: Line, context: Context) -> tuple[dict[str, Any], dict[str, Any], Usage]:
    """What a line gives in rehearsal. Lines that gather and draft are performed; nothing else touches the outside."""
    manner = kinds()[line.kind].manner
    if manner == "perform":
        result = carry.perform(line, context)
        return result.output, result.detail, result.usage
    if manner == "ask":
        text = str(context.values.get(str(line.settings.get("draft")), {}).get("text", ""))
        return {"text": text, "by": PLAYED_BY, "note": "", "rounds": 1, "edited": False}, {"would": "ask"}, Usage()
    if manner == "send":
        outgoing = carry.piece(line, context)
        return {**outgoing.content, "link": ""}, {"would": "send", "connection": outgoing.connection}, Usage()
    sheet, cells = carry.row(line, context)
    return {"row": 0, "sheet": sheet}, {"would": "write", "sheet": sheet, "cells": cells}, Usage()


def _ground(workflow: Workflow, sample: tables.Sample, brand: dict[str, str]) -> dict[str, Any]:
    # The run's date is the day the sample was kept, so that proofs do not go out of date overnight.
    return {workflow.start.id: sample.item, "brand": brand, "run": run_values(sample.created_at, 1)}


def _with_needs(workflow: Workflow, steps: set[str] | None) -> set[str]:
    if steps is None:
        return {line.id for line in workflow.steps}
    wanted = set(steps)
    for i in range(len(workflow.steps) - 1, -1, -1):
        line = workflow.steps[i]
        if line.id in wanted:
            wanted |= roots_used(line, (above.id for above in workflow.steps[:i]))
    return wanted


def _key(line: Line, values: Mapping[str, Any], prints: Mapping[str, str]) -> str:
    kind = kinds().get(line.kind)
    if kind is None:
        return ""
    settings, _ = read_settings(kind.settings, line.settings)
    used: dict[str, Any] = {}
    for _, text in templates_of(kind, line.settings):
        for slot in slots.parse(text).slots:
            value = slots.look_up(slot.path, values)
            used[str(slot.path)] = None if value is slots.MISSING else value
    connections = []
    for name, info in kind.settings.model_fields.items():
        control, value = field_control(info).get("control"), line.settings.get(name)
        if control == "step":
            used[f"{value}.text"] = values.get(str(value), {}).get("text")
        elif control == "connection":
            connections.append(prints.get(str(value), ""))
    dumped = settings.model_dump(mode="json") if settings is not None else line.settings
    return _digest([kind.name, dumped, used, connections])


def _digest(value: Any) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True, ensure_ascii=False, default=str).encode()).hexdigest()
