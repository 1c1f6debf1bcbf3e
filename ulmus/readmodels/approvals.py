"""What a person sees who is asked: the draft with its rules, versions, notes and sources, and what an answer is made of."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.diff import changes
from ..core.drafting import measure
from ..core.pieces import CHANGEABLE, FormName
from ..core.values import NotPlain
from ..core.workflow import Workflow, World, points_at, sentence
from ..core.workflow.kinds import SendSpec
from ..core.workflow.plans import AssignmentPlan
from ..protocols.errors import OutsideError
from ..runtime import asking, execution
from ..runtime.engine import Engine
from ..runtime.journal import Live
from ..runtime.services import Services, takes_of, world
from ..runtime.workspace import known
from ..steps import kinds
from ..steps.api import Drafts
from ..steps.shared.fields import FormField
from ..store import tables
from .journals import Journals, around, draft_versions, planned_as, step_of
from .models import ChangeView, FindingView, PieceView, VersionView
from .pieces import piece_view
from .queue import ApprovalSummary, joined, names_of, summary

_PICTURE = re.compile(
    r"(?:https?://[^/\s]+)?/api/files/[0-9a-f]{64}|https?://\S+\.(?:png|jpe?g|gif|webp|svg|avif)(?:\?\S*)?", re.IGNORECASE
)
"""A text that is nothing but the address of a picture, or of a file kept here."""


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
    changeable: list[str] = []


class Option(BaseModel):
    """One of several to choose from; `picture` where it is one."""

    name: str
    text: str
    picture: bool = False


class AnswerForm(BaseModel):
    """What an answer is made of: words (an empty `form`), a choice, fields, or yes and no."""

    form: Literal["", "choose", "fill", "yes_no"] = ""
    options: list[Option] = []
    fields: list[FormField] = []


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
    asks: AnswerForm = AnswerForm()
    others: list[PartOfDraft] = []
    rewrite: list[ChangeView] = []
    rewritten: int | None = None


class Measured(BaseModel):
    """A changed draft as a text, the rules on it, what would go out with it, and the changes marked."""

    text: str
    findings: list[FindingView]
    pieces: list[ComposedView] = []
    changes: list[ChangeView] = []


def approval_view(services: Services, engine: Engine, journals: Journals, approval_id: int, viewer: str = "") -> ApprovalView:
    """Everything needed to decide."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
        run = session.get_one(tables.Run, approval.run_id)
        brief = summary(
            *session.execute(joined().where(tables.Approval.id == approval_id)).one(), names=names_of(session), viewer=viewer
        )
        workflow = Workflow.model_validate(session.get_one(tables.Revision, run.revision_id).document)
        channel, limit = _channel(session, workflow, approval.draft)
        piece = session.scalar(
            select(tables.Piece).where(tables.Piece.approval_id == approval_id).order_by(tables.Piece.id).limit(1)
        )
        of_run = tables.Approval.run_id == approval.run_id
        before = session.scalar(select(tables.Approval.text).where(of_run, tables.Approval.address == _in_round(approval, -1)))
        after = session.scalar(select(tables.Approval.id).where(of_run, tables.Approval.address == _in_round(approval, 1)))
    events = _until(journals.of(run.id), approval)
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
        asks=_form(approval),
        brand=workflow.brand or "",
        parts=_parts(engine, approval),
        others=_others(engine, approval),
        rewrite=_marked(before, approval.text) if before is not None else [],
        rewritten=after,
        pieces=_let_out(services, engine, approval, asking.Change().over(approval.edit)),
    )


def _let_out(services: Services, engine: Engine, approval: tables.Approval, change: asking.Change) -> list[ComposedView]:
    """What goes out when this is approved with a change, in all its parts."""
    if approval.state != "open" or approval.draft in (asking.ACT, asking.QUESTION):
        return []
    live = engine.live(approval.run_id)
    try:
        values = {**live.state.scope(approval.address), **asking.as_approved(live, approval, change)}
    except (asking.AnswerRefused, OutsideError, NotPlain):
        return []
    with services.store.read() as session:
        around_it = world(session)
    out = []
    for composed in asking.compose(services, live, approval, values, change.pieces):
        kind = kinds()[composed.line.kind]
        assert isinstance(kind, SendSpec)
        view = piece_view(kind.form, composed.content, composed.connection, around_it) if composed.content else None
        wrong = "" if view is not None and view.refused else composed.wrong
        drafted = [values.get(line.id) for line in (live.workflow.line(approval.draft), *asking.others(live, approval)) if line]
        may = _changeable(kind.form, composed.content, drafted) if view is not None else []
        out.append(ComposedView(line=composed.line.id, title=kind.title, piece=view, wrong=wrong, changeable=may))
    return out


def _changeable(form: FormName, content: dict[str, Any], drafted: list[Any]) -> list[str]:
    """What may be changed of a piece itself: not what a draft wrote, which is changed there."""
    written = [value for output in drafted if isinstance(output, dict) for value in output.values()]
    names = CHANGEABLE.get(form, ())
    return [name for name in names if name not in ("title", "subject") or content.get(name) not in written] + ["goes"]


def _parts(engine: Engine, approval: tables.Approval) -> list[PartOfDraft]:
    """What a draft in fields or a list is made of, while it can be changed."""
    if approval.state != "open" or approval.draft in (asking.ACT, asking.QUESTION):
        return []
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = _as_it_stands(live, approval).get(approval.draft)
    kind = kinds().get(line.kind) if line is not None else None
    if line is None or not isinstance(kind, Drafts) or not isinstance(output, dict):
        return []
    return [PartOfDraft(**vars(part)) for part in kind.parts(execution.read(line), output)]


def _others(engine: Engine, approval: tables.Approval) -> list[PartOfDraft]:
    """The parts of the other drafts that go out with the one that is asked about, each named ``line/part``."""
    if approval.state != "open" or approval.draft in (asking.ACT, asking.QUESTION):
        return []
    live = engine.live(approval.run_id)
    scope = _as_it_stands(live, approval)
    out = []
    for line in asking.others(live, approval):
        kind = kinds()[line.kind]
        assert isinstance(kind, Drafts)
        title = "".join(part.text for part in sentence(line, kind, World()))
        parts = [PartOfDraft(**vars(part)) for part in kind.parts(execution.read(line), scope[line.id])]
        for part in parts or [PartOfDraft(name="text", label="", type="long", value=scope[line.id].get("text", ""))]:
            label = f"{title}: {part.label}" if part.label else title
            out.append(part.model_copy(update={"name": f"{line.id}/{part.name}", "label": label}))
    return out


def _as_it_stands(live: Live, approval: tables.Approval) -> dict[str, Any]:
    """The values around a question, with what those who said yes changed."""
    scope = dict(live.state.scope(approval.address))
    try:
        return scope | asking.as_approved(live, approval, asking.Change().over(approval.edit))
    except asking.AnswerRefused:
        return scope


def _form(approval: tables.Approval) -> AnswerForm:
    asks = dict(approval.asks or {})
    options = [
        Option(name=one["name"], text=one["text"], picture=_PICTURE.fullmatch(one["text"]) is not None)
        for one in asks.pop("options", [])
    ]
    return AnswerForm(**asks, options=options)


def measured(services: Services, engine: Engine, approval_id: int, change: asking.Change, trying: bool = True) -> Measured:
    """A change as it would be taken, as a text, the rules on it, and what would go out. Raises `asking.AnswerRefused`."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    change = change.over(approval.edit)
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    output = live.state.scope(approval.address).get(approval.draft)
    text = change.text if change.text is not None else approval.text
    own = {name: value for name, value in change.parts.items() if "/" not in name}
    if line is not None and isinstance(output, dict) and own:
        output = asking.revise(line, output, asking.Change(change.text, own))
        text = str(output.get("text", ""))
    findings = _measure(services, engine, approval_id, text, trying, output if isinstance(output, dict) else None)
    marks = _marked(approval.text, text) if text != approval.text else []
    return Measured(text=text, findings=findings, pieces=_let_out(services, engine, approval, change), changes=marks)


def _in_round(approval: tables.Approval, by: int) -> str:
    """The address of the round before this one, or after it; that of none before the first."""
    number = approval.round + by
    return str(flow.Address.parse(approval.address)._replace(round=number)) if number else ""


def _marked(before: str, after: str) -> list[ChangeView]:
    return [ChangeView(what=one.what, text=one.text) for one in changes(before, after)]


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
    # An assignment finds its sources in what its tools gave, each use of them; what its model says is none.
    uses = planned_as(workflow, AssignmentPlan)
    found = sorted(((n, o) for n, o in gathered.items() if n in order and n not in uses), key=lambda one: order[one[0]])
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


def _measure(
    services: Services, engine: Engine, approval_id: int, text: str, trying: bool = True, output: Mapping[str, Any] | None = None
) -> list[FindingView]:
    """The rules on a text, which is what a changed `output` says. Without `trying` no link is tried: whoever types it has no account."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
    live = engine.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    around_it = known(services, live.workflow.brand)
    around_it = around_it if trying else replace(around_it, dead=None)
    if line is None:
        return []
    values = live.state.scope(approval.address) | ({approval.draft: output} if output is not None else {})
    around_it = execution.known_of(line, values, text, execution.outside_roots(live.workflow), around_it)
    return [FindingView(**f.model_dump()) for f in measure(text, execution.rules_of(line, values), around_it)]
