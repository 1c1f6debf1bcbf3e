"""Approvals: the desk, and the page behind a signed link that needs no account."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

from flask import g
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.drafting import measure
from ..core.workflow import Workflow, points_at
from ..core.workflow.kinds import SendSpec
from ..core.workflow.plans import AssignmentPlan
from ..core.workflow.sentences import sentence
from ..runtime import asking, execution, links
from ..runtime.services import longest_of, world
from ..runtime.shelf import known
from ..steps import kinds
from ..steps.api import Drafts
from ..store import tables
from .auth import needs, room
from .base import Body, FindingView, Fine, Problem, Refusal, Reply, VersionView, house, send
from .journals import around, draft_versions, journal, planned_as, step_of

bp = APIBlueprint("approvals", __name__, url_prefix="/api", abp_tags=[Tag(name="approvals")])
DECIDED = 20
LARGEST_LETTER = 1_000_000


class ApprovalPath(BaseModel):
    id: int


class TokenPath(BaseModel):
    token: str


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


class Answer(Body):
    """The verdict, with what was changed: the text, or `parts` of the draft by name. `despite` lets a piece out although it
    breaks a must-rule."""

    verdict: Literal["approve", "back", "decline"]
    text: str | None = Field(None, max_length=200_000)
    note: str = Field("", max_length=10_000)
    parts: dict[str, Any] = {}
    despite: bool = False


class Text(Body):
    """A text, or parts of the draft by name, being changed."""

    text: str | None = Field(None, max_length=200_000)
    parts: dict[str, Any] = {}


class Measured(BaseModel):
    """The draft with the change in it, as a text, and its rules."""

    text: str
    findings: list[FindingView]


class QueueQuery(Body):
    limit: int = Field(50, ge=1, le=1000)


class Queue(BaseModel):
    """The oldest drafts that wait, how many wait altogether, and the last ones decided."""

    open: list[ApprovalSummary]
    waiting: int
    decided: list[ApprovalSummary]


class Letter(BaseModel):
    """What the page behind a signed link shows."""

    title: str
    text: str
    state: str
    round: int
    last: bool
    limit: int | None
    channel: str
    findings: list[FindingView]
    versions: list[VersionView]
    notes: list[NoteView]
    sources: list[Source]
    decided_by: str
    act: str = ""
    question: bool = False
    broken: list[str] = []
    despite: list[str] = []
    parts: list[PartOfDraft] = []


@bp.get("/approvals", responses={200: Queue})
@needs("reader")
def queue(query: QueueQuery) -> Reply:
    """Drafts that wait, oldest first, and the last ones decided."""
    with house().services.store.read() as session:
        joined = (
            select(tables.Approval, tables.Run.title, tables.WorkflowRecord.name)
            .join(tables.Run, tables.Run.id == tables.Approval.run_id)
            .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        )
        open_ = joined.where(tables.Approval.state == "open").order_by(tables.Approval.id).limit(query.limit)
        waiting = session.execute(open_).all()
        count = session.scalar(select(func.count()).where(tables.Approval.state == "open")) or 0
        past: list[Any] = []
        for state in ("approve", "back", "decline"):
            latest = joined.where(tables.Approval.state == state).order_by(tables.Approval.decided_at.desc())
            past += session.execute(latest.limit(DECIDED)).all()
    past = sorted(past, key=lambda row: -(row[0].decided_at or 0))[:DECIDED]
    return send(Queue(open=[_summary(*row) for row in waiting], waiting=count, decided=[_summary(*row) for row in past]))


@bp.get("/approvals/<int:id>", responses={200: ApprovalView})
@needs("reader")
def show(path: ApprovalPath) -> Reply:
    """One draft with all that is needed to decide."""
    return send(_full(path.id))


@bp.post("/approvals/<int:id>", responses={200: Fine, 409: Problem})
@needs("reviewer")
def answer(path: ApprovalPath, body: Answer) -> Reply:
    """Approve (with any changes made in place), send back with a note, or decline."""
    _take(path.id, body, g.user.name)
    return send(Fine())


@bp.post("/approvals/<int:id>/measure", responses={200: Measured, 409: Problem})
@needs("reader")
def measured(path: ApprovalPath, body: Text) -> Reply:
    """The rules on a text that is being changed in place."""
    return send(_changed(path.id, body))


@bp.get("/letters/<token>", responses={200: Letter, 410: Problem})
def letter(path: TokenPath) -> Reply:
    """The draft behind a signed link. Looking decides nothing."""
    full = _full(_opened(path.token))
    return send(Letter(**full.model_dump(include=set(Letter.model_fields))))


@bp.post("/letters/<token>", responses={200: Fine, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def answer_letter(path: TokenPath, body: Answer) -> Reply:
    """Answer by a signed link, in the name of the person the link was sent to."""
    approval_id = _opened(path.token)
    with house().services.store.read() as session:
        who = session.get_one(tables.Approval, approval_id).who
    _take(approval_id, body, who)
    return send(Fine())


@bp.post("/letters/<token>/measure", responses={200: Measured, 409: Problem, 410: Problem})
@room(LARGEST_LETTER)
def measured_letter(path: TokenPath, body: Text) -> Reply:
    """The rules on a text that is being changed behind a signed link."""
    return send(_changed(_opened(path.token), body, trying=False))


def _opened(token: str) -> int:
    try:
        return links.check(house().services.sealer.key, token)
    except links.LinkError as error:
        raise Refusal(str(error), 410) from None


def _take(approval_id: int, body: Answer, by: str) -> None:
    try:
        asking.answer(
            house().services,
            house().engine.writer,
            approval_id,
            body.verdict,
            by,
            body.text,
            body.note,
            parts=body.parts,
            despite=body.despite,
        )
    except asking.AnswerRefused as error:
        broken = [{"where": "rule", "message": words} for words in error.broken]
        raise Refusal(str(error), 409, code="broken_rule" if broken else "", problems=broken) from None


def _summary(approval: tables.Approval, title: str, name: str) -> ApprovalSummary:
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


def _full(approval_id: int) -> ApprovalView:
    with house().services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
        run = session.get_one(tables.Run, approval.run_id)
        name = session.get_one(tables.WorkflowRecord, run.workflow_id).name
        workflow = Workflow.model_validate(session.get_one(tables.Revision, run.revision_id).document)
        channel, limit = _channel(session, workflow, approval.draft)
        piece = session.scalar(select(tables.Piece).where(tables.Piece.approval_id == approval_id))
    events = _until(journal(run.id), approval)
    summary = _summary(approval, run.title, name)
    told = {"sent": "The mail was handed over.", "queued": "The mail is on its way."}
    return ApprovalView(
        **summary.model_dump(),
        last=approval.last,
        channel=channel,
        limit=limit,
        findings=_measure(approval_id, approval.final_text or approval.text),
        versions=draft_versions(events, approval.draft, approval.address),
        notes=[NoteView(by=e.by, note=e.note, at=e.at) for e in events if isinstance(e, flow.Answered) and e.note],
        sources=_sources(workflow, events, approval.address),
        final_text=approval.final_text,
        mail="" if piece is None else told.get(piece.state, piece.message),
        act=_act(workflow, approval),
        question=approval.draft == asking.QUESTION,
        brand=workflow.brand or "",
        parts=_parts(approval),
    )


def _parts(approval: tables.Approval) -> list[PartOfDraft]:
    """What a draft in fields or a list is made of, while it can be changed."""
    if approval.state != "open" or approval.draft in ("", asking.QUESTION):
        return []
    live = house().engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = live.state.scope(approval.address).get(approval.draft)
    kind = kinds().get(line.kind) if line is not None else None
    if line is None or not isinstance(kind, Drafts) or not isinstance(output, dict):
        return []
    return [PartOfDraft(**vars(part)) for part in kind.parts(execution.read(line), output)]


def _changed(approval_id: int, body: Text, trying: bool = True) -> Measured:
    """A change as it would be taken, and the rules on it."""
    with house().services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    live = house().engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = live.state.scope(approval.address).get(approval.draft)
    text = body.text if body.text is not None else approval.text
    if line is not None and isinstance(output, dict) and body.parts:
        try:
            text = str(asking.revise(line, output, asking.Change(body.text, body.parts)).get("text", ""))
        except asking.AnswerRefused as error:
            raise Refusal(str(error), 409) from None
    return Measured(text=text, findings=_measure(approval_id, text, trying))


def _act(workflow: Workflow, approval: tables.Approval) -> str:
    """What an assignment asks leave for, as a sentence; empty for a draft."""
    line = None if approval.draft else workflow.line(step_of(approval.address))
    with house().services.store.read() as session:
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
                return record.name, longest_of(record.kind, record.settings)
    return "", None


def _measure(approval_id: int, text: str, trying: bool = True) -> list[FindingView]:
    """The rules on a text. Without `trying` no link is tried: whoever types it has no account."""
    with house().services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    live = house().engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    around_it = known(house().services, live.workflow.brand)
    around_it = around_it if trying else replace(around_it, dead=None)
    return (
        [
            FindingView(**f.model_dump())
            for f in measure(text, execution.rules_of(line, live.state.scope(approval.address)), around_it)
        ]
        if line
        else []
    )
