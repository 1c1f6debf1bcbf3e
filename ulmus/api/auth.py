"""Accounts: sign-in with argon2 passwords, sessions kept on the server, CSRF tokens, roles, a limit on tries.

The cookie holds a random token; the database holds its SHA-256. Everything that changes something needs the
session's CSRF token in the header ``X-CSRF-Token``.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
import threading
from collections import defaultdict
from collections.abc import Callable
from functools import wraps
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from flask import g, make_response, request
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ..runtime.services import audit
from ..store import tables
from .base import Fine, Problem, Refusal, Reply, house, send

COOKIE = "ulmus_session"
LASTS = 30 * 86400
ROLES = ("reader", "reviewer", "maker", "owner")
TRIES, WINDOW = 8, 300.0

bp = APIBlueprint("session", __name__, url_prefix="/api", abp_tags=[Tag(name="session", description="Signing in and out")])
_hasher = PasswordHasher()
_tries: dict[str, list[float]] = defaultdict(list)
_tries_lock = threading.Lock()


class SignIn(BaseModel):
    email: str = Field(max_length=200)
    password: str = Field(max_length=400)


class SessionView(BaseModel):
    """Who is signed in, if anybody, and what the sign-in page of a demonstration shows."""

    signed_in: bool
    name: str = ""
    email: str = ""
    role: str = ""
    csrf: str = ""
    demo: list[dict[str, str]] = []
    town_url: str = ""


def hash_password(password: str) -> str:
    """The argon2 hash to store."""
    return _hasher.hash(password)


def needs(role: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Let a view answer only to people of `role` or above, and check the CSRF token where something changes."""

    def wrap(view: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(view)
        def inside(*args: Any, **kwargs: Any) -> Any:
            user, session = _who()
            if user is None or session is None:
                raise Refusal("Sign in first.", 401)
            if ROLES.index(user.role) < ROLES.index(role):
                raise Refusal(f"This needs the role “{role}”; you are signed in as “{user.role}”.", 403)
            if request.method not in ("GET", "HEAD") and not hmac.compare_digest(
                request.headers.get("X-CSRF-Token", ""), session.csrf
            ):
                raise Refusal("This page is out of date. Load it again.", 403)
            g.user = user
            return view(*args, **kwargs)

        return inside

    return wrap


def _who() -> tuple[tables.User | None, tables.WebSession | None]:
    token = request.cookies.get(COOKIE, "")
    if not token:
        return None, None
    services = house().services
    with services.store.read() as db:
        session = db.get(tables.WebSession, hashlib.sha256(token.encode()).hexdigest())
        if session is None or session.expires_at < services.clock():
            return None, None
        return db.get(tables.User, session.user_id), session


@bp.get("/session", responses={200: SessionView})
def show() -> Reply:
    """Who is signed in."""
    user, session = _who()
    demo, town = house().demo, house().town_url
    if user is None or session is None:
        return send(SessionView(signed_in=False, demo=demo, town_url=town))
    return send(SessionView(signed_in=True, name=user.name, email=user.email, role=user.role, csrf=session.csrf, town_url=town))


@bp.post("/session", responses={200: SessionView, 403: Problem, 429: Problem})
def sign_in(body: SignIn) -> Reply:
    """Sign in."""
    services = house().services
    now = services.clock()
    place = request.remote_addr or ""
    with _tries_lock:
        recent = _tries[place] = [t for t in _tries[place] if t > now - WINDOW]
        if len(recent) >= TRIES:
            raise Refusal("Too many tries. Wait five minutes, then try again.", 429)
        recent.append(now)
    with services.store.read() as db:
        user = db.scalar(select(tables.User).where(tables.User.email == body.email.strip().lower()))
    if user is None or not _matches(user.password, body.password):
        raise Refusal("That address and password do not belong together.", 403)
    with _tries_lock:
        _tries.pop(place, None)
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    with services.store.write() as db:
        digest = hashlib.sha256(token.encode()).hexdigest()
        db.add(tables.WebSession(id=digest, user_id=user.id, csrf=csrf, expires_at=now + LASTS))
        audit(db, now, user.email, "signed in")
    view = SessionView(signed_in=True, name=user.name, email=user.email, role=user.role, csrf=csrf, town_url=house().town_url)
    response = make_response(send(view))
    response.set_cookie(COOKIE, token, max_age=LASTS, httponly=True, samesite="Lax", secure=request.is_secure)
    return response


@bp.delete("/session", responses={200: Fine})
@needs("reader")
def sign_out() -> Reply:
    """Sign out; the session is forgotten on the server."""
    token = request.cookies.get(COOKIE, "")
    with house().services.store.write() as db:
        session = db.get(tables.WebSession, hashlib.sha256(token.encode()).hexdigest())
        if session is not None:
            db.delete(session)
    response = make_response(send(Fine()))
    response.delete_cookie(COOKIE)
    return response


def _matches(stored: str, given: str) -> bool:
    try:
        return _hasher.verify(stored, given)
    except (VerifyMismatchError, InvalidHashError):
        return False
