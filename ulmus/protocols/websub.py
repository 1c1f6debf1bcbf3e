"""Hubs (WebSub, a W3C Recommendation), for who listens: a hub is asked to tell of a topic, asks back whether that was meant, and then
calls when there is something new. What it calls with is signed."""

from __future__ import annotations

import hashlib
import hmac

from .net import Web, status_error

METHODS = {"sha1": hashlib.sha1, "sha256": hashlib.sha256, "sha384": hashlib.sha384, "sha512": hashlib.sha512}
WANTED = 7 * 86_400
"""Seconds for which a hub is asked to tell; it may agree to less or more."""


def ask(web: Web, hub: str, mode: str, topic: str, callback: str, secret: str) -> None:
    """Ask a hub to tell (``subscribe``) or not to any more (``unsubscribe``). Raises `OutsideError` where it refuses at once."""
    data = {"hub.mode": mode, "hub.topic": topic, "hub.callback": callback}
    if mode == "subscribe":
        data |= {"hub.secret": secret, "hub.lease_seconds": str(WANTED)}
    got = web.fetch(hub, method="POST", data=data, max_bytes=100_000, follow=(307, 308))
    if not 200 <= got.status < 300:
        raise status_error(got, "The feed’s hub")


def is_signed(secret: str, header: str, body: bytes) -> bool:
    """Whether what came was signed with our secret (section 7.1)."""
    method, _, value = header.strip().partition("=")
    if method.lower() not in METHODS or not value:
        return False
    wanted = hmac.new(secret.encode(), body, METHODS[method.lower()]).hexdigest()
    return hmac.compare_digest(wanted.encode(), value.strip().lower().encode("utf-8", "replace"))
