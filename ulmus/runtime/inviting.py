"""Inviting somebody by mail to choose a password: a new colleague, or one who has lost theirs. The link counts once, for a week."""

from __future__ import annotations

import hashlib
import secrets

from itsdangerous import BadSignature, SignatureExpired, URLSafeTimedSerializer
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.pieces import Letter
from ..protocols import letters, mail
from ..protocols.errors import Misconfigured
from ..steps.connections import mail as connected
from ..store import tables
from .execution import guarded
from .links import LinkError
from .services import Services

DAYS = 7
NOT_YET = "invited:"
"""What the password of somebody begins with who has chosen none: no password fits it."""


def no_password() -> str:
    """What is kept in the place of a password that was not chosen yet."""
    return NOT_YET + secrets.token_hex(16)


def token_for(key: bytes, user: tables.User) -> str:
    """What a link carries by which somebody chooses a password."""
    return str(_serializer(key).dumps([user.email, _of(user.password)]))


def invite(services: Services, server: str, user: tables.User, by: str) -> None:
    """Mail somebody the link by which they choose a password, through a mail server (the key of a connection; empty: the only one
    there is). Raises `OutsideError` where it cannot be sent."""
    link = f"{services.public_url}/?invited={token_for(services.sealer.key, user)}"
    new = user.password.startswith(NOT_YET)
    subject = f"{by} invites you to Ulmus" if new else "A new password for Ulmus"
    said = (
        f"{by} has made you an account at {services.public_url}."
        if new
        else f"{by} sends you this, so that you can choose a new password."
    )
    text = (
        f"Hello {user.name},\n\n{said}\n\n[Choose your password]({link})\n\n"
        f"The link works once, and for {DAYS} days. If this is not meant for you, do nothing."
    )
    page = letters.page(text, subject, "markdown")
    letter = Letter(to=(user.email,), subject=subject, text=letters.in_plain(page), html=page)
    sender = connected.mailer(services.web, services.connect(server or _only(services), connected.KIND.name))
    guarded(lambda: mail.send(sender, mail.compose(sender, letter, secrets.token_hex(16), services.clock(), {})))


def invited(session: Session, key: bytes, token: str) -> tables.User:
    """Whom a link is for. Raises `LinkError` where it is not ours, too old, or was used."""
    try:
        email, digest = _serializer(key).loads(token, max_age=DAYS * 86400)
    except SignatureExpired:
        raise LinkError("This link is too old. Ask an owner for a new one.") from None
    except (BadSignature, ValueError, TypeError):
        raise LinkError("This link is not complete. Open it from the mail again.") from None
    user = session.scalar(select(tables.User).where(func.lower(tables.User.email) == str(email).lower()))
    if user is None or user.ended_at is not None or _of(user.password) != digest:
        raise LinkError("This link was used already. Sign in, or ask an owner for a new one.")
    return user


def _only(services: Services) -> str:
    with services.store.read() as session:
        keys = session.scalars(select(tables.Connection.key).where(tables.Connection.kind == "mail").limit(2)).all()
    if len(keys) != 1:
        raise Misconfigured(
            "Choose the mail server it goes through." if keys else "There is no mail server yet. Add one under Connections."
        )
    return keys[0]


def _of(password: str) -> str:
    """What of a kept password stands in a link, so that the link ends with it."""
    return hashlib.sha256(password.encode()).hexdigest()[:16]


def _serializer(key: bytes) -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(key, salt="invited")
