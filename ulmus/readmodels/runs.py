"""Runs as they are shown: in a list, as the page with one column, and each step in full."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.drafting.assignment import brief_of
from ..core.workflow import Workflow, World
from ..core.workflow.plans import AssignmentPlan, EachPlan
from ..runtime.engine import Engine
from ..runtime.execution import plan_of
from ..runtime.journal import Live
from ..runtime.services import Services, world
from ..store import tables
from .journals import JOURNAL, JournalPage, Journals, around, cells, draft_versions, iterations, journal_page, step_of
from .models import CellView, LineView, ResultView, TroubleView, UsageView
from .pieces import run_piece, with_pieces
from .views import given, line_views


class RunSummary(BaseModel):
    id: int
    title: str
    workflow: int
    workflow_name: str
    state: str
    step: str
    message: str
    started_at: float
    ended_at: float | None
    cost: float
    tokens: int


class RunList(BaseModel):
    runs: list[RunSummary]
    more: bool


class RunView(BaseModel):
    """A run as the page with one column."""

    run: RunSummary
    revision: int
    lines: list[LineView]
    cells: list[CellView]
    journal: JournalPage
    usage: UsageView
    item: dict[str, Any]
    approval: int | None = None
    piece: int | None = None
    judge: str = ""
    held_for: str = ""
    waits_for: list[TroubleView] = []
    parent: int | None = None
    began: list[int] = []
    emptied: float | None = None
    """When what it did was removed because its term was over; what went out of it is still told."""


def summary(run: tables.Run, name: str) -> RunSummary:
    """A run in a list."""
    return RunSummary(
        id=run.id,
        title=run.title,
        workflow=run.workflow_id,
        workflow_name=name,
        state=run.state,
        step=run.step,
        message=run.message,
        started_at=run.started_at,
        ended_at=run.ended_at,
        cost=run.cost,
        tokens=run.tokens,
    )


def run_view(services: Services, engine: Engine, journals: Journals, run_id: int, waits_for: list[TroubleView]) -> RunView:
    """One run; `waits_for` are the outsides that do not answer and that its steps wait for."""
    with services.store.read() as session:
        run = session.get_one(tables.Run, run_id)
        record = session.get_one(tables.WorkflowRecord, run.workflow_id)
        revision = session.get_one(tables.Revision, run.revision_id)
        around = world(session)
        approval = session.scalar(
            select(tables.Approval.id).where(tables.Approval.run_id == run.id, tables.Approval.state == "open")
        )
        piece = session.scalar(select(tables.Piece.id).where(tables.Piece.run_id == run.id, tables.Piece.state == "unsure"))
        workflow = Workflow.model_validate(revision.document)
        if run.emptied is not None:
            return _of_emptied(session, run, record.name, revision.number, workflow, around)
        live = engine.live(run_id)
        events = journals.of(run_id)
        shown = cells(workflow, events, live.state)
        with_pieces(session, run_id, shown, around)
        began = list(session.scalars(select(tables.Run.id).where(tables.Run.parent_id == run.id).limit(200)))
    return RunView(
        run=summary(run, record.name),
        revision=revision.number,
        lines=line_views(workflow, around),
        cells=shown,
        journal=journal_page(events, None, JOURNAL),
        usage=UsageView(**live.state.usage.model_dump()),
        item=live.state.values.get(workflow.start.id, {}),
        approval=approval,
        piece=piece,
        judge=next((d.address for d in flow.decide(live.state) if isinstance(d, flow.Judge)), ""),
        held_for=live.state.held_for if live.state.held else "",
        waits_for=waits_for,
        parent=run.parent_id,
        began=began,
    )


def _of_emptied(session: Session, run: tables.Run, name: str, revision: int, workflow: Workflow, around: World) -> RunView:
    """A run of which only what went out is still told."""
    shown = [CellView(step=line.id, sample=0, state="passed") for line, _, _ in workflow.walk()]
    with_pieces(session, run.id, shown, around)
    return RunView(
        run=summary(run, name),
        revision=revision,
        lines=line_views(workflow, around),
        cells=[cell.model_copy(update={"state": "fresh"}) for cell in shown if cell.piece is not None],
        journal=JournalPage(entries=[]),
        usage=UsageView(cost=run.cost),
        item={},
        parent=run.parent_id,
        emptied=run.emptied,
    )


def step_view(services: Services, live: Live, events: list[flow.Event], step: str, address: str) -> ResultView | None:
    """What one step of a run was given and gave, in full; ``None`` where the page has no such line."""
    line = live.workflow.line(step)
    if line is None:
        return None
    if line.id == live.workflow.start.id:
        return ResultView(step=line.id, state="fresh", output=live.state.values[line.id], at=events[0].at)
    if not address and line.id not in {top.id for top in live.workflow.steps}:
        # Of a line inside blocks, the first carrying-out is shown until another is chosen.
        address = next((i.address for i in iterations(live.workflow, events, live.state, line.id)), "")
    chosen, address = address, address or line.id
    values = _values(live.state, events, address)
    mine = [
        e
        for e in events
        if isinstance(e, flow.Done | flow.Failed | flow.Sent | flow.Stopped)
        and step_of(e.address) == line.id
        and (not chosen or around(address, e.address))
    ]
    view = ResultView(step=line.id, state="ahead", given=given(live.workflow, line, values))
    usage = Usage()
    for event in mine:
        usage += getattr(event, "usage", Usage())
    view.usage = UsageView(**usage.model_dump())
    if mine:
        last = mine[-1]
        detail = dict(getattr(last, "detail", {}) or {})
        view.messages = detail.pop("messages", [])
        detail.pop("rounds", None)
        view.detail, view.at = detail, last.at
        view.versions = draft_versions(events, line.id, chosen)
        view.state = "failed" if isinstance(last, flow.Failed) else "fresh"
        view.message = last.message if isinstance(last, flow.Failed) else ""
    if isinstance(plan_of(line), AssignmentPlan) and (under_way := _under_way(live.state, line.id, chosen)):
        view.detail["talk"] = [brief_of(turn) for turn in under_way]
    found = values.get(line.id, {})
    view.output, view.address = found if isinstance(found, dict) else {"value": found}, chosen
    if view.state == "ahead" and found:
        view.state = "fresh"
    with services.store.read() as session:
        view.piece = run_piece(session, live.run_id, address, world(session))
    return view


def _under_way(state: flow.State, step: str, chosen: str) -> list[flow.Turn]:
    """What an assignment that has not answered yet has done so far."""
    for address, seq in state.at.items():
        if step_of(address) == step and seq.block is not None and (not chosen or around(chosen, address)):
            return list(seq.block.turns)
    return []


def _values(state: flow.State, events: list[flow.Event], address: str) -> dict[str, Any]:
    """The values that could be named at an address, for a block that is behind the run too."""
    values = dict(state.values)
    prefix = ""
    items = {e.address: e.items for e in events if isinstance(e, flow.Opened)}
    names = {s.id: s.how.item for s in _all_steps(state.plan.steps) if isinstance(s.how, EachPlan)}
    for name, number in flow.Address.parse(address).within:
        of = items.get(prefix + name) or []
        if name in names and number <= len(of):
            values[names[name]] = of[number - 1]
        prefix += f"{name}:{number}/"
        for event in events:
            if (
                isinstance(event, flow.Done | flow.Sent)
                and event.address.startswith(prefix)
                and "/" not in event.address[len(prefix) :]
            ):
                values[step_of(event.address)] = event.output if isinstance(event, flow.Done) else event.receipt
    return values


def _all_steps(steps: tuple[flow.PlannedStep, ...]) -> list[flow.PlannedStep]:
    planned_steps = [inner for s in steps for inner in (*s.steps, *(step for lane in s.lanes for step in lane.steps))]
    return [*steps, *(_all_steps(tuple(planned_steps)) if planned_steps else [])]
