"""Signed links: an approval can be given without an account, by whoever holds the link."""

from __future__ import annotations

import hashlib
import hmac

from itsdangerous import BadSignature, SignatureExpired, URLSafeSerializer, URLSafeTimedSerializer

DAYS = 14


class LinkError(ValueError):
    """The link is not ours, was changed, or is too old."""


def sign(key: bytes, approval: int, who: str) -> str:
    """A token for `approval`, in the name of the person with the mail address `who`."""
    return _serializer(key).dumps([approval, who])


def check(key: bytes, token: str) -> tuple[int, str]:
    """The approval a token is for, and in whose name; nobody's, where it was made when only one person could be asked. Raises
    `LinkError`."""
    try:
        said = _serializer(key).loads(token, max_age=DAYS * 86400)
        approval, who = said if isinstance(said, list) else (said, "")
        return int(approval), str(who)
    except SignatureExpired:
        raise LinkError(f"This link is older than {DAYS} days. Ask for the draft under Approvals.") from None
    except (BadSignature, ValueError, TypeError):
        raise LinkError("This link is not complete. Open it from the mail again.") from None


def _serializer(key: bytes) -> URLSafeTimedSerializer:
    return URLSafeTimedSerializer(key, salt="approval")


def sign_key(key: bytes, what: str, number: int) -> str:
    """A token that names something for good, such as a form (``form``), a call (``call``) or a run that waits (``run``)."""
    return _lasting(key, what).dumps(number)


def read_key(key: bytes, what: str, token: str) -> int:
    """The number a lasting token names. Raises `LinkError`."""
    try:
        return int(_lasting(key, what).loads(token))
    except (BadSignature, ValueError, TypeError):
        raise LinkError("There is nothing at this address.") from None


def call_secret(key: bytes, workflow_id: int) -> str:
    """What callers of a workflow sign with; the same as long as the data's key is."""
    return hmac.new(key, f"call-secret:{workflow_id}".encode(), hashlib.sha256).hexdigest()


def hub_secret(key: bytes, workflow_id: int) -> str:
    """What a hub signs with what it tells a workflow's start (WebSub section 5.1.2)."""
    return hmac.new(key, f"hub-secret:{workflow_id}".encode(), hashlib.sha256).hexdigest()


def sign_of(identity: str, key: str) -> str:
    """What stands in the Message-ID of a mail that is answered, and in the address answers to it go to: made of the house's secret
    identity, so that only who got the mail can name it."""
    return hashlib.sha256(f"{identity}/{key}".encode()).hexdigest()[:32]


def _lasting(key: bytes, what: str) -> URLSafeSerializer:
    return URLSafeSerializer(key, salt=what)
