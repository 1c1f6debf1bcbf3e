"""The accounts of a house: who may sign in, and as what."""

from __future__ import annotations

from typing import Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ...protocols.errors import OutsideError
from ...runtime import inviting
from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import MAIL, needs
from ..security.passwords import hash_password, what_is_wrong

bp = Part("accounts", __name__, url_prefix="/api", abp_tags=[Tag(name="accounts", description="Who may sign in")])
Role = Literal["owner", "maker", "reviewer", "reader"]


class AccountPath(BaseModel):
    id: int


class AccountView(BaseModel):
    id: int
    email: str
    name: str
    role: Role
    ended: bool
    invited: bool
    """Whether they have not chosen a password yet."""
    second: bool
    """Whether there is a second step when they sign in."""
    places: int
    """In how many places they are signed in."""
    brands: list[str] | None
    """The keys of the brands somebody is kept to; ``None``: they see all of the house."""


class NewAccount(Body):
    """Somebody new: with a password to begin with, or with `invite` by mail through `server` (the key of a connection; empty: the only
    mail server there is) to choose one."""

    email: str = Field(max_length=200, pattern=MAIL)
    name: str = Field(min_length=1, max_length=120)
    role: Role
    password: str = Field("", max_length=400)
    invite: bool = False
    server: str = Field("", max_length=60)
    brands: list[str] | None = Field(None, max_length=1000)


class InviteBody(Body):
    """Through which mail server; empty: the only one there is."""

    server: str = Field("", max_length=60)


class ChangedAccount(Body):
    """What is to be another; a password that is left out stays. Owners see all of the house, whatever `brands` says."""

    name: str = Field(min_length=1, max_length=120)
    role: Role
    password: str = Field("", max_length=400)
    brands: list[str] | None = Field(None, max_length=1000)
    """Left out, they stay as they are."""


@bp.get("/accounts", responses={200: Listing[AccountView]})
@needs("owner")
def listing() -> Reply:
    """All accounts, those that have ended last."""
    with house().services.store.read() as session:
        found = session.scalars(select(tables.User).order_by(tables.User.ended_at.is_not(None), tables.User.name))
        open_ = select(tables.WebSession.user_id, func.count()).where(tables.WebSession.expires_at > house().services.clock())
        places = dict(session.execute(open_.group_by(tables.WebSession.user_id)).tuples().all())
        return send([_view(user, places.get(user.id, 0)) for user in found])


@bp.post("/accounts", responses={201: AccountView, 409: Problem, 422: Problem, 502: Problem})
@needs("owner")
def create(body: NewAccount) -> Reply:
    """Add an account."""
    services, email = house().services, body.email.strip().lower()
    if not body.invite and (wrong := what_is_wrong(body.password, email, body.name)):
        raise Refusal(wrong, 422)
    hashed = inviting.no_password() if body.invite else hash_password(body.password)
    if body.invite:
        with services.store.read() as session:
            if session.scalar(select(tables.User.id).where(tables.User.email == email)) is not None:
                raise Refusal(f"{email} has an account already.", 409)
            _kept_to(session, body)
        # Where the mail cannot be sent, nothing is made.
        _invite(tables.User(email=email, name=body.name.strip(), password=hashed), body.server)
    with services.store.write() as session:
        if session.scalar(select(tables.User.id).where(tables.User.email == email)) is not None:
            raise Refusal(f"{email} has an account already.", 409)
        kept = _kept_to(session, body)
        user = tables.User(email=email, name=body.name.strip(), role=body.role, password=hashed, brands=kept)
        session.add(user)
        session.flush()
        how = "invited somebody" if body.invite else "added an account"
        audit(session, services.clock(), g.user.email, how, f"{email}, {body.role}")
        return send(_view(user), 201)


@bp.put("/accounts/<int:id>", responses={200: AccountView, 409: Problem, 422: Problem})
@needs("owner")
def change(path: AccountPath, body: ChangedAccount) -> Reply:
    """Change an account's name, role or password, or take one up again that had ended. With a new password it is signed out."""
    services = house().services
    hashed = ""
    with services.store.read() as session:
        email = session.get_one(tables.User, path.id).email
    if body.password:
        if wrong := what_is_wrong(body.password, email, body.name):
            raise Refusal(wrong, 422)
        hashed = hash_password(body.password)
    with services.store.write() as session:
        user = session.get_one(tables.User, path.id)
        if user.ended_at is not None and not hashed:
            raise Refusal("Give it a new password to take it up again.", 422)
        if body.role != "owner":
            _leaves_an_owner(session, user)
        user.name, user.role, user.ended_at = body.name.strip(), body.role, None
        if "brands" in body.model_fields_set or body.role == "owner":
            user.brands = _kept_to(session, body)
        if hashed:
            user.password = hashed
            session.execute(delete(tables.WebSession).where(tables.WebSession.user_id == user.id))
        audit(session, services.clock(), g.user.email, "changed an account", f"{user.email}, {body.role}")
        return send(_view(user))


@bp.delete("/accounts/<int:id>", responses={200: Fine, 409: Problem})
@needs("owner")
def end(path: AccountPath) -> Reply:
    """End an account: it is signed out everywhere and cannot sign in. What its owner did stays under their name."""
    services = house().services
    with services.store.write() as session:
        user = session.get_one(tables.User, path.id)
        _leaves_an_owner(session, user)
        user.ended_at = services.clock()
        session.execute(delete(tables.WebSession).where(tables.WebSession.user_id == user.id))
        audit(session, services.clock(), g.user.email, "ended an account", user.email)
    return send(Fine())


@bp.post("/accounts/<int:id>/invitation", responses={200: Fine, 409: Problem, 502: Problem})
@needs("owner")
def invite(path: AccountPath, body: InviteBody) -> Reply:
    """Mail somebody a link by which they choose a password; the one they have counts until then."""
    services = house().services
    with services.store.read() as session:
        user = session.get_one(tables.User, path.id)
    if user.ended_at is not None:
        raise Refusal("This account has ended. Take it up again first.", 409)
    _invite(user, body.server)
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "mailed a link for a password", user.email)
    return send(Fine())


def _invite(user: tables.User, server: str) -> None:
    try:
        inviting.invite(house().services, server, user, g.user.name)
    except OutsideError as error:
        raise Refusal(f"The mail could not be sent: {error.message}", 502) from None


@bp.delete("/accounts/<int:id>/second", responses={200: Fine})
@needs("owner")
def second_away(path: AccountPath) -> Reply:
    """Take away somebody's second step and passkeys, whose device is gone. They are signed out everywhere."""
    services = house().services
    with services.store.write() as session:
        user = session.get_one(tables.User, path.id)
        user.second = user.second_step = user.second_codes = None
        session.execute(delete(tables.Passkey).where(tables.Passkey.user_id == user.id))
        session.execute(delete(tables.WebSession).where(tables.WebSession.user_id == user.id))
        audit(session, services.clock(), g.user.email, "took somebody's second step away", user.email)
    return send(Fine())


@bp.delete("/accounts/<int:id>/places", responses={200: Fine})
@needs("owner")
def sign_out(path: AccountPath) -> Reply:
    """Sign somebody out everywhere."""
    services = house().services
    with services.store.write() as session:
        user = session.get_one(tables.User, path.id)
        session.execute(delete(tables.WebSession).where(tables.WebSession.user_id == user.id))
        audit(session, services.clock(), g.user.email, "signed somebody out everywhere", user.email)
    return send(Fine())


def _kept_to(session: Session, body: NewAccount | ChangedAccount) -> list[str] | None:
    """The brands somebody is to be kept to. Raises where one is not here."""
    if body.brands is None or body.role == "owner":
        return None
    there = set(session.scalars(select(tables.Brand.key)))
    if not body.brands or not there.issuperset(body.brands):
        raise Refusal("Choose at least one brand that is here, or let them see all of the house.", 422)
    return sorted(set(body.brands))


def _leaves_an_owner(session: Session, user: tables.User) -> None:
    """Raise where nobody would be left who can do everything."""
    others = select(func.count()).where(tables.User.role == "owner", tables.User.ended_at.is_(None), tables.User.id != user.id)
    if user.role == "owner" and user.ended_at is None and not session.scalar(others):
        raise Refusal("This is the last owner. Make somebody else an owner first.", 409)


def _view(user: tables.User, places: int = 0) -> AccountView:
    return AccountView(
        id=user.id,
        email=user.email,
        name=user.name,
        role=user.role,
        ended=user.ended_at is not None,
        invited=user.password.startswith(inviting.NOT_YET),
        second=user.second is not None,
        places=places,
        brands=user.brands,
    )
