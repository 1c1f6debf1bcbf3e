"""Runs: what happened, as a list and as the page with one column; taking up again; pieces in doubt."""

from __future__ import annotations

from typing import Any

from flask import g
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field
from sqlalchemy import or_, select

from ..core import flow
from ..core.workflow import Workflow
from ..runtime import workflows
from ..runtime.services import audit, world
from ..store import tables
from .auth import needs
from .base import CellView, Fine, LineView, Problem, Refusal, Reply, ResultView, UsageView, VersionView, house, send
from .views import cells_brief, fill_cell, given, line_views, marked, versions

bp = APIBlueprint("runs", __name__, url_prefix="/api", abp_tags=[Tag(name="runs")])


class RunPath(BaseModel):
    id: int


class RunStepPath(BaseModel):
    id: int
    step: str


class RunQuery(BaseModel):
    words: str = ""
    workflow: int | None = None
    state: str = ""
    before: int | None = None
    limit: int = Field(50, ge=1, le=200)


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


class EntryView(BaseModel):
    """A journal entry in words."""

    at: float
    event: str
    address: str
    says: str


class RunView(BaseModel):
    """A run as the page with one column."""

    run: RunSummary
    revision: int
    lines: list[LineView]
    cells: list[CellView]
    journal: list[EntryView]
    usage: UsageView
    item: dict[str, Any]
    approval: int | None = None
    piece: int | None = None


class PieceChoice(BaseModel):
    """A person's word on a piece in doubt."""

    choice: str = Field(pattern="^(sent|again|drop)$")


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


@bp.get("/runs", responses={200: RunList})
@needs("reader")
def listing(query: RunQuery) -> Reply:
    """Runs, newest first, found by words, workflow and state."""
    wanted = select(tables.Run, tables.WorkflowRecord.name).join(
        tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id
    )
    for word in query.words.split():
        like = f"%{word}%"
        wanted = wanted.where(
            or_(tables.Run.title.ilike(like), tables.WorkflowRecord.name.ilike(like), tables.Run.message.ilike(like))
        )
    if query.workflow is not None:
        wanted = wanted.where(tables.Run.workflow_id == query.workflow)
    if query.state:
        wanted = wanted.where(tables.Run.state.in_(query.state.split(",")))
    if query.before is not None:
        wanted = wanted.where(tables.Run.id < query.before)
    with house().services.store.read() as session:
        rows = session.execute(wanted.order_by(tables.Run.id.desc()).limit(query.limit + 1)).all()
    return send(RunList(runs=[summary(run, name) for run, name in rows[: query.limit]], more=len(rows) > query.limit))


@bp.get("/runs/<int:id>", responses={200: RunView})
@needs("reader")
def show(path: RunPath) -> Reply:
    """One run."""
    with house().services.store.read() as session:
        run = session.get_one(tables.Run, path.id)
        record = session.get_one(tables.WorkflowRecord, run.workflow_id)
        revision = session.get_one(tables.Revision, run.revision_id)
        around = world(session)
        approval = session.scalar(
            select(tables.Approval.id).where(tables.Approval.run_id == run.id, tables.Approval.state == "open")
        )
        piece = session.scalar(select(tables.Piece.id).where(tables.Piece.run_id == run.id, tables.Piece.state == "unsure"))
    workflow = Workflow.model_validate(revision.document)
    events = journal(path.id)
    live = house().engine.live(path.id)
    return send(
        RunView(
            run=summary(run, record.name),
            revision=revision.number,
            lines=line_views(workflow, around),
            cells=_cells(workflow, events, live.state, run),
            journal=[_entry(e) for e in events],
            usage=UsageView(**live.state.usage.model_dump()),
            item=live.state.values.get(workflow.start.id, {}),
            approval=approval,
            piece=piece,
        )
    )


@bp.get("/runs/<int:id>/steps/<step>", responses={200: ResultView})
@needs("reader")
def step(path: RunStepPath) -> Reply:
    """What one step of a run was given and gave, in full."""
    live = house().engine.live(path.id)
    line = live.workflow.line(path.step)
    if line is None:
        raise Refusal("This run’s page has no such line.", 404)
    events = journal(path.id)
    if line.id == live.workflow.start.id:
        return send(ResultView(step=line.id, state="fresh", output=live.state.values[line.id], at=events[0].at))
    mine = [e for e in events if isinstance(e, flow.Done | flow.Failed | flow.Sent) and _step_of(e.address) == line.id]
    view = ResultView(step=line.id, state="ahead", given=given(live.workflow, line, live.state.values))
    usage = flow.state.Usage()
    for event in mine:
        usage += getattr(event, "usage", flow.state.Usage())
    view.usage = UsageView(**usage.model_dump())
    if mine:
        last = mine[-1]
        detail = dict(getattr(last, "detail", {}) or {})
        view.messages = detail.pop("messages", [])
        detail.pop("rounds", None)
        view.detail, view.at = detail, last.at
        view.versions = draft_versions(events, line.id)
        view.state = "failed" if isinstance(last, flow.Failed) else "fresh"
        view.message = last.message if isinstance(last, flow.Failed) else ""
    view.output = live.state.values.get(line.id, {})
    return send(view)


@bp.post("/runs/<int:id>/take-up", responses={200: Fine, 409: Problem})
@needs("maker")
def take_up(path: RunPath) -> Reply:
    """Have a failed run go on from the step that failed."""
    services = house().services
    state = house().engine.live(path.id).state
    event = flow.TakenUp(at=services.clock(), address=state.current.id if state.current else "-", by=g.user.email)
    try:
        house().engine.record(path.id, event, lambda s: audit(s, services.clock(), g.user.email, "took up a run", str(path.id)))
    except flow.FlowError as error:
        raise Refusal(f"This run cannot be taken up: {error}.", 409) from None
    return send(Fine())


@bp.post("/runs/<int:id>/cancel", responses={200: Fine, 409: Problem})
@needs("maker")
def cancel(path: RunPath) -> Reply:
    """End a run that is under way. What already went out stays out."""
    services = house().services
    event = flow.Cancelled(at=services.clock(), by=g.user.name)
    try:
        house().engine.record(path.id, event, lambda s: audit(s, services.clock(), g.user.email, "cancelled a run", str(path.id)))
    except flow.FlowError:
        raise Refusal("This run has already ended.", 409) from None
    return send(Fine())


@bp.post("/runs/<int:id>/keep", responses={200: Fine})
@needs("maker")
def keep(path: RunPath) -> Reply:
    """Keep the run's starting item as a sample of its workflow."""
    live = house().engine.live(path.id)
    services = house().services
    with services.store.write() as session:
        run = session.get_one(tables.Run, path.id)
        workflows.add_sample(session, run.workflow_id, live.state.values[live.workflow.start.id], "run", services.clock())
    return send(Fine())


@bp.post("/pieces/<int:id>/decide", responses={200: Fine, 409: Problem})
@needs("reviewer")
def decide(path: RunPath, body: PieceChoice) -> Reply:
    """Settle a piece in doubt: it went out, send it again, or drop it."""
    try:
        house().engine.outbox.decide(path.id, body.choice, g.user.name)
    except ValueError as error:
        raise Refusal(str(error), 409) from None
    return send(Fine())


def journal(run_id: int) -> list[flow.Event]:
    """The run's events."""
    with house().services.store.read() as session:
        rows = session.scalars(
            select(tables.JournalEntry.event).where(tables.JournalEntry.run_id == run_id).order_by(tables.JournalEntry.seq)
        )
        return [flow.load_event(e) for e in rows]


def draft_versions(events: list[flow.Event], draft: str) -> list[VersionView]:
    """Every version of a draft in a run: rounds sent back by rules, and rewrites after notes, each set against the one before."""
    out: list[VersionView] = []
    note = ""
    for event in events:
        if isinstance(event, flow.Answered) and event.verdict == "back":
            note = f"Sent back by {event.by}: {event.note}"
        if isinstance(event, flow.Done) and _step_of(event.address) == draft:
            for version in versions(event.detail):
                if out and not version.changes:
                    version.changes = marked(out[-1].text, version.text)
                version.why, note = version.why or note, ""
                out.append(version)
    return out


def _step_of(address: str) -> str:
    return flow.Address.parse(address).step if address != "-" else ""


def _cells(workflow: Workflow, events: list[flow.Event], state: flow.State, run: tables.Run) -> list[CellView]:
    out: dict[str, CellView] = {}
    for line in workflow.steps:
        out[line.id] = CellView(step=line.id, sample=0, state="muted" if line.muted else "ahead")
    began = {line.id: 0.0 for line in workflow.lines}
    total: dict[str, flow.state.Usage] = {}
    for event in events:
        address = getattr(event, "address", "")
        cell = out.get(_step_of(address)) if address else None
        line = workflow.line(cell.step) if cell else None
        if cell is None or line is None:
            continue
        began[cell.step] = began[cell.step] or event.at
        usage = total[cell.step] = total.get(cell.step, flow.state.Usage()) + getattr(event, "usage", flow.state.Usage())
        if isinstance(event, flow.Done):
            output = state.values.get(cell.step, event.output)
            detail = {**event.detail, "would": ""}
            fill_cell(cell, line, True, output, detail, usage.model_dump(), event.at)
            cell.state, cell.message = "fresh", ""
            if event.detail.get("cells"):
                cell.brief = cells_brief(event.detail["cells"])
        elif isinstance(event, flow.Sent | flow.Answered):
            output = state.values.get(cell.step, {})
            fill_cell(cell, line, True, output, {}, usage.model_dump(), event.at)
            cell.state, cell.message = "fresh", ""
            if isinstance(event, flow.Answered) and event.verdict != "approve":
                cell.state = "declined" if event.verdict == "decline" else "asking"
                cell.message = event.note
        elif isinstance(event, flow.Failed):
            fill_cell(cell, line, False, {"message": event.message}, event.detail, usage.model_dump(), event.at)
            cell.state = "failed"
        elif isinstance(event, flow.Unsure):
            cell.state, cell.message = "unsure", event.message
    current = state.current
    if current is not None and not state.ended and state.outcome is None:
        states = {"asked": "asking", "waiting": "waiting", "unsure": "unsure"}
        about = current.about if state.phase == "rewriting" else current.id
        out[about].state = states.get(state.phase, "running")  # type: ignore[assignment]
    return list(out.values())


_SAYS = {
    "begun": "The run began.",
    "done": "Done.",
    "timer_fired": "Tried again.",
    "asked": "A person was asked.",
    "queued": "Put into the outbox.",
    "sent": "Sent, with a receipt.",
    "taken_up": "Taken up again.",
}


def _entry(event: flow.Event) -> EntryView:
    says = _SAYS.get(event.event, "")
    if isinstance(event, flow.Failed | flow.Unsure):
        says = event.message
    elif isinstance(event, flow.Answered):
        words = {"approve": "Approved", "back": "Sent back", "decline": "Declined"}[event.verdict]
        says = f"{words} by {event.by}{', with changes' if event.edited and event.verdict == 'approve' else ''}.{f' “{event.note}”' if event.note else ''}"
    elif isinstance(event, flow.Ended):
        says = {
            "done": "The run ended well.",
            "failed": "The run stopped.",
            "declined": "Ended: declined.",
            "cancelled": event.message,
        }[event.outcome]
    return EntryView(at=event.at, event=event.event, address=getattr(event, "address", ""), says=says)
