"""Signed links: an approval can be given without an account, by whoever holds the link."""

from __future__ import annotations

from itsdangerous import BadSignature, SignatureExpired, URLSafeTimedSerializer

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
