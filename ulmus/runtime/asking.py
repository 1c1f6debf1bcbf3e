"""Questions to people: opened by a run, answered at the desk or by a signed link.

What a person approves is the piece as it will go out. A change they make is in every part of the draft and in what was
worked out from it; what a channel cannot take is refused while they are there; and a must-rule that is broken lets nothing
out but by a second, named act.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.slots import fits
from ..core.values import NotPlain, plain_object
from ..core.values import text as valid
from ..core.workflow import Lane, Line, Workflow
from ..core.workflow.kinds import SendSpec
from ..core.workflow.plans import AskPlan, ForkPlan
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Computes, Context, Drafts
from ..store import tables
from . import execution
from .dependencies import roots_read
from .journal import Live
from .ports import Events
from .services import Services, audit
from .transaction import Transaction
from .workspace import workspace

Verdict = Literal["approve", "back", "decline"]
LONGEST_NOTE = 4000
QUESTION = "?"


class AnswerRefused(ValueError):
    """The answer cannot be taken; the message says why and what to do. `broken` are must-rules that the piece breaks, where
    it may be let out all the same."""

    def __init__(self, words: str, broken: Sequence[str] = ()) -> None:
        super().__init__(words)
        self.broken = list(broken)


@dataclass(frozen=True)
class Change:
    """What a person changed: the text, or parts of the draft by name. ``None`` and nothing where they changed neither."""

    text: str | None = None
    parts: Mapping[str, Any] = field(default_factory=dict)


def open_question(
    services: Services,
    tx: Transaction,
    run_id: int,
    plan: AskPlan,
    decision: flow.Ask,
    text: str,
    draft: str,
    broken: Sequence[str] = (),
) -> int:
    """Store a question, and the mail that tells the person of it, in `tx`. `draft` names the draft that is shown; it is
    `QUESTION` for one to be answered in words, and empty for an act of an assignment. `broken` are the must-rules it breaks."""
    session = tx.session
    approval = tables.Approval(
        run_id=run_id,
        address=decision.address,
        round=decision.round,
        last=decision.last or draft == QUESTION,
        draft=draft,
        who=plan.who,
        text=text,
        broken=list(broken),
        created_at=tx.now,
    )
    session.add(approval)
    session.flush()
    if plan.mail:
        # What it says is written when it is sent: then all that goes out can be composed.
        session.add(
            tables.Piece(
                key=f"approval-{approval.id}",
                approval_id=approval.id,
                connection=plan.mail,
                kind="approval_mail",
                content={"to": approval.who},
                state="queued",
                queued_at=tx.now,
                due_at=tx.now,
            )
        )
    tx.publish("approval", id=approval.id)
    return approval.id


def answer(
    services: Services,
    events: Events,
    approval_id: int,
    verdict: Verdict,
    by: str,
    text: str | None = None,
    note: str = "",
    parts: Mapping[str, Any] | None = None,
    despite: bool = False,
) -> None:
    """Take an answer. `text` or `parts` are what the person changed; `despite` lets a piece out that breaks a must-rule.

    Raises `AnswerRefused`; a question that is already answered stays as it is.
    """
    note = valid(note.strip())
    if verdict == "back" and not note:
        raise AnswerRefused("Write a note first: what should be different?")
    if len(note) > LONGEST_NOTE:
        raise AnswerRefused(f"The note is too long; at most {LONGEST_NOTE} characters.")
    with services.store.read() as session:
        approval = session.get(tables.Approval, approval_id)
    if approval is None:
        raise AnswerRefused("There is no such draft any more.")
    if approval.state != "open":
        raise AnswerRefused(_already(approval))
    if verdict == "back" and approval.last:
        if approval.draft == QUESTION:
            raise AnswerRefused("Write your answer, and send it.")
        raise AnswerRefused("This was the last round. Approve it, change the text yourself, or decline.")
    try:
        final = _final(services, events, approval, verdict, Change(text, parts or {}))
    except (OutsideError, NotPlain) as error:
        raise AnswerRefused(str(error)) from None
    if verdict == "approve" and final.broken and not despite:
        words = f"It breaks a rule: {'; '.join(final.broken)}. Change it, or let it out all the same."
        raise AnswerRefused(words, final.broken)
    now = services.clock()
    let_out = final.broken if verdict == "approve" else []
    event = flow.Answered(
        at=now,
        address=approval.address,
        verdict=verdict,
        text=final.text,
        note=note,
        by=by,
        edited=final.edited,
        values=final.values,
        despite=let_out,
    )

    def also(session: Session) -> None:
        record = session.get_one(tables.Approval, approval_id)
        if record.state != "open":
            raise AnswerRefused(_already(record))
        record.state, record.final_text, record.note = verdict, final.text, note
        record.decided_by, record.decided_at, record.despite = by, now, list(let_out)
        audit(session, now, by, f"answered: {verdict}", f"approval {approval_id}")
        if let_out:
            audit(session, now, by, "let out despite a broken rule", f"approval {approval_id}: {'; '.join(let_out)}")

    try:
        events.record(approval.run_id, event, also)
    except flow.FlowError:
        raise AnswerRefused("The run this draft belongs to is no longer waiting for an answer.") from None
    except NotPlain as error:
        raise AnswerRefused(f"This answer cannot be kept: {error}.") from None
    services.bus.publish("approval", id=approval_id)


# -- the piece as approved ------------------------------------------------------------------------------


@dataclass(frozen=True)
class Final:
    """What comes of an answer: the text, whether it was changed, the outputs that follow from it by the names of their lines,
    and the must-rules it breaks."""

    text: str
    edited: bool = False
    values: dict[str, dict[str, Any]] = field(default_factory=dict)
    broken: list[str] = field(default_factory=list)


def _final(services: Services, events: Events, approval: tables.Approval, verdict: Verdict, change: Change) -> Final:
    asked = approval.text if approval.draft != QUESTION else ""
    text = valid((asked if change.text is None else change.text).strip())
    if approval.draft in ("", QUESTION):
        if verdict == "approve" and approval.draft == QUESTION and text in ("", approval.text.strip()):
            raise AnswerRefused("Write your answer first.")
        if not approval.draft and text != approval.text.strip():
            raise AnswerRefused("What an assignment wants to do cannot be changed here. Send it back with a note.")
        return Final(text, text != approval.text.strip())
    if verdict != "approve":
        return Final(text, text != approval.text.strip())
    live = events.live(approval.run_id)
    line = live.workflow.line(approval.draft)
    scope = live.state.scope(approval.address)
    before = scope.get(approval.draft)
    if line is None or not isinstance(before, dict):
        raise AnswerRefused("The draft is not there any more.")
    values = as_approved(live, approval, Change(text, change.parts))
    after = values[approval.draft]
    if not str(after.get("text", "")).strip():
        raise AnswerRefused("The text is empty. Write something, or decline.")
    after_all = {**scope, **values}
    # What a channel cannot take is said here, and not when nobody is there any more.
    for composed in compose(services, live, approval, after_all):
        if composed.wrong:
            raise AnswerRefused(composed.wrong)
    broken = list(execution.broken_rules(line, after_all, str(after["text"])))
    changed = values if after != before or len(values) > 1 else {}
    return Final(str(after["text"]), after != before, changed, broken)


def as_approved(live: Live, approval: tables.Approval, change: Change) -> dict[str, dict[str, Any]]:
    """The draft's outputs, and those worked out from it, by the names of their lines, with a person's change in them. Raises
    `AnswerRefused`."""
    line, scope = live.workflow.line(approval.draft), live.state.scope(approval.address)
    before = scope.get(approval.draft)
    if line is None or not isinstance(before, dict):
        raise AnswerRefused("The draft is not there any more.")
    text = change.text.strip() if change.text is not None else None
    after = revise(line, before, Change(None if text == str(before.get("text", "")).strip() else text, change.parts))
    values = {approval.draft: after}
    if after != before or approval.round > 1:
        values |= worked_out_again(live, approval, {**scope, approval.draft: after})
    return values


def revise(line: Line, output: Mapping[str, Any], change: Change) -> dict[str, Any]:
    """A draft's outputs with a person's change in every part of them. Raises `AnswerRefused`."""
    if change.text is None and not change.parts:
        return dict(output)
    kind = kinds()[line.kind]
    if not isinstance(kind, Drafts):
        return {**output, "text": change.text if change.text is not None else output.get("text", "")}
    try:
        settings = execution.read(line)
        return plain_object(execution.guarded(lambda: kind.revised(settings, output, change.text, change.parts)))
    except (OutsideError, NotPlain) as error:
        raise AnswerRefused(str(error)) from None


def worked_out_again(live: Live, approval: tables.Approval, values: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """The values that were worked out from the draft before it was approved, worked out anew."""
    changed: dict[str, dict[str, Any]] = {}
    touched = {approval.draft}
    ask = flow.Address.parse(approval.address).step
    for line in _before(live.workflow, approval.draft, ask):
        kind = kinds().get(line.kind)
        if not isinstance(kind, Computes) or line.muted or not (live.page.reads[line.id] & touched):
            continue
        output, remembers = execution.work(line, values, {}, f"{live.run_id}/{line.id}")
        if remembers:
            continue  # it goes by what it remembers of other runs, and has had its turn
        touched.add(line.id)
        if values.get(line.id) != output:
            values[line.id] = changed[line.id] = output
    return changed


@dataclass(frozen=True)
class Composed:
    """A piece that an approval lets out: the line that sends it, its connection and content, or in words why it cannot be made."""

    line: Line
    connection: str = ""
    content: dict[str, Any] = field(default_factory=dict)
    wrong: str = ""


def compose(services: Services, live: Live, approval: tables.Approval, values: Mapping[str, Any]) -> list[Composed]:
    """The pieces that this approval lets out, as far as they can be known now, with these values as approved."""
    values = dict(values)
    ask = live.workflow.line(flow.Address.parse(approval.address).step)
    if ask is not None:
        # What the answer itself gives is not known before it is given; what it will say of the text is.
        given = values.get(approval.draft) or {}
        values[ask.id] = {"text": given.get("text", ""), "by": "", "note": "", "rounds": approval.round, "edited": False}
    context = Context(
        web=services.web,
        connect=services.connect,
        values=values,
        outside=live.page.outside,
        workspace=workspace(services, live.workflow.brand),
    )
    out: list[Composed] = []
    for line in _after(live.workflow, flow.Address.parse(approval.address).step, values):
        kind = kinds().get(line.kind)
        if kind is None or line.muted or not roots_read(live.workflow, line) - {line.id} <= values.keys():
            continue
        if isinstance(kind, Computes):
            try:
                output, remembers = execution.work(line, values, {}, "check")
            except OutsideError:
                continue  # it may fail in the run; no channel has refused anything by that
            if not remembers:
                values[line.id] = output
        elif isinstance(kind, SendSpec):
            try:
                outgoing = execution.piece(line, context, refusing=False)
                wrong = execution.refusals_of(line, outgoing, context)
                out.append(Composed(line, outgoing.connection, outgoing.content, " ".join(wrong)))
            except (OutsideError, NotPlain) as error:
                out.append(Composed(line, wrong=str(error)))
    return out


def _before(workflow: Workflow, draft: str, ask: str) -> Iterator[Line]:
    """The lines between a draft and the question about it."""
    between = False
    for line, _, _ in workflow.walk():
        if line.id == ask:
            return
        if between:
            yield line
        between = between or line.id == draft


def _after(workflow: Workflow, ask: str, values: Mapping[str, Any]) -> Iterator[Line]:
    """The lines that follow a question, in lanes too where their condition holds; not those inside blocks that go round."""
    here: tuple[Line | Lane, ...] = ()
    passed = False
    for line, within, muted in workflow.walk():
        if line.id == ask:
            here, passed = within, True
            continue
        if not passed or muted:
            continue
        further = [one for one in within if one not in here]
        rounds = any(not isinstance(execution.plan_of(one), ForkPlan) for one in further if isinstance(one, Line))
        lanes = [one for one in further if isinstance(one, Lane) and one.when.strip()]
        if not rounds and all(fits(lane.when, values) for lane in lanes):
            yield line


# -- in words -------------------------------------------------------------------------------------------


def _already(approval: tables.Approval) -> str:
    words = {"approve": "approved", "back": "sent back", "decline": "declined"}
    if approval.state == "void":
        return "The run this draft belongs to has ended."
    return f"This draft was already {words.get(approval.state, 'answered')} by {approval.decided_by}."


def let_out(session: Session, runs: Collection[int]) -> dict[int, tuple[str, list[str]]]:
    """For runs whose drafts were approved: who approved last, and the rules that were broken all the same."""
    approved = (
        select(tables.Approval.run_id, tables.Approval.decided_by, tables.Approval.despite)
        .where(tables.Approval.run_id.in_(runs), tables.Approval.state == "approve")
        .order_by(tables.Approval.id)
    )
    out: dict[int, tuple[str, list[str]]] = {}
    for run, by, despite in session.execute(approved):
        out[run] = (by or "", [*out.get(run, ("", []))[1], *(despite or [])])
    return out
