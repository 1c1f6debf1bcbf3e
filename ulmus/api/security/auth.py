"""Accounts: sign-in, sessions kept on the server, CSRF tokens, roles, a limit on tries.

The cookie holds a random token; the database holds its SHA-256. Everything that changes something needs the session's CSRF
token in the header ``X-CSRF-Token``. Who is asking is known before anything else of a request is read (`gate`).

Tries are limited by account and place. A browser that has signed in to an account before keeps a signed cookie that says so,
and has tries of its own: whoever tries other people's passwords locks out nobody but themselves.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import secrets
from collections.abc import Callable
from typing import Any

from flask import current_app, g, make_response, request
from flask_openapi3 import Tag
from itsdangerous import BadSignature, URLSafeTimedSerializer
from pydantic import BaseModel, Field
from sqlalchemy import delete, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from ...runtime import inviting
from ...runtime.links import LinkError
from ...runtime.services import ASKED_FROM, audit
from ...store import sight, tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from . import members, passkeys, second
from .passwords import hash_password, matches, what_is_wrong

COOKIE, KNOWN = "ulmus_session", "ulmus_known"
LASTS, KNOWN_FOR = 30 * 86400, 180 * 86400
SEEN_EVERY = 300.0
"""Seconds after which it is noted again when somebody was seen."""
ROLES = ("reader", "reviewer", "maker", "owner")
TRIES, TRIES_OF_PLACE, TRIES_OF_ACCOUNT = 8, 100, 100
"""Wrong tries within the window: of one place at one account, of one place altogether, at one account from everywhere."""
MAIL = r"^\s*[^@\s]+@[^@\s]+\s*$"
"""What looks like a mail address."""
FOR_PEOPLE = ("/api/session", "/api/keys", "/api/accounts", "/api/events", "/api/push")
"""What only somebody does who has signed in, whatever a key's scope."""
SMALL_BODY = 64_000
"""Bytes of a request's body where no account is needed and nothing else is said."""

bp = Part("session", __name__, url_prefix="/api", abp_tags=[Tag(name="session", description="Signing in and out")])


class SignIn(Body):
    email: str = Field(max_length=200)
    password: str = Field(max_length=400)
    figures: str = Field("", max_length=20)
    """Those of the second step, or a code in their place, where there is one."""


class PasskeyOptions(BaseModel):
    """What a browser hands to a device, in the JSON form of Web Authentication."""

    options: dict[str, Any]


class PasskeyProof(Body):
    """What a device answered (AuthenticationResponseJSON of Web Authentication)."""

    credential: dict[str, Any]


class NewPassword(Body):
    """The password as it is and as it will be."""

    now: str = Field(max_length=400)
    new: str = Field(max_length=400)


class FirstAccount(Body):
    """The first account of a house, an owner's; `key` is known to whoever started the house."""

    key: str = Field(max_length=100)
    email: str = Field(max_length=200, pattern=MAIL)
    name: str = Field(min_length=1, max_length=120)
    password: str = Field(max_length=400)


class InvitedPath(BaseModel):
    token: str = Field(max_length=500)


class InvitedView(BaseModel):
    """Whom an invitation is for."""

    email: str
    name: str


class InvitedBody(Body):
    password: str = Field(max_length=400)


MARK = 16
"""Characters of a token's digest that tell it from others of the same person."""


class MarkPath(BaseModel):
    mark: str = Field(pattern=r"^[0-9a-f]{16}$")


class SessionView(BaseModel):
    """Who is signed in, if anybody, and what the sign-in page of a demonstration shows."""

    signed_in: bool
    empty: bool = False
    """Whether nobody has an account yet."""
    name: str = ""
    email: str = ""
    role: str = ""
    second: bool = False
    """Whether there is a second step at sign-in."""
    passkeys: bool = False
    """Whether one can sign in by a passkey at this address."""
    csrf: str = ""
    brands: list[str] | None = None
    """The brands that are seen, where not all of the house is."""
    demo: list[dict[str, str]] = []
    town_url: str = ""


def needs(role: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Let a view answer only to people of `role` or above, and check the CSRF token where something changes (see `gate`)."""

    def wrap(view: Callable[..., Any]) -> Callable[..., Any]:
        view.__needs__ = role  # type: ignore[attr-defined]
        return view

    return wrap


def room(size: int) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Let a view take a body of up to `size` bytes."""

    def wrap(view: Callable[..., Any]) -> Callable[..., Any]:
        view.__room__ = size  # type: ignore[attr-defined]
        return view

    return wrap


def gate() -> None:
    """Before anything of a request is read: who asks, from where, whether they may, and what of the house they see."""
    ASKED_FROM.set(request.remote_addr or "")
    view = current_app.view_functions.get(request.endpoint or "")
    role = getattr(view, "__needs__", None)
    if role is None:
        request.max_content_length = getattr(view, "__room__", SMALL_BODY)
        return
    request.max_content_length = getattr(view, "__room__", current_app.config["MAX_CONTENT_LENGTH"])
    if request.authorization is not None and request.authorization.type == "bearer":
        _by_key(role, request.authorization.token or "")
        return
    user, session = _who()
    if user is None or session is None:
        raise Refusal("Sign in first.", 401)
    if ROLES.index(user.role) < ROLES.index(role):
        raise Refusal(f"This needs the role “{role}”; you are signed in as “{user.role}”.", 403)
    given = request.headers.get("X-CSRF-Token", "")
    if request.method not in ("GET", "HEAD", "OPTIONS") and not hmac.compare_digest(given.encode(), session.csrf.encode()):
        raise Refusal("This page is out of date. Load it again.", 403)
    g.user, g.session = user, session
    sight.keep(members.of(user))
    members.look(house().services.store)


def _by_key(role: str, token: str) -> None:
    """Let another program ask in the name of whoever made its key, no further than the key's scope. Nobody's browser sends it by
    itself, so that it needs no CSRF token."""
    services, now = house().services, house().services.clock()
    if house().tries.used_up([(f"keys {request.remote_addr or ''}", TRIES_OF_PLACE)], now):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    with services.store.read() as db:
        key = db.get(tables.ApiKey, digest(token))
        user = db.get(tables.User, key.user_id) if key is not None else None
    if key is None or user is None or user.ended_at is not None:
        raise Refusal("This key is not known here, or was taken away.", 401)
    house().tries.forgive([(f"keys {request.remote_addr or ''}", TRIES_OF_PLACE)], now)
    may = min(user.role, key.scope, key=ROLES.index)
    if ROLES.index(may) < ROLES.index(role) or request.path.startswith(FOR_PEOPLE):
        raise Refusal(f"The key “{key.name}” may not do this.", 403)
    if (key.used_at or 0) < now - SEEN_EVERY or key.place != (request.remote_addr or ""):
        with contextlib.suppress(SQLAlchemyError), services.store.write() as db:
            kept = db.get(tables.ApiKey, key.digest)
            if kept is not None:
                kept.used_at, kept.place = now, request.remote_addr or ""
    g.user, g.session = user, None
    sight.keep(members.of(user))
    members.look(services.store)


def forget(_: BaseException | None) -> None:
    """A request is over: its thread sees all of the house again, until the next one is looked at."""
    sight.keep(None)
    ASKED_FROM.set("")


def _who() -> tuple[tables.User | None, tables.WebSession | None]:
    token = request.cookies.get(COOKIE, "")
    if not token:
        return None, None
    services = house().services
    with services.store.read() as db:
        session = db.get(tables.WebSession, digest(token))
        if session is None or session.expires_at < services.clock():
            return None, None
        user = db.get(tables.User, session.user_id)
    if user is None or user.ended_at is not None:
        return None, None
    if (session.seen_at or 0) < services.clock() - SEEN_EVERY:
        _seen(session)
    return user, session


def _seen(session: tables.WebSession) -> None:
    """Note when and where a session was seen; where that cannot be written, the next request tries again."""
    with contextlib.suppress(SQLAlchemyError), house().services.store.write() as db:
        kept = db.get(tables.WebSession, session.id)
        if kept is not None:
            kept.seen_at, kept.place, kept.agent = house().services.clock(), request.remote_addr or "", _agent()


def _agent() -> str:
    return str(request.user_agent.string)[:200]


def digest(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode("utf-8", "replace")).hexdigest()


@bp.get("/session", responses={200: SessionView})
def show() -> Reply:
    """Who is signed in."""
    user, session = _who()
    if user is None or session is None:
        passkey = at_passkeys() is not None
        return send(SessionView(signed_in=False, empty=_is_empty(), passkeys=passkey, demo=house().demo, town_url=house().town))
    return send(_view(user, session.csrf, house().town))


def _is_empty() -> bool:
    """Whether nobody has an account yet. A house that began with some asks no further."""
    if not house().first_key:
        return False
    with house().services.store.read() as db:
        return db.scalar(select(tables.User.id).limit(1)) is None


def _view(user: tables.User, csrf: str, town: str) -> SessionView:
    kept = members.of(user)
    brands = None if kept is None else sorted(kept)
    return SessionView(
        signed_in=True,
        name=user.name,
        email=user.email,
        role=user.role,
        csrf=csrf,
        brands=brands,
        town_url=town,
        second=user.second is not None,
    )


@bp.post("/session", responses={200: SessionView, 403: Problem, 429: Problem})
def sign_in(body: SignIn) -> Reply:
    """Sign in."""
    services = house().services
    now, email = services.clock(), body.email.strip().lower()
    tries = _tries_of(email)
    if house().tries.used_up(tries, now):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    with services.store.read() as db:
        user = db.scalar(select(tables.User).where(tables.User.email == email, tables.User.ended_at.is_(None)))
    if not matches(user.password if user is not None else None, body.password) or user is None:
        raise Refusal("That address and password do not belong together.", 403)
    if user.second is not None:
        _second_step(user, body.figures, now)
    house().tries.forgive(tries, now)
    response = _begin(user, now, "signed in")
    token = _known_here(email).dumps(email)
    response.set_cookie(KNOWN, str(token), max_age=KNOWN_FOR, httponly=True, samesite="Lax", secure=_secure())
    return response


@bp.post("/session/passkey/begin", responses={200: PasskeyOptions, 409: Problem, 429: Problem})
def begin_by_passkey() -> Reply:
    """Begin to sign in by a passkey: what the browser needs to ask a device."""
    at, now = at_passkeys(), house().services.clock()
    if at is None:
        raise Refusal("Passkeys need the house’s own address with HTTPS. Open it there.", 409)
    if house().tries.used_up([(f"passkey {request.remote_addr or ''}", TRIES_OF_PLACE)], now):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    return send(PasskeyOptions(options=passkeys.to_prove(at, house().challenges.issue("", now))))


@bp.post("/session/passkey", responses={200: SessionView, 403: Problem, 409: Problem})
def by_passkey(body: PasskeyProof) -> Reply:
    """Sign in by a passkey: it stands for both steps, since the device asks its owner."""
    services, at = house().services, at_passkeys()
    if at is None:
        raise Refusal("Passkeys need the house’s own address with HTTPS. Open it there.", 409)
    now = services.clock()
    try:
        challenge = house().challenges.take(body.credential, "", now)
        with services.store.read() as db:
            one = db.get(tables.Passkey, str(body.credential.get("id", ""))[:1400])
            user = db.get(tables.User, one.user_id) if one is not None else None
        if one is None or user is None or user.ended_at is not None:
            raise passkeys.NotProved("This passkey is not known here. Sign in with your password.")
        count = passkeys.proved(at, challenge, body.credential, one.public, one.count)
    except passkeys.NotProved as error:
        raise Refusal(str(error), 403) from None
    with services.store.write() as db:
        kept = db.get(tables.Passkey, one.id)
        if kept is None:
            raise Refusal("This passkey was taken away. Sign in with your password.", 403)
        kept.count, kept.used_at = count, now
    return _begin(user, now, "signed in by a passkey")


def at_passkeys() -> passkeys.Reached | None:
    """Where passkeys are made and used, as the browser came here; ``None`` where they cannot be."""
    return passkeys.reached(house().services.public_url, request.host_url)


@bp.post("/session/first", responses={200: SessionView, 403: Problem, 409: Problem, 422: Problem, 429: Problem})
def first(body: FirstAccount) -> Reply:
    """Make the first account of a house, and sign in with it."""
    services = house().services
    now, email = services.clock(), body.email.strip().lower()
    if house().tries.used_up([(f"first {request.remote_addr or ''}", TRIES)], now):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    if not house().first_key or not hmac.compare_digest(body.key.encode(), house().first_key.encode()):
        raise Refusal("This address is no longer right. The one to use stands where Ulmus was started last.", 403)
    if wrong := what_is_wrong(body.password, email, body.name):
        raise Refusal(wrong, 422)
    hashed = hash_password(body.password)
    with services.store.write() as db:
        if db.scalar(select(tables.User.id).limit(1)) is not None:
            raise Refusal("Somebody has an account here already. Sign in.", 409)
        user = tables.User(email=email, name=body.name.strip(), role="owner", password=hashed)
        db.add(user)
        audit(db, now, email, "made the first account", email)
    return _begin(user, now, "signed in")


@bp.get("/session/invited/<token>", responses={200: InvitedView, 404: Problem})
def invitation(path: InvitedPath) -> Reply:
    """Whom an invitation is for."""
    user = _invited(path.token)
    return send(InvitedView(email=user.email, name=user.name))


@bp.post("/session/invited/<token>", responses={200: SessionView, 404: Problem, 422: Problem})
def accept(path: InvitedPath, body: InvitedBody) -> Reply:
    """Choose a password by an invitation. Who has no second step is signed in with it; everywhere else they are signed out."""
    services, user = house().services, _invited(path.token)
    if wrong := what_is_wrong(body.password, user.email, user.name):
        raise Refusal(wrong, 422)
    hashed, now = hash_password(body.password), services.clock()
    with services.store.write() as db:
        # Once more, in the very transaction that uses it up.
        kept = _invited(path.token, db)
        kept.password = hashed
        db.execute(delete(tables.WebSession).where(tables.WebSession.user_id == kept.id))
        audit(db, now, kept.email, "chose a password by a mailed link")
    if user.second is not None:
        return send(SessionView(signed_in=False, demo=house().demo, town_url=house().town))
    return _begin(user, now, "signed in")


def _invited(token: str, db: Session | None = None) -> tables.User:
    services = house().services
    try:
        if db is not None:
            return inviting.invited(db, services.sealer.key, token)
        with services.store.read() as reading:
            return inviting.invited(reading, services.sealer.key, token)
    except LinkError as error:
        raise Refusal(str(error), 404) from None


def _second_step(user: tables.User, figures: str, now: float) -> None:
    """Raise where the second step was not taken: by the figures of a step that was not used yet, or by one of the codes."""
    services = house().services
    if not figures.strip():
        raise Refusal("Type the six figures that your device shows, or one of your codes.", 403, code="second")
    secret = services.sealer.open(user.second or "").get("secret", "")
    with services.store.write() as db:
        kept = db.get_one(tables.User, user.id)
        code, codes = second.digest(figures), list(kept.second_codes or [])
        if code in codes:
            codes.remove(code)
            kept.second_codes = codes
            audit(db, now, user.email, "used a code in place of the second step", f"{len(codes)} left")
            return
        step = second.step_of(secret, figures, now, kept.second_step or 0) if secret else None
        if step is None:
            raise Refusal("These figures are not right, or were used already. Wait for the next ones.", 403, code="second")
        kept.second_step = step


def _begin(user: tables.User, now: float, did: str) -> Any:
    """A new session of a person: the answer that tells of it, with its cookie."""
    services = house().services
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    with services.store.write() as db:
        db.execute(delete(tables.WebSession).where(tables.WebSession.expires_at < now))
        seen: dict[str, Any] = {"begun_at": now, "seen_at": now, "place": request.remote_addr or "", "agent": _agent()}
        db.add(tables.WebSession(id=digest(token), user_id=user.id, csrf=csrf, expires_at=now + LASTS, **seen))
        audit(db, now, user.email, did)
    response = make_response(send(_view(user, csrf, house().town)))
    response.set_cookie(COOKIE, token, max_age=LASTS, httponly=True, samesite="Lax", secure=_secure())
    return response


def _secure() -> bool:
    """Whether browsers come here by HTTPS, directly or through a proxy that is trusted."""
    return request.is_secure or house().services.public_url.startswith("https://")


def _known_here(email: str) -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(house().services.sealer.key, salt="known-browser")


def _tries_of(email: str) -> list[tuple[str, int]]:
    """What a try counts for, with how many there may be of each."""
    try:
        known = _known_here(email).loads(request.cookies.get(KNOWN, ""), max_age=KNOWN_FOR) == email
    except BadSignature:
        known = False
    if known:
        return [(f"browser {digest(request.cookies[KNOWN])}", TRIES)]
    place = request.remote_addr or ""
    return [(f"{place} at {email}", TRIES), (f"place {place}", TRIES_OF_PLACE), (f"account {email}", TRIES_OF_ACCOUNT)]


@bp.put("/session/password", responses={200: SessionView, 403: Problem, 422: Problem, 429: Problem})
@needs("reader")
def change_password(body: NewPassword) -> Reply:
    """Change one's password. Everywhere else one is signed out."""
    services, user = house().services, g.user
    now = services.clock()
    if house().tries.used_up([(f"change {user.email}", TRIES)], now):
        raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
    if not matches(user.password, body.now):
        raise Refusal("That is not your password as it is now.", 403)
    if wrong := what_is_wrong(body.new, user.email, user.name):
        raise Refusal(wrong, 422)
    hashed = hash_password(body.new)
    with services.store.write() as db:
        db.get_one(tables.User, user.id).password = hashed
        db.execute(delete(tables.WebSession).where(tables.WebSession.user_id == user.id))
    return _begin(user, now, "changed their password")


@bp.delete("/session", responses={200: Fine})
@needs("reader")
def sign_out() -> Reply:
    """Sign out; the session is forgotten on the server."""
    return _signed_out(tables.WebSession.id == g.session.id)


@bp.delete("/session/everywhere", responses={200: Fine})
@needs("reader")
def sign_out_everywhere() -> Reply:
    """Sign out here and on every other machine."""
    return _signed_out(tables.WebSession.user_id == g.user.id)


def _signed_out(which: Any) -> Reply:
    with house().services.store.write() as db:
        db.execute(delete(tables.WebSession).where(which))
    response = make_response(send(Fine()))
    response.delete_cookie(COOKIE)
    return response
