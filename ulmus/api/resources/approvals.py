"""Approvals: the desk."""

from __future__ import annotations

from typing import Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...readmodels.approvals import ApprovalView, Measured, approval_view
from ...readmodels.queue import Queue, StackView, queue, stack_view
from ...runtime.asking import people
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..schemas.answers import Answer, Text, measure, not_taken, take
from ..security.auth import needs

bp = Part("approvals", __name__, url_prefix="/api", abp_tags=[Tag(name="approvals")])


class ApprovalPath(BaseModel):
    id: int


class StackPath(BaseModel):
    workflow: int
    step: str = Field(max_length=40)


class ManyAnswers(Body):
    """Several questions by number, and what is said to each."""

    ids: list[int] = Field(min_length=1, max_length=50)
    verdict: Literal["approve", "decline"] = "approve"


class AnsweredView(BaseModel):
    """A question that was answered with others, or why it was not."""

    id: int
    wrong: str = ""


class QueueQuery(Body):
    limit: int = Field(50, ge=1, le=1000)


@bp.get("/approvals", responses={200: Queue})
@needs("reader")
def waiting(query: QueueQuery) -> Reply:
    """Questions that wait, those due first in front, stacks of alike ones, and the last ones decided."""
    with house().services.store.read() as session:
        return send(queue(session, query.limit, g.user.email))


@bp.get("/approvals/stacks/<int:workflow>/<step>", responses={200: StackView})
@needs("reader")
def stack(path: StackPath) -> Reply:
    """Alike questions of one line, as a table."""
    with house().services.store.read() as session:
        return send(stack_view(session, path.workflow, path.step, g.user.email))


@bp.post("/approvals/answers", responses={200: Listing[AnsweredView]})
@needs("reviewer")
def answers(body: ManyAnswers) -> Reply:
    """Approve or decline several as they are. Each is taken for itself; gives for each that was not, why."""
    out = []
    for number in dict.fromkeys(body.ids):
        try:
            take(number, Answer(verdict=body.verdict), g.user.name, _person(number))
            out.append(AnsweredView(id=number))
        except Refusal as error:
            out.append(AnsweredView(id=number, wrong=str(error)))
    return send(out)


@bp.post("/approvals/<int:id>/taken-back", responses={200: Fine, 409: Problem})
@needs("reviewer")
def take_back(path: ApprovalPath) -> Reply:
    """What a model read as a yes is none; the question stays open."""
    not_taken(path.id, g.user.name)
    return send(Fine())


@bp.get("/approvals/<int:id>", responses={200: ApprovalView})
@needs("reader")
def show(path: ApprovalPath) -> Reply:
    """One draft with all that is needed to decide."""
    return send(approval_view(house().services, house().engine, house().journals, path.id, g.user.email))


@bp.post("/approvals/<int:id>", responses={200: Fine, 409: Problem})
@needs("reviewer")
def answer(path: ApprovalPath, body: Answer) -> Reply:
    """Approve (with any changes made in place), send back with a note, or decline."""
    take(path.id, body, g.user.name, _person(path.id))
    return send(Fine())


@bp.post("/approvals/<int:id>/measure", responses={200: Measured, 409: Problem})
@needs("reader")
def measured(path: ApprovalPath, body: Text) -> Reply:
    """The rules on a text that is being changed in place."""
    return send(measure(path.id, body))


def _person(approval: int) -> str | None:
    """In whose name whoever is signed in answers: their own, where they are asked; else an owner may decide for all who are."""
    with house().services.store.read() as session:
        record = session.get(tables.Approval, approval)
    asked = record is not None and people.entry_of(record, g.user.email) is not None
    return None if g.user.role == "owner" and not asked else str(g.user.email)
