"""A house's first hour: what is needed before the first piece goes out, and the practice town to try it with."""

from __future__ import annotations

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...runtime.services import audit
from ...store import tables
from ...store.db import set_fact
from ..http.base import Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs
from .connections import sends_through, tested

bp = Part("beginning", __name__, url_prefix="/api/house", abp_tags=[Tag(name="house", description="The house itself")])

PUT_AWAY = "first_steps_put_away"


class StepTaken(BaseModel):
    """What a step was taken with: its key and name, and what its last test said."""

    key: str
    name: str
    ok: bool | None = None
    says: str = ""


class FirstSteps(BaseModel):
    """How far a house has come to its first piece; what is ``None`` is not there yet."""

    town: str
    """Where the practice town is open; empty where it is not."""
    model: StepTaken | None
    channel: StepTaken | None
    brand: StepTaken | None
    page: StepTaken | None
    """The latest page; `ok` says whether it is live, `says` how its first run stands."""


@bp.post("/practice", responses={201: FirstSteps, 409: Problem})
@needs("owner")
def practise() -> Reply:
    """Open the practice town beside the house, with a model, a network, a search and mail to try everything with."""
    if house().town_url:
        raise Refusal("The practice town is open already.", 409)
    try:
        keys = house().practice.begin(g.user.email)
    except OSError as error:
        raise Refusal(f"The practice town could not be opened. {error}", 409) from None
    for key in keys:
        tested(key)
    with house().services.store.read() as session:
        return send(_steps(session), 201)


@bp.delete("/first-steps", responses={200: Fine})
@needs("owner")
def put_away() -> Reply:
    """Show the first steps no more."""
    with house().services.store.write() as session:
        set_fact(session.connection(), PUT_AWAY, "1")
        audit(session, house().services.clock(), g.user.email, "put the first steps away")
    return send(Fine())


def first_steps(session: Session) -> FirstSteps | None:
    """How far the house has come; ``None`` once a piece has gone out, or where somebody put them away."""
    sent = select(tables.Piece.id).where(tables.Piece.state == "sent").limit(1)
    if session.scalar(sent) is not None or house().services.store.fact(PUT_AWAY):
        return None
    return _steps(session)


def _steps(session: Session) -> FirstSteps:
    def connected(*wanted: str) -> StepTaken | None:
        # One that answers stands before one that does not, and one's own before that of the practice town.
        found = select(tables.Connection).where(tables.Connection.kind.in_(wanted))
        best = max(session.scalars(found), key=lambda c: (bool(c.test_ok), not c.key.startswith("practice_"), c.key), default=None)
        return StepTaken(key=best.key, name=best.name, ok=best.test_ok, says=best.test_says) if best is not None else None

    brand = session.scalar(select(tables.Brand).order_by(tables.Brand.name).limit(1))
    live_first = tables.WorkflowRecord.state != "live", tables.WorkflowRecord.id.desc()
    page = session.scalar(select(tables.WorkflowRecord).where(tables.THERE).order_by(*live_first).limit(1))
    return FirstSteps(
        town=house().town,
        model=connected("model"),
        channel=connected(*sends_through()),
        brand=StepTaken(key=brand.key, name=brand.name) if brand is not None else None,
        page=_page(session, page) if page is not None else None,
    )


def _page(session: Session, page: tables.WorkflowRecord) -> StepTaken:
    latest = select(tables.Run.state).where(tables.Run.workflow_id == page.id).order_by(tables.Run.id.desc()).limit(1)
    return StepTaken(key=str(page.id), name=page.name, ok=page.state == "live", says=session.scalar(latest) or "")
