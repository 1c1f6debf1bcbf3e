"""The questions that wait, as a list read in seconds: by when they are due, alike ones of one line together as a stack."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from pydantic import BaseModel
from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from ..core.diff import Change, changes
from ..core.workflow import Workflow, sentence
from ..runtime.asking import QUESTION, people
from ..runtime.services import world
from ..steps import kinds
from ..store import tables
from .journals import step_of
from .models import ChangeView

DECIDED = 20
STACK_FROM = 4
"""So many alike questions stand together as a stack."""
LONGEST_IN_STACK = 1500
MOST_IN_STACK = 500
MARKED = 60
"""So many rows of a stack have what is other in them marked; comparing all of hundreds takes seconds, and those come up in turn."""


class AskedPerson(BaseModel):
    """A person who is asked, in whose place, and what they said."""

    who: str
    name: str = ""
    instead_of: str = ""
    said: str = ""
    said_at: float | None = None
    waits: bool = False


class QuestionBrief(BaseModel):
    """A question at a glance: the piece's form, where and to whom it goes, its opening words, the rules it breaks, how many of its
    sentences are doubtful, and why a piece cannot be made."""

    form: str = ""
    channels: list[str] = []
    to: str = ""
    head: str = ""
    opening: str = ""
    length: int | None = None
    limit: int | None = None
    broken: list[str] = []
    doubtful: int = 0
    wrong: list[str] = []


class TakenYes(BaseModel):
    """A yes that a model read in an answer, to the draft or to a `text` it took for the draft written anew; it counts at `until`."""

    by: str
    until: float
    text: str | None = None


class ApprovalSummary(BaseModel):
    id: int
    title: str
    workflow: int
    workflow_name: str
    brand_name: str = ""
    run: int
    who: str
    people: list[AskedPerson] = []
    needs: str = "one"
    mine: bool = False
    text: str
    round: int
    state: str
    question: bool = False
    created_at: float
    due_at: float | None = None
    goes_at: float | None = None
    deadline_at: float | None = None
    deadline_then: str = ""
    lapsed_at: float | None = None
    decided_at: float | None = None
    decided_by: str = ""
    broken: list[str] = []
    despite: list[str] = []
    brief: QuestionBrief | None = None
    taken: TakenYes | None = None


class StackBrief(BaseModel):
    """Alike questions of one line: how many, how many of them break a rule or have something doubtful, and when the first is due."""

    workflow: int
    step: str
    workflow_name: str
    brand_name: str = ""
    line: str
    count: int
    broken: int = 0
    doubtful: int = 0
    due_at: float | None = None
    since: float
    opening: str = ""


class Queue(BaseModel):
    """The questions that wait, those due first in front; stacks of alike ones; how many wait altogether; and the last ones decided."""

    open: list[ApprovalSummary]
    stacks: list[StackBrief]
    waiting: int
    decided: list[ApprovalSummary]


class StackRow(ApprovalSummary):
    """One of a stack, with what is other in it than in the one before."""

    marks: list[ChangeView] = []
    last: bool = False


class StackView(BaseModel):
    """A stack, one row each; `count` is how many there are altogether."""

    workflow: int
    step: str
    workflow_name: str
    brand_name: str = ""
    line: str
    rows: list[StackRow]
    count: int


def joined() -> Select[tables.Approval, str, int, str, str]:
    """Questions with what stands around them."""
    return (
        select(tables.Approval, tables.Run.title, tables.WorkflowRecord.id, tables.WorkflowRecord.name, tables.Brand.name)
        .join(tables.Run, tables.Run.id == tables.Approval.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .outerjoin(tables.Brand, tables.Brand.key == tables.WorkflowRecord.brand)
    )


def queue(session: Session, limit: int, viewer: str = "") -> Queue:
    """Questions that wait, and the last ones decided, as the person with the mail address `viewer` sees them."""
    approval = tables.Approval
    groups: dict[tuple[int, str], list[int]] = defaultdict(list)
    due: dict[int, tuple[float, int]] = {}
    for number, address, workflow, at in session.execute(
        select(approval.id, approval.address, tables.Run.workflow_id, approval.due_at)
        .join(tables.Run)
        .where(approval.state == "open")
    ):
        groups[workflow, step_of(address)].append(number)
        due[number] = (float("inf") if at is None else at, number)
    stacked = {place: ids for place, ids in groups.items() if len(ids) >= STACK_FROM}
    within = {number for ids in stacked.values() for number in ids}
    first = sorted(due.keys() - within, key=due.__getitem__)[:limit]
    waiting = sorted(session.execute(joined().where(approval.id.in_(first))).all(), key=lambda row: due[row[0].id])
    past: list[Any] = []
    for state in ("approve", "back", "decline"):
        latest = joined().where(approval.state == state).order_by(approval.decided_at.desc())
        past += session.execute(latest.limit(DECIDED)).all()
    past = sorted(past, key=lambda row: -(row[0].decided_at or 0))[:DECIDED]
    names = names_of(session)
    return Queue(
        open=[summary(*row, names=names, viewer=viewer) for row in waiting],
        stacks=[_stack(session, *place, ids) for place, ids in stacked.items()],
        waiting=sum(map(len, groups.values())),
        decided=[summary(*row, names=names, viewer=viewer) for row in past],
    )


def names_of(session: Session) -> dict[str, str]:
    """The names of those who have an account, by address in lower case."""
    return {email.casefold(): name for email, name in session.execute(select(tables.User.email, tables.User.name))}


def summary(
    approval: tables.Approval,
    title: str,
    workflow: int,
    name: str,
    brand: str | None,
    *,
    names: dict[str, str],
    viewer: str = "",
) -> ApprovalSummary:
    """A question as a list shows it."""
    waits = {who.casefold() for who in people.waited_for(approval)} if approval.state == "open" else set()
    taken = approval.taken or {}
    return ApprovalSummary(
        id=approval.id,
        title=title,
        workflow=workflow,
        workflow_name=name,
        brand_name=brand or "",
        run=approval.run_id,
        who=approval.who,
        people=[
            AskedPerson(
                who=one["who"],
                name=names.get(one["who"].casefold(), ""),
                instead_of=one.get("instead_of", ""),
                said=one.get("said", ""),
                said_at=one.get("said_at"),
                waits=one["who"].casefold() in waits,
            )
            for one in approval.people
        ],
        needs=approval.needs,
        mine=viewer.casefold() in waits,
        text=approval.text,
        round=approval.round,
        state=approval.state,
        question=approval.draft == QUESTION,
        created_at=approval.created_at,
        due_at=approval.due_at,
        goes_at=approval.goes_at,
        deadline_at=approval.deadline_at,
        deadline_then=str(approval.deadline.get("then", "")),
        lapsed_at=approval.lapsed_at,
        decided_at=approval.decided_at,
        decided_by=approval.decided_by,
        broken=approval.broken or [],
        despite=approval.despite or [],
        brief=QuestionBrief.model_validate(approval.brief) if approval.brief else None,
        taken=TakenYes(by=taken.get("by", ""), until=approval.taken_until, text=taken.get("text"))
        if taken and approval.taken_until
        else None,
    )


def _stack(session: Session, workflow: int, step: str, ids: Sequence[int]) -> StackBrief:
    approval = tables.Approval
    some: list[Any] = []
    for at in range(0, len(ids), 500):
        told = select(approval.brief, approval.due_at, approval.created_at).where(approval.id.in_(ids[at : at + 500]))
        some += session.execute(told).all()
    briefs = [brief or {} for brief, _, _ in some]
    record = session.get_one(tables.WorkflowRecord, workflow)
    brand = session.get(tables.Brand, record.brand) if record.brand else None
    return StackBrief(
        workflow=workflow,
        step=step,
        workflow_name=record.name,
        brand_name=brand.name if brand is not None else "",
        line=_line(session, ids[0], step),
        count=len(ids),
        broken=sum(bool(brief.get("broken")) for brief in briefs),
        doubtful=sum(bool(brief.get("doubtful")) for brief in briefs),
        due_at=min((due for _, due, _ in some if due is not None), default=None),
        since=min(created for _, _, created in some),
        opening=next((str(brief["opening"]) for brief in briefs if brief.get("opening")), ""),
    )


def _line(session: Session, approval: int, step: str) -> str:
    """The sentence of the line that asks, on the page its run follows."""
    document = session.scalar(
        select(tables.Revision.document)
        .join(tables.Run, tables.Run.revision_id == tables.Revision.id)
        .join(tables.Approval, tables.Approval.run_id == tables.Run.id)
        .where(tables.Approval.id == approval)
    )
    line = Workflow.model_validate(document).line(step) if document else None
    return "".join(part.text for part in sentence(line, kinds().get(line.kind), world(session))) if line is not None else step


def stack_view(session: Session, workflow: int, step: str, viewer: str = "") -> StackView:
    """A stack as a table. What is marked in a row is what is other than in the row before it (in the first, than in the second)."""
    approval = tables.Approval
    open_ = joined().where(approval.state == "open", tables.Run.workflow_id == workflow).order_by(approval.id)
    found = [row for row in session.execute(open_) if step_of(row[0].address) == step]
    names = names_of(session)
    some = found[:MOST_IN_STACK]
    texts = [row[0].text[:LONGEST_IN_STACK] for row in some]
    rows = []
    for at, row in enumerate(some):
        beside = texts[at - 1] if at else texts[min(1, len(texts) - 1)]
        found_changes = changes(beside, texts[at]) if at < MARKED else [Change("same", texts[at])]
        marks = [ChangeView(what=c.what, text=c.text) for c in found_changes if c.what != "removed"]
        rows.append(StackRow(**summary(*row, names=names, viewer=viewer).model_dump(), marks=marks, last=row[0].last))
    record = session.get_one(tables.WorkflowRecord, workflow)
    brand = session.get(tables.Brand, record.brand) if record.brand else None
    return StackView(
        workflow=workflow,
        step=step,
        workflow_name=record.name,
        brand_name=brand.name if brand is not None else "",
        line=_line(session, some[0][0].id, step) if some else "",
        rows=rows,
        count=len(found),
    )
