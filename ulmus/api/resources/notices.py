"""What is wrong, who is told of it, and the browsers that take pushes."""

from __future__ import annotations

from typing import Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from ...core.people import ADDRESS
from ...core.recurrence import RecurrenceError, zone_of
from ...protocols import webpush
from ...protocols.errors import OutsideError
from ...runtime.noticing.troubles import NAMES, What
from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..schemas.wants import Time
from ..security.auth import needs

bp = Part("notices", __name__, url_prefix="/api", abp_tags=[Tag(name="notices", description="What is wrong, and who is told")])
LATEST = 50
MOST_RULES = 50
MOST_LINES = 20


class NoticeView(BaseModel):
    """Something that is wrong, or was; `link` is where it is dealt with."""

    id: int
    what: What
    words: str
    link: str
    raised_at: float
    mended_at: float | None = None


class RuleBody(Body):
    """Who is told of what (of all, where nothing is named), of one workflow or of the house: by mail through a connection, in a room,
    or as a push to the browsers of somebody with an account; at once, or at a time of day in a zone."""

    workflow: int | None = None
    what: list[What] = []
    way: Literal["mail", "room", "push"]
    connection: str = Field("", max_length=60)
    to: str = Field("", max_length=200)
    at: Time | Literal[""] = ""
    zone: str = Field("", max_length=60)


class RuleView(RuleBody):
    id: int


class NoticesView(BaseModel):
    """What is wrong now, and what was lately; the troubles there are, in words."""

    standing: list[NoticeView]
    past: list[NoticeView]
    troubles: dict[str, str]


class RulePath(BaseModel):
    id: int


class RulesQuery(Body):
    workflow: int | None = None


class PushBody(Body):
    """A browser that takes pushes, as it says itself (Push API)."""

    endpoint: str = Field(max_length=2000)
    keys: dict[str, str]
    name: str = Field("", max_length=200)


class PushLineView(BaseModel):
    id: int
    name: str
    made_at: float


class PushView(BaseModel):
    """The house's public key for pushes (RFC 8292), and one's own browsers that take them."""

    key: str
    lines: list[PushLineView]


@bp.get("/notices", responses={200: NoticesView})
@needs("reader")
def notices() -> Reply:
    """What is wrong now, the latest first, and what was lately."""
    with house().services.store.read() as session:
        latest = select(tables.Notice).order_by(tables.Notice.id.desc()).limit(LATEST)
        standing = [_view(one) for one in session.scalars(latest.where(tables.Notice.mended_at.is_(None)))]
        past = [_view(one) for one in session.scalars(latest.where(tables.Notice.mended_at.is_not(None)))]
    return send(NoticesView(standing=standing, past=past, troubles=dict(NAMES)))


@bp.get("/notices/rules", responses={200: Listing[RuleView]})
@needs("maker")
def rules(query: RulesQuery) -> Reply:
    """Who is told: of one workflow, or of the house."""
    with house().services.store.read() as session:
        of = tables.NoticeRule.workflow_id == query.workflow
        found = session.scalars(select(tables.NoticeRule).where(of).order_by(tables.NoticeRule.id))
        return send([_rule(one) for one in found])


@bp.post("/notices/rules", responses={201: RuleView, 403: Problem, 409: Problem, 422: Problem})
@needs("maker")
def add_rule(body: RuleBody) -> Reply:
    """Have somebody told from now on."""
    _may(body.workflow)
    now = house().services.clock()
    with house().services.store.write() as session:
        _check(session, body)
        if len(session.scalars(select(tables.NoticeRule.id)).all()) >= MOST_RULES:
            raise Refusal(f"There are {MOST_RULES} already. Take one out first.", 409)
        rule = tables.NoticeRule(
            workflow_id=body.workflow,
            what=body.what,
            way=body.way,
            connection=body.connection,
            to=body.to.strip(),
            at=body.at,
            zone=body.zone,
            since=now,
            told_until=now,
        )
        session.add(rule)
        session.flush()
        audit(session, now, g.user.name, "said who is told when something is wrong", f"{body.way} {body.to or body.connection}")
        return send(_rule(rule), 201)


@bp.delete("/notices/rules/<int:id>", responses={200: Fine, 403: Problem})
@needs("maker")
def drop_rule(path: RulePath) -> Reply:
    """Have somebody told no more."""
    with house().services.store.write() as session:
        rule = session.get(tables.NoticeRule, path.id)
        if rule is not None:
            _may(rule.workflow_id)
            session.delete(rule)
    return send(Fine())


@bp.get("/push", responses={200: PushView})
@needs("reader")
def push() -> Reply:
    """The house's key for pushes, and one's own browsers."""
    with house().services.store.read() as session:
        mine = session.scalars(select(tables.PushLine).where(tables.PushLine.user_id == g.user.id).order_by(tables.PushLine.id))
        lines = [PushLineView(id=one.id, name=one.name, made_at=one.made_at) for one in mine]
    return send(PushView(key=webpush.public_key(house().services.sealer.key), lines=lines))


@bp.post("/push", responses={201: PushLineView, 409: Problem, 422: Problem})
@needs("reader")
def add_push(body: PushBody) -> Reply:
    """Have pushes sent to this browser."""
    try:
        webpush.line_of(body.endpoint, body.keys)
    except OutsideError as error:
        raise Refusal(error.message, 422) from None
    with house().services.store.write() as session:
        session.execute(delete(tables.PushLine).where(tables.PushLine.endpoint == body.endpoint))
        mine = session.scalars(select(tables.PushLine).where(tables.PushLine.user_id == g.user.id)).all()
        if len(mine) >= MOST_LINES:
            raise Refusal(f"{MOST_LINES} browsers take pushes already. Take one out first.", 409)
        keys = {"p256dh": body.keys["p256dh"], "auth": body.keys["auth"]}
        line = tables.PushLine(
            user_id=g.user.id, endpoint=body.endpoint, keys=keys, name=body.name, made_at=house().services.clock()
        )
        session.add(line)
        session.flush()
        return send(PushLineView(id=line.id, name=line.name, made_at=line.made_at), 201)


@bp.delete("/push/<int:id>", responses={200: Fine})
@needs("reader")
def drop_push(path: RulePath) -> Reply:
    """Send no more pushes to one of one's browsers."""
    with house().services.store.write() as session:
        session.execute(delete(tables.PushLine).where(tables.PushLine.id == path.id, tables.PushLine.user_id == g.user.id))
    return send(Fine())


def _may(workflow: int | None) -> None:
    if workflow is None and g.user.role != "owner":
        raise Refusal("Only an owner says who is told for the whole house.", 403)


def _check(session: Session, body: RuleBody) -> None:
    to = body.to.strip()
    if body.workflow is not None and session.get(tables.WorkflowRecord, body.workflow) is None:
        raise Refusal("There is no such workflow.", 422)
    if body.way in ("mail", "push") and not ADDRESS.fullmatch(to):
        raise Refusal("Write the mail address of whoever is told, such as ines@example.org.", 422)
    kinds = {"mail": ("mail",), "room": ("room", "chatroom"), "push": ()}[body.way]
    record = session.get(tables.Connection, body.connection) if body.connection else None
    if kinds and (record is None or record.kind not in kinds):
        raise Refusal("Choose through which mail server." if body.way == "mail" else "Choose the room.", 422)
    try:
        zone_of(body.zone or "UTC")
    except RecurrenceError as error:
        raise Refusal(str(error), 422) from None


def _view(notice: tables.Notice) -> NoticeView:
    return NoticeView.model_validate(notice, from_attributes=True)


def _rule(rule: tables.NoticeRule) -> RuleView:
    told = {name: getattr(rule, name) for name in ("id", "what", "way", "connection", "to", "at", "zone")}
    return RuleView(workflow=rule.workflow_id, **told)
