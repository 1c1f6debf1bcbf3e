"""Handlers of lines whose kind does something: gathers and drafts, sends, follows a job, writes, computes, calls."""

from __future__ import annotations

from concurrent.futures import Future
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import flow
from ...core.cost import Usage
from ...core.workflow import Line, Workflow, points_at
from ...core.workflow.plans import CallPlan
from ...protocols.errors import Misconfigured, NotFound, OutsideError
from ...steps import kinds
from ...steps.api import Connection, Context, Outgoing, Progress, Result
from ...store import tables
from .. import execution, records, timing
from ..dispatcher import Brought, Task
from ..elsewhere import Elsewhere
from ..journal import Live
from ..outsides import leads_to
from ..ports import Gate, Outbox, Outdated, Runs
from ..reach import check_reads
from ..services import Services
from ..transaction import Transaction
from .base import Gave, Handler

DEEPEST = 8
"""How deep workflows may run one another."""


class Performing(Handler):
    """A line that gathers, drafts or thinks; by a worker elsewhere, where there are any and it can."""

    outside = True
    elsewhere: Elsewhere | None = None

    def __init__(self, gate: Gate) -> None:
        self.gate = gate

    def prepare(self, task: Task, context: Context) -> Result | Future[Brought]:
        if task.reach is not None:
            check_reads(task.line, task.values, task.reach)
        if self.elsewhere is not None and self.elsewhere.takes(task.line):
            return self.elsewhere.carry_out(task, context, lambda: execution.perform(task.line, context))
        return execution.perform(task.line, context)

    def commit(self, tx: Transaction, live: Live, decision: flow.Perform, prepared: Result) -> list[flow.Event]:
        return [
            flow.Done(at=tx.now, address=decision.address, output=prepared.output, detail=prepared.detail, usage=prepared.usage)
        ]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        with self.gate.passing(leads_to(line, context.values), context.cancelled):
            if self.elsewhere is not None and self.elsewhere.takes(line):
                result = self.elsewhere.play(line, context, lambda: execution.perform(line, context))
            else:
                result = execution.perform(line, context)
        return result.output, result.detail, result.usage


class Sending(Handler):
    """A line that publishes or acts: its piece goes into the outbox."""

    outside = True

    def __init__(self, outbox: Outbox) -> None:
        self.outbox = outbox

    def prepare(self, task: Task, context: Context) -> tuple[Outgoing, timing.Goes]:
        return execution.piece(task.line, context), timing.goes(task.line, context.values, self.outbox.services.clock())

    def commit(self, tx: Transaction, live: Live, decision: flow.Send, prepared: tuple[Outgoing, timing.Goes]) -> list[flow.Event]:
        outgoing, goes = prepared
        line = live.line(decision.step)
        change = execution.change_of(live.workflow, live.state.scope(decision.address), line.id)
        outgoing = execution.changed(line, outgoing, change)
        if isinstance(change.get("goes"), int | float):
            goes = replace(goes, at=float(change["goes"]), place=False)
        piece, key = self.outbox.queue(tx, live, decision, live.line(decision.step).kind, outgoing, goes)
        return [flow.Queued(at=tx.now, address=decision.address, piece=piece, key=key)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        outgoing, services = execution.piece(line, context), self.outbox.services
        if timing.goes(line, context.values, services.clock()).place:
            with services.store.read() as session:
                timing.next_free(session, outgoing.connection, services.clock())
        output = execution.played(line, outgoing.content, context)
        return output, {"would": "send", "connection": outgoing.connection, "piece": outgoing.content}, Usage()


class Following(Handler):
    """A job that was taken: it is looked at until it is over."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> Progress:
        decision = task.decision
        assert isinstance(decision, flow.Follow)
        with self.services.store.read() as session:
            mine = tables.Piece.run_id == task.run_id, tables.Piece.address == decision.address
            key = session.scalar(select(tables.Piece.connection).where(*mine).order_by(tables.Piece.id.desc()).limit(1))
            record = session.get(tables.Connection, key) if key else None
        if record is None:
            raise Misconfigured("The connection the job was handed to is missing.")
        connection: Connection = self.services.open_connection(record)
        return execution.follow(task.line, context, connection, decision.receipt, self.services.clock() - decision.since)

    def commit(self, tx: Transaction, live: Live, decision: flow.Follow, prepared: Progress) -> list[flow.Event]:
        if prepared.output is None:
            return [flow.Followed(at=tx.now, address=decision.address, due=tx.now + prepared.again_in)]
        # Proofs of this line go on with the last result it had.
        tx.session.merge(
            tables.StepMemory(workflow_id=live.workflow_id, step=decision.step, data={execution.KEPT: prepared.output})
        )
        return [flow.Done(at=tx.now, address=decision.address, output=prepared.output)]


class Writing(Handler):
    """A line that records: the rows are changed in the transaction of the event that says so."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> records.Looked:
        change = execution.change(task.line, context)
        with self.services.store.read() as session:
            return records.look(session, change)

    def commit(self, tx: Transaction, live: Live, decision: flow.Write, prepared: records.Looked) -> list[flow.Event]:
        key = execution.effect_key(self.services.effect_house(live.run_id), live.run_id, decision.address, decision.generation)
        by = records.By(tx.now, run=live.run_id, address=decision.address, key=key)
        output, detail = records.make(tx.session, prepared, by)
        for sheet in (prepared.change.sheet, prepared.change.to):
            if sheet:
                tx.publish("sheet", key=sheet)
        return [flow.Done(at=tx.now, address=decision.address, output=output, detail=detail)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        change = execution.change(line, context)
        detail: dict[str, Any] = {"would": "write", "sheet": change.sheet, "what": change.do}
        output: dict[str, Any] = {"row": 0, "sheet": change.sheet}
        with self.services.store.read() as session:
            own = _row_of_sample(session, context, workflow) if change.find.own else None
            looked = records.look(session, change)
            found = next(records.foreseen(session, change, own), None)
        if change.do == "add":
            rows = [dict(cells) for cells in looked.rows]
            cells = rows[0] if len(change.rows) == 1 and rows else {}
            return {**output, "added": len(rows), "there": looked.doubles}, {**detail, "cells": cells, "rows": rows[:20]}, Usage()
        before, after = found or ({}, {column: one.text for column, one in change.cells.items()})
        told = {**output, "found": "yes" if found else "no", "before": before if found else {}, "after": after}
        return told, {**detail, "cells": after or before, "before": before if found and after else {}}, Usage()


def _row_of_sample(session: Session, context: Context, workflow: Workflow) -> int | None:
    """The number of the row a sample was taken from, as far as its sheet still has one at its place."""
    item = context.values.get(workflow.start.id)
    place = item.get("row") if isinstance(item, dict) else None
    keys = [key for _, key in points_at(kinds()[workflow.start.kind], workflow.start.settings, "sheet")]
    if not keys or not isinstance(place, int | float):
        return None
    row = tables.SheetRow
    return session.scalar(select(row.id).where(row.sheet == keys[0], row.position == int(place)))


@dataclass(frozen=True)
class _Worked:
    """Values worked out, and what the line remembered `before` and `after`."""

    output: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]


class Computing(Handler):
    """A line that works values out, from values and from what it remembers of earlier runs."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Worked:
        with self.services.store.read() as session:
            run = session.get_one(tables.Run, task.run_id)
            before = _memory(session.get(tables.StepMemory, (run.workflow_id, task.line.id)))
        output, after = execution.work(task.line, context.values, dict(before), context.seed)
        return _Worked(output, before, after)

    def commit(self, tx: Transaction, live: Live, decision: flow.Compute, prepared: _Worked) -> list[flow.Event]:
        kept = tx.session.get(tables.StepMemory, (live.workflow_id, decision.step))
        if _memory(kept) != prepared.before:
            raise Outdated("another run was quicker, and the line remembers more by now")
        if prepared.after != prepared.before:
            tx.session.merge(tables.StepMemory(workflow_id=live.workflow_id, step=decision.step, data=prepared.after))
            tx.session.flush()
        return [flow.Done(at=tx.now, address=decision.address, output=prepared.output)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        # Nothing is remembered from a rehearsal, and each gives the same.
        return execution.work(line, context.values, {}, "rehearsal")[0], {}, Usage()


def _memory(kept: tables.StepMemory | None) -> dict[str, Any]:
    return dict(kept.data) if kept else {}


class Calling(Handler):
    """A line that begins a run of another workflow."""

    outside = True

    def __init__(self, runs: Runs) -> None:
        self.runs = runs

    def prepare(self, task: Task, context: Context) -> CallPlan:
        return execution.call(task.line, context.values)

    def commit(self, tx: Transaction, live: Live, decision: flow.Call, prepared: CallPlan) -> list[flow.Event]:
        wanted = prepared.workflow
        record = tx.session.get(tables.WorkflowRecord, int(wanted)) if wanted.isdigit() else None
        if record is None or record.revision_id is None:
            raise NotFound("The workflow to run is not there, or has never been live.")
        if live.depth >= DEEPEST:
            raise OutsideError(f"Workflows run one another more than {DEEPEST} deep here; that never ends. Change the page.")
        item = dict(prepared.item)
        title = str(item.get("title") or live.workflow.name)
        parent = (live.run_id, decision.address)
        run_id = self.runs.begin(tx, record.id, item, title, parent=parent, depth=live.depth + 1)
        events: list[flow.Event] = [flow.Called(at=tx.now, address=decision.address, run=run_id)]
        if not prepared.waits:
            events.append(flow.Done(at=tx.now, address=decision.address, output={"text": "", "values": {}, "run": run_id}))
        return events

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        item = dict(execution.call(line, context.values).item)
        return {"text": "", "values": {}, "run": 0}, {"would": "call", "item": item}, Usage()
