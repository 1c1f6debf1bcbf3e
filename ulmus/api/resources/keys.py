"""Keys for other programs: made by a person, used in their name, no further than their scope, and shown once."""

from __future__ import annotations

import secrets
from typing import Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import delete, select

from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import MARK, ROLES, MarkPath, digest, needs

bp = Part("keys", __name__, url_prefix="/api/keys", abp_tags=[Tag(name="keys", description="Keys for other programs")])

BEGINS = "ulmus_"
MOST = 50
Scope = Literal["reader", "reviewer", "maker"]


class ProgramKeyView(BaseModel):
    """A key without itself: what it is called, how far it may go, whose it is, when and from where it was used last."""

    mark: str
    name: str
    scope: Scope
    whose: str
    made_at: float
    used_at: float | None
    place: str


class NewProgramKey(Body):
    name: str = Field(min_length=1, max_length=80)
    scope: Scope


class MadeProgramKey(BaseModel):
    """The key, shown now and never again. It goes into the header ``Authorization: Bearer …`` (RFC 6750)."""

    key: str


@bp.get("", responses={200: Listing[ProgramKeyView]})
@needs("reader")
def listing() -> Reply:
    """One's own keys; an owner sees everybody's."""
    wanted = select(tables.ApiKey, tables.User.email).join(tables.User).order_by(tables.ApiKey.made_at.desc())
    if g.user.role != "owner":
        wanted = wanted.where(tables.ApiKey.user_id == g.user.id)
    with house().services.store.read() as session:
        found = session.execute(wanted).all()
    return send(
        [
            ProgramKeyView(
                mark=key.digest[:MARK],
                name=key.name,
                scope=key.scope,
                whose=email,
                made_at=key.made_at,
                used_at=key.used_at,
                place=key.place,
            )
            for key, email in found
        ]
    )


@bp.post("", responses={201: MadeProgramKey, 403: Problem, 409: Problem})
@needs("reader")
def make(body: NewProgramKey) -> Reply:
    """Make a key. It may no more than oneself."""
    if ROLES.index(body.scope) > ROLES.index(g.user.role):
        raise Refusal("A key may no more than you.", 403)
    services, key = house().services, BEGINS + secrets.token_urlsafe(30)
    with services.store.write() as session:
        if len(session.scalars(select(tables.ApiKey.digest).where(tables.ApiKey.user_id == g.user.id)).all()) >= MOST:
            raise Refusal(f"You have {MOST} keys. Take one away first.", 409)
        made = {"digest": digest(key), "name": body.name.strip(), "scope": body.scope}
        session.add(tables.ApiKey(**made, user_id=g.user.id, made_at=services.clock()))
        audit(session, services.clock(), g.user.email, "made a key", f"{body.name.strip()}, {body.scope}")
    return send(MadeProgramKey(key=key), 201)


@bp.delete("/<mark>", responses={200: Fine})
@needs("reader")
def take_away(path: MarkPath) -> Reply:
    """Take a key away: one's own, and for an owner anybody's."""
    services, key = house().services, tables.ApiKey
    mine = [] if g.user.role == "owner" else [key.user_id == g.user.id]
    with services.store.write() as session:
        name = session.scalar(select(key.name).where(key.digest.startswith(path.mark), *mine))
        if name is not None:
            session.execute(delete(key).where(key.digest.startswith(path.mark), *mine))
            audit(session, services.clock(), g.user.email, "took a key away", name)
    return send(Fine())
