"""People who are asked: whom a line may name, and what each of them wants."""

from __future__ import annotations

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...store import tables
from ..http.base import Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..schemas.wants import Wants, set_wants, wants_of
from ..security.auth import needs

bp = Part("people", __name__, url_prefix="/api", abp_tags=[Tag(name="people")])
LATEST = 1000


class KnownPerson(BaseModel):
    """Somebody who may be named: a colleague with an account, or somebody who was asked before."""

    who: str
    name: str = ""
    colleague: bool = False


class PersonPath(BaseModel):
    who: str = Field(max_length=200)


@bp.get("/people", responses={200: Listing[KnownPerson]})
@needs("reader")
def known() -> Reply:
    """Colleagues by name, then those asked before."""
    with house().services.store.read() as session:
        users = session.execute(
            select(tables.User.email, tables.User.name).where(tables.User.ended_at.is_(None)).order_by(tables.User.name)
        )
        found = {email.casefold(): KnownPerson(who=email, name=name, colleague=True) for email, name in users}
        asked = select(tables.Approval.people).order_by(tables.Approval.id.desc()).limit(LATEST)
        for people in session.scalars(asked):
            for one in people:
                found.setdefault(one["who"].casefold(), KnownPerson(who=one["who"]))
    return send(list(found.values())[:200])


@bp.get("/people/<who>/wants", responses={200: Wants, 403: Problem})
@needs("reader")
def wants(path: PersonPath) -> Reply:
    """What a person wants: one's own, or anybody's for an owner."""
    with house().services.store.read() as session:
        return send(wants_of(session, _mine(path.who)))


@bp.put("/people/<who>/wants", responses={200: Fine, 403: Problem, 422: Problem})
@needs("reader")
def change_wants(path: PersonPath, body: Wants) -> Reply:
    """Set what a person wants."""
    set_wants(_mine(path.who), body, g.user.name)
    return send(Fine())


def _mine(who: str) -> str:
    if who.casefold() != g.user.email.casefold() and g.user.role != "owner":
        raise Refusal("Only an owner may see and set this for others.", 403)
    return who
