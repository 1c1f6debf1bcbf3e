"""What a person sees who is asked: the queue, the draft with its rules, versions, notes and sources."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.drafting import measure
from ..core.values import NotPlain
from ..core.workflow import Workflow, points_at, sentence
from ..core.workflow.kinds import SendSpec
from ..core.workflow.plans import AssignmentPlan
from ..protocols.errors import OutsideError
from ..runtime import asking, execution
from ..runtime.engine import Engine
from ..runtime.services import Services, takes_of, world
from ..runtime.workspace import known
from ..steps import kinds
from ..steps.api import Drafts
from ..store import tables
from .journals import Journals, around, draft_versions, planned_as, step_of
from .models import FindingView, PieceView, VersionView
from .pieces import piece_view

DECIDED = 20


class ApprovalSummary(BaseModel):
    id: int
    title: str
    workflow_name: str
    run: int
    who: str
    text: str
    round: int
    state: str
    created_at: float
    decided_at: float | None = None
    decided_by: str = ""
    broken: list[str] = []
    despite: list[str] = []


class PartOfDraft(BaseModel):
    """A part of the draft that can be changed in its place."""

    name: str
    label: str
    type: str
    value: Any = None
    choices: list[str] = []


class Source(BaseModel):
    """Something from outside that the draft was made from."""

    step: str
    title: str
    link: str
    text: str


class NoteView(BaseModel):
    by: str
    note: str
    at: float


class ComposedView(BaseModel):
    """A piece that goes out when this is approved: the line that sends it, the piece, or why it cannot be made as things stand."""

    line: str
    title: str
    piece: PieceView | None = None
    wrong: str = ""


class ApprovalView(ApprovalSummary):
    """Everything needed to decide."""

    last: bool
    channel: str = ""
    limit: int | None = None
    findings: list[FindingView]
    versions: list[VersionView]
    notes: list[NoteView]
    sources: list[Source]
    final_text: str = ""
    mail: str = ""
    act: str = ""
    question: bool = False
    brand: str = ""
    parts: list[PartOfDraft] = []
    pieces: list[ComposedView] = []


class Measured(BaseModel):
    """A changed draft as a text, the rules on it, and what would go out with it."""

    text: str
    findings: list[FindingView]
    pieces: list[ComposedView] = []


class Queue(BaseModel):
    """The oldest drafts that wait, how many wait altogether, and the last ones decided."""

    open: list[ApprovalSummary]
    waiting: int
    decided: list[ApprovalSummary]


def queue(session: Session, limit: int) -> Queue:
    """Drafts that wait, oldest first, and the last ones decided."""
    joined = (
        select(tables.Approval, tables.Run.title, tables.WorkflowRecord.name)
        .join(tables.Run, tables.Run.id == tables.Approval.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
    )
    open_ = joined.where(tables.Approval.state == "open").order_by(tables.Approval.id).limit(limit)
    waiting = session.execute(open_).all()
    count = session.scalar(select(func.count()).where(tables.Approval.state == "open")) or 0
    past: list[Any] = []
    for state in ("approve", "back", "decline"):
        latest = joined.where(tables.Approval.state == state).order_by(tables.Approval.decided_at.desc())
        past += session.execute(latest.limit(DECIDED)).all()
    past = sorted(past, key=lambda row: -(row[0].decided_at or 0))[:DECIDED]
    return Queue(open=[summary(*row) for row in waiting], waiting=count, decided=[summary(*row) for row in past])


def summary(approval: tables.Approval, title: str, name: str) -> ApprovalSummary:
    return ApprovalSummary(
        id=approval.id,
        title=title,
        workflow_name=name,
        run=approval.run_id,
        who=approval.who,
        text=approval.text,
        round=approval.round,
        state=approval.state,
        created_at=approval.created_at,
        decided_at=approval.decided_at,
        decided_by=approval.decided_by,
        broken=approval.broken or [],
        despite=approval.despite or [],
    )


def approval_view(services: Services, engine: Engine, journals: Journals, approval_id: int) -> ApprovalView:
    """Everything needed to decide."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
        run = session.get_one(tables.Run, approval.run_id)
        name = session.get_one(tables.WorkflowRecord, run.workflow_id).name
        workflow = Workflow.model_validate(session.get_one(tables.Revision, run.revision_id).document)
        channel, limit = _channel(session, workflow, approval.draft)
        piece = session.scalar(select(tables.Piece).where(tables.Piece.approval_id == approval_id))
    events = _until(journals.of(run.id), approval)
    brief = summary(approval, run.title, name)
    told = {"sent": "The mail was handed over.", "queued": "The mail is on its way."}
    return ApprovalView(
        **brief.model_dump(),
        last=approval.last,
        channel=channel,
        limit=limit,
        findings=_measure(services, engine, approval_id, approval.final_text or approval.text),
        versions=draft_versions(events, approval.draft, approval.address),
        notes=[NoteView(by=e.by, note=e.note, at=e.at) for e in events if isinstance(e, flow.Answered) and e.note],
        sources=_sources(workflow, events, approval.address),
        final_text=approval.final_text,
        mail="" if piece is None else told.get(piece.state, piece.message),
        act=_act(services, workflow, approval),
        question=approval.draft == asking.QUESTION,
        brand=workflow.brand or "",
        parts=_parts(engine, approval),
        pieces=_let_out(services, engine, approval, asking.Change()),
    )


def _let_out(services: Services, engine: Engine, approval: tables.Approval, change: asking.Change) -> list[ComposedView]:
    """What goes out when this is approved with a change, in all its parts."""
    if approval.state != "open" or approval.draft in ("", asking.QUESTION):
        return []
    live = engine.live(approval.run_id)
    try:
        values = {**live.state.scope(approval.address), **asking.as_approved(live, approval, change)}
    except (asking.AnswerRefused, OutsideError, NotPlain):
        return []
    with services.store.read() as session:
        around_it = world(session)
    out = []
    for composed in asking.compose(services, live, approval, values):
        kind = kinds()[composed.line.kind]
        assert isinstance(kind, SendSpec)
        view = piece_view(kind.form, composed.content, composed.connection, around_it) if composed.content else None
        wrong = "" if view is not None and view.refused else composed.wrong
        out.append(ComposedView(line=composed.line.id, title=kind.title, piece=view, wrong=wrong))
    return out


def _parts(engine: Engine, approval: tables.Approval) -> list[PartOfDraft]:
    """What a draft in fields or a list is made of, while it can be changed."""
    if approval.state != "open" or approval.draft in ("", asking.QUESTION):
        return []
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = live.state.scope(approval.address).get(approval.draft)
    kind = kinds().get(line.kind) if line is not None else None
    if line is None or not isinstance(kind, Drafts) or not isinstance(output, dict):
        return []
    return [PartOfDraft(**vars(part)) for part in kind.parts(execution.read(line), output)]


def measured(services: Services, engine: Engine, approval_id: int, change: asking.Change, trying: bool = True) -> Measured:
    """A change as it would be taken, as a text, the rules on it, and what would go out. Raises `asking.AnswerRefused`."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = live.state.scope(approval.address).get(approval.draft)
    text = change.text if change.text is not None else approval.text
    if line is not None and isinstance(output, dict) and change.parts:
        text = str(asking.revise(line, output, change).get("text", ""))
    findings = _measure(services, engine, approval_id, text, trying)
    return Measured(text=text, findings=findings, pieces=_let_out(services, engine, approval, change))


def _act(services: Services, workflow: Workflow, approval: tables.Approval) -> str:
    """What an assignment asks leave for, as a sentence; empty for a draft."""
    line = None if approval.draft else workflow.line(step_of(approval.address))
    with services.store.read() as session:
        around_it = world(session)
    return "".join(part.text for part in sentence(line, kinds().get(line.kind), around_it)) if line else ""


def _until(events: list[flow.Event], approval: tables.Approval) -> list[flow.Event]:
    """The journal as far as it goes before this question was answered, so that a past round shows what was known then."""
    out: list[flow.Event] = []
    for event in events:
        out.append(event)
        if isinstance(event, flow.Answered) and event.address == approval.address:
            break
    return out


def _sources(workflow: Workflow, events: list[flow.Event], address: str) -> list[Source]:
    done = [e for e in events if isinstance(e, flow.Done)]
    outside = execution.outside_roots(workflow)
    order = {line.id: n for n, line in enumerate(workflow.every_step) if line.id in outside}
    gathered = {step_of(e.address): e.output for e in done if around(address, e.address)}
    found = sorted(((name, o) for name, o in gathered.items() if name in order), key=lambda one: order[one[0]])
    # An assignment finds its sources in what its tools gave, each use of them.
    uses = planned_as(workflow, AssignmentPlan)
    mine = [e for e in done if any(name in uses for name, _ in flow.Address.parse(e.address).within)]
    found += [(step_of(e.address), e.output) for e in mine if step_of(e.address) in order and not around(address, e.address)]
    out = [
        Source(step=name, title=str(o.get("title", "")), link=str(o.get("link", "")), text=str(o.get("text", "")))
        for name, o in found
    ]
    if not out and isinstance(events[0], flow.Begun):
        item = events[0].item
        out.append(
            Source(
                step=workflow.start.id,
                title=str(item.get("title", "")),
                link=str(item.get("link", "")),
                text=str(item.get("summary", "")),
            )
        )
    return out


def _channel(session: Session, workflow: Workflow, draft: str) -> tuple[str, int | None]:
    """Where the draft will go, and how long it may be there."""
    for line in workflow.every_step:
        kind = kinds().get(line.kind)
        for _, key in points_at(kind, line.settings, "connection") if isinstance(kind, SendSpec) and not line.muted else ():
            record = session.get(tables.Connection, key)
            if record is not None:
                return record.name, takes_of(record.kind, record.settings).length
    return "", None


def _measure(services: Services, engine: Engine, approval_id: int, text: str, trying: bool = True) -> list[FindingView]:
    """The rules on a text. Without `trying` no link is tried: whoever types it has no account."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    around_it = known(services, live.workflow.brand)
    around_it = around_it if trying else replace(around_it, dead=None)
    return (
        [
            FindingView(**f.model_dump())
            for f in measure(text, execution.rules_of(line, live.state.scope(approval.address)), around_it)
        ]
        if line
        else []
    )
