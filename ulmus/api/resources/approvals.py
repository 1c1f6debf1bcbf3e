"""Approvals: the desk."""

from __future__ import annotations

from flask import g
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field

from ...readmodels.approvals import ApprovalView, Measured, Queue, approval_view, queue
from ..http.base import Body, Fine, Problem, Reply, house, send
from ..schemas.answers import Answer, Text, measure, take
from ..security.auth import needs

bp = APIBlueprint("approvals", __name__, url_prefix="/api", abp_tags=[Tag(name="approvals")])


class ApprovalPath(BaseModel):
    id: int


class QueueQuery(Body):
    limit: int = Field(50, ge=1, le=1000)


@bp.get("/approvals", responses={200: Queue})
@needs("reader")
def waiting(query: QueueQuery) -> Reply:
    """Drafts that wait, oldest first, and the last ones decided."""
    with house().services.store.read() as session:
        return send(queue(session, query.limit))


@bp.get("/approvals/<int:id>", responses={200: ApprovalView})
@needs("reader")
def show(path: ApprovalPath) -> Reply:
    """One draft with all that is needed to decide."""
    return send(approval_view(house().services, house().engine, house().journals, path.id))


@bp.post("/approvals/<int:id>", responses={200: Fine, 409: Problem})
@needs("reviewer")
def answer(path: ApprovalPath, body: Answer) -> Reply:
    """Approve (with any changes made in place), send back with a note, or decline."""
    take(path.id, body, g.user.name)
    return send(Fine())


@bp.post("/approvals/<int:id>/measure", responses={200: Measured, 409: Problem})
@needs("reader")
def measured(path: ApprovalPath, body: Text) -> Reply:
    """The rules on a text that is being changed in place."""
    return send(measure(path.id, body))
