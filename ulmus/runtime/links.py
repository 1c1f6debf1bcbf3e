"""Signed links: an approval can be given without an account, by whoever holds the link."""

from __future__ import annotations

import hashlib
import hmac

from itsdangerous import BadSignature, SignatureExpired, URLSafeSerializer, URLSafeTimedSerializer

DAYS = 14


class LinkError(ValueError):
    """The link is not ours, was changed, or is too old."""


def sign(key: bytes, approval: int) -> str:
    """A token for `approval`."""
    return _serializer(key).dumps(approval)


def check(key: bytes, token: str) -> int:
    """The approval a token is for. Raises `LinkError`."""
    try:
        return int(_serializer(key).loads(token, max_age=DAYS * 86400))
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


def _lasting(key: bytes, what: str) -> URLSafeSerializer:
    return URLSafeSerializer(key, salt=what)
