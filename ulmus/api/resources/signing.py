"""One's own signing in: where one is signed in, the second step, and passkeys."""

from __future__ import annotations

from typing import Any

from flask import g
from flask_openapi3 import Tag
from itsdangerous import BadSignature, URLSafeTimedSerializer
from pydantic import BaseModel, Field
from sqlalchemy import delete, select

from ...runtime.services import audit
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import passkeys, second
from ..security.auth import MARK, TRIES, MarkPath, PasskeyOptions, at_passkeys, digest, needs
from ..security.passwords import matches

bp = Part("signing", __name__, url_prefix="/api/session", abp_tags=[Tag(name="session", description="Signing in and out")])

ISSUER = "Ulmus"
MOST_PASSKEYS = 20
PENDING = 15 * 60
"""Seconds within which a device that was shown its secret has to answer."""


class SignedInView(BaseModel):
    """A place one is signed in at: since when, when it was seen last (seconds since the epoch), from which address, by which
    program (as it names itself); `here` is this one."""

    mark: str
    begun_at: float | None
    seen_at: float | None
    place: str
    agent: str
    here: bool


class NewSecondView(BaseModel):
    """What a device takes the second step's secret from: a picture to point it at, or the secret to be typed. `token` comes back
    with the figures it then shows."""

    token: str
    secret: str
    address: str
    picture: str


class SecondBody(Body):
    token: str = Field(max_length=500)
    figures: str = Field(max_length=20)
    password: str = Field(max_length=400)


class PasswordBody(Body):
    password: str = Field(max_length=400)


class PasskeyView(BaseModel):
    """A passkey: its name, the host it was made for, when it was made and used last (seconds since the epoch)."""

    mark: str
    name: str
    place: str
    made_at: float
    used_at: float | None


class PasskeysView(BaseModel):
    """One's passkeys; `possible`: whether another can be made at the address the browser came to."""

    passkeys: list[PasskeyView]
    possible: bool


class PasskeyBody(Body):
    """What a device answered (RegistrationResponseJSON of Web Authentication), and what its passkey is to be called."""

    name: str = Field("", max_length=80)
    credential: dict[str, Any]


class CodesView(BaseModel):
    """Codes that each sign in once in the place of the figures. They are shown now and never again."""

    codes: list[str]


@bp.get("/places", responses={200: Listing[SignedInView]})
@needs("reader")
def listing() -> Reply:
    """Where one is signed in, the latest seen first."""
    now = house().services.clock()
    mine = tables.WebSession.user_id == g.user.id, tables.WebSession.expires_at > now
    with house().services.store.read() as session:
        found = list(session.scalars(select(tables.WebSession).where(*mine)))
    found.sort(key=lambda one: -(one.seen_at or 0))
    return send(
        [
            SignedInView(
                mark=one.id[:MARK],
                begun_at=one.begun_at,
                seen_at=one.seen_at,
                place=one.place,
                agent=one.agent,
                here=one.id == g.session.id,
            )
            for one in found
        ]
    )


@bp.delete("/places/<mark>", responses={200: Fine})
@needs("reader")
def end(path: MarkPath) -> Reply:
    """Sign out in one place."""
    services = house().services
    with services.store.write() as session:
        mine = tables.WebSession.user_id == g.user.id, tables.WebSession.id.startswith(path.mark)
        session.execute(delete(tables.WebSession).where(*mine))
        audit(session, services.clock(), g.user.email, "signed out elsewhere")
    return send(Fine())


@bp.post("/second", responses={200: NewSecondView, 409: Problem})
@needs("reader")
def begin() -> Reply:
    """Begin with a second step: a secret for a device. Nothing changes before the device has shown that it has it."""
    if g.user.second is not None:
        raise Refusal("You have a second step already. Take it away first.", 409)
    secret = second.new_secret()
    link = second.address(secret, g.user.email, ISSUER)
    token = str(_pending().dumps([g.user.id, secret]))
    return send(NewSecondView(token=token, secret=secret, address=link, picture=second.picture(link)))


@bp.put("/second", responses={200: CodesView, 403: Problem, 409: Problem, 422: Problem, 429: Problem})
@needs("reader")
def keep(body: SecondBody) -> Reply:
    """Keep the second step, once the device shows the right figures. Everywhere else one is signed out."""
    services, now = house().services, house().services.clock()
    _confirmed(body.password)
    try:
        owner, secret = _pending().loads(body.token, max_age=PENDING)
    except BadSignature:
        raise Refusal("That took too long. Begin again.", 409) from None
    step = second.step_of(secret, body.figures, now, 0) if owner == g.user.id else None
    if step is None:
        raise Refusal("These figures are not right. Type those the device shows now; its clock has to be right.", 422)
    codes = second.new_codes()
    with services.store.write() as session:
        user = session.get_one(tables.User, g.user.id)
        if user.second is not None:
            raise Refusal("You have a second step already. Take it away first.", 409)
        user.second, user.second_step = services.sealer.seal({"secret": secret}), step
        user.second_codes = [second.digest(code) for code in codes]
        others = tables.WebSession.user_id == user.id, tables.WebSession.id != g.session.id
        session.execute(delete(tables.WebSession).where(*others))
        audit(session, now, user.email, "set up a second step")
    return send(CodesView(codes=codes))


@bp.post("/second/away", responses={200: Fine, 403: Problem, 429: Problem})
@needs("reader")
def take_away(body: PasswordBody) -> Reply:
    """Sign in by the password alone again."""
    _confirmed(body.password)
    services = house().services
    with services.store.write() as session:
        user = session.get_one(tables.User, g.user.id)
        user.second = user.second_step = user.second_codes = None
        audit(session, services.clock(), user.email, "took the second step away")
    return send(Fine())


@bp.get("/passkeys", responses={200: PasskeysView})
@needs("reader")
def passkeys_of() -> Reply:
    """One's passkeys, and whether another can be made at this address."""
    with house().services.store.read() as session:
        found = select(tables.Passkey).where(tables.Passkey.user_id == g.user.id).order_by(tables.Passkey.made_at)
        kept = [
            PasskeyView(mark=digest(one.id)[:MARK], name=one.name, place=one.place, made_at=one.made_at, used_at=one.used_at)
            for one in session.scalars(found)
        ]
    return send(PasskeysView(passkeys=kept, possible=at_passkeys() is not None))


@bp.post("/passkeys/begin", responses={200: PasskeyOptions, 403: Problem, 409: Problem, 429: Problem})
@needs("reader")
def begin_passkey(body: PasswordBody) -> Reply:
    """Begin with a passkey: what the browser needs to have a device make one."""
    _confirmed(body.password)
    at, services = _at_passkeys(), house().services
    challenge = house().challenges.issue(g.user.email, services.clock())
    with services.store.read() as session:
        known = list(session.scalars(select(tables.Passkey.id).where(tables.Passkey.user_id == g.user.id)))
    if len(known) >= MOST_PASSKEYS:
        raise Refusal(f"You have {MOST_PASSKEYS} passkeys. Take one away first.", 409)
    return send(PasskeyOptions(options=passkeys.to_make(at, challenge, g.user.id, g.user.email, g.user.name, known)))


@bp.post("/passkeys", responses={201: Fine, 409: Problem, 422: Problem})
@needs("reader")
def keep_passkey(body: PasskeyBody) -> Reply:
    """Keep a passkey that a device has made."""
    at, services = _at_passkeys(), house().services
    now = services.clock()
    try:
        challenge = house().challenges.take(body.credential, g.user.email, now)
        number, public, count = passkeys.made(at, challenge, body.credential)
    except passkeys.NotProved as error:
        raise Refusal(str(error), 422) from None
    with services.store.write() as session:
        if session.get(tables.Passkey, number) is not None:
            raise Refusal("This passkey is known here already.", 409)
        name = body.name.strip() or "A passkey"
        session.add(tables.Passkey(id=number, user_id=g.user.id, public=public, count=count, name=name, place=at.host, made_at=now))
        audit(session, now, g.user.email, "made a passkey", name)
    return send(Fine(), 201)


@bp.delete("/passkeys/<mark>", responses={200: Fine, 404: Problem})
@needs("reader")
def passkey_away(path: MarkPath) -> Reply:
    """Take a passkey away: its device signs in no more."""
    services = house().services
    with services.store.write() as session:
        own = session.scalars(select(tables.Passkey).where(tables.Passkey.user_id == g.user.id))
        one = next((one for one in own if digest(one.id)[:MARK] == path.mark), None)
        if one is None:
            raise Refusal("There is no such passkey.", 404)
        session.delete(one)
        audit(session, services.clock(), g.user.email, "took a passkey away", one.name)
    return send(Fine())


def _at_passkeys() -> passkeys.Reached:
    """Where passkeys are made and used. Refuses (409) where they cannot be."""
    at = at_passkeys()
    if at is None:
        raise Refusal("Passkeys need the house’s own address with HTTPS. Open it there.", 409)
    return at


def _confirmed(password: str) -> None:
    """Raise where it is not one's password."""
    if house().tries.used_up([(f"second {g.user.email}", TRIES)], house().services.clock()):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    if not matches(g.user.password, password):
        raise Refusal("That is not your password.", 403)
    house().tries.forgive([(f"second {g.user.email}", TRIES)], house().services.clock())


def _pending() -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(house().services.sealer.key, salt="second-step")
