"""Samples: real starting items kept for proofing; shown or hidden, changed, led by, forgotten."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.workflow.briefs import shortened
from ...protocols.errors import OutsideError
from ...runtime import workflows
from ...runtime.runs import title_of
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("samples", __name__, url_prefix="/api", abp_tags=[Tag(name="samples")])


MOST_AT_ONCE = 8
MOST_ITEMS = 60
FOR_MACHINES = ("http:", "https:", "tag:", "urn:")


class WorkflowPath(BaseModel):
    id: int


class SamplePath(BaseModel):
    id: int
    sample: int


class SampleView(BaseModel):
    id: int
    label: str
    shown: bool
    item: dict[str, Any]


class SampleBody(Body):
    shown: bool | None = None
    item: dict[str, Any] | None = None
    lead: bool = False


class NewSample(Body):
    """A typed sample; or none, to take the start's latest items, or those of these identities."""

    item: dict[str, Any] | None = None
    count: int = Field(1, ge=1, le=MOST_AT_ONCE)
    identities: list[str] = Field([], max_length=MOST_AT_ONCE)


class FoundItemsQuery(Body):
    words: str = Field("", max_length=200)


class FoundItemView(BaseModel):
    """An item that the start finds now; `kept` where it is a sample already."""

    identity: str
    title: str
    about: str
    kept: bool


class FoundItemsView(BaseModel):
    items: list[FoundItemView]
    more: int
    """How many more fit."""


def samples_of(session: Session, workflow_id: int) -> list[tables.Sample]:
    """The samples of a workflow, the lead first."""
    found = select(tables.Sample).where(tables.Sample.workflow_id == workflow_id).order_by(tables.Sample.place, tables.Sample.id)
    return list(session.scalars(found))


@bp.post("/workflows/<int:id>/samples", responses={200: Fine, 502: Problem})
@needs("maker")
def add_sample(path: WorkflowPath, body: NewSample) -> Reply:
    """Keep a sample: the given item, or the start's latest that are not kept yet."""
    if body.item is not None:
        with house().services.store.write() as session:
            workflows.add_sample(session, path.id, body.item, "typed", house().services.clock())
        return send(Fine())
    try:
        new = workflows.capture(house().engine, path.id, body.count, body.identities)
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    if not new:
        raise Refusal("The start has no further items that are not samples already.", 409)
    return send(Fine())


@bp.get("/workflows/<int:id>/start/items", responses={200: FoundItemsView, 502: Problem})
@needs("maker")
def items(path: WorkflowPath, query: FoundItemsQuery) -> Reply:
    """What the start finds now, to choose samples from: the newest first."""
    try:
        found = workflows.there(house().engine, path.id)
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    with house().services.store.read() as session:
        kept = {sample.identity for sample in samples_of(session, path.id)}
    words = query.words.casefold().split()
    fitting = [(identity, item) for identity, item in reversed(found) if all(word in _told(item) for word in words)]
    views = [
        FoundItemView(identity=identity, title=title_of(item), about=_about(item), kept=identity in kept)
        for identity, item in fitting[:MOST_ITEMS]
    ]
    return send(FoundItemsView(items=views, more=max(0, len(fitting) - MOST_ITEMS)))


def _told(item: dict[str, Any]) -> str:
    return " ".join(str(value)[:500] for value in item.values()).casefold()


def _about(item: dict[str, Any]) -> str:
    """The first words of its other values; addresses and names made for machines say nothing."""
    title = title_of(item)
    others = [str(value) for value in item.values() if isinstance(value, str | int | float) and value not in ("", title)]
    return " · ".join([shortened(one, 60) for one in others if not one.startswith(FOR_MACHINES)][:3])


@bp.patch("/workflows/<int:id>/samples/<int:sample>", responses={200: Fine, 409: Problem})
@needs("maker")
def change_sample(path: SamplePath, body: SampleBody) -> Reply:
    """Show or hide a sample, or change its item."""
    with house().services.store.write() as session:
        sample = session.get_one(tables.Sample, path.sample)
        if body.shown is not None:
            shown = sum(s.shown for s in samples_of(session, path.id))
            if body.shown and not sample.shown and shown >= workflows.MOST_SHOWN:
                raise Refusal(f"At most {workflows.MOST_SHOWN} samples stand side by side. Hide one first.", 409)
            sample.shown = body.shown
        if body.lead:
            sample.shown = True
            sample.place = min((s.place for s in samples_of(session, path.id)), default=0) - 1
        if body.item is not None:
            sample.item = body.item
            sample.label = title_of(body.item)
    return send(Fine())


@bp.delete("/workflows/<int:id>/samples/<int:sample>", responses={200: Fine})
@needs("maker")
def drop_sample(path: SamplePath) -> Reply:
    """Forget a sample."""
    with house().services.store.write() as session:
        session.delete(session.get_one(tables.Sample, path.sample))
    return send(Fine())
