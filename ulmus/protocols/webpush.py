"""Web Push: messages to browsers (RFC 8030), encrypted for them (RFC 8291), from a server that says who it is (RFC 8292)."""

from __future__ import annotations

import base64
import hashlib
import hmac
import os
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import http_ece
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec
from py_vapid import Vapid02

from .errors import Misconfigured, NotFound, RateLimited, Refused, TooLarge, Unreachable
from .net import Web

LIVES = 86_400
"""Seconds for which a push service keeps a message for a browser that is not there."""
LONGEST = 3000
"""Bytes of a message; push services take 4096 with what encryption adds (RFC 8030, section 7.2)."""
_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
"""The order of the curve P-256."""


@dataclass(frozen=True)
class Line:
    """A browser that takes pushes: where, and its keys (RFC 8291, section 2)."""

    endpoint: str
    p256dh: str
    auth: str


def house_key(secret: bytes) -> Vapid02:
    """The key a house says who it is with: always the same for its secret, so that browsers that know it stay."""
    number = int.from_bytes(hmac.new(secret, b"web push", hashlib.sha256).digest(), "big") % (_ORDER - 1) + 1
    return Vapid02(ec.derive_private_key(number, ec.SECP256R1()))


def public_key(secret: bytes) -> str:
    """The house's public key as browsers want it (uncompressed, URL-safe base64 without padding)."""
    key = house_key(secret).public_key
    raw = key.public_bytes(serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode()


def line_of(endpoint: str, keys: Mapping[str, Any]) -> Line:
    """A browser as it says where it is reached. Raises `Misconfigured` where that can be no browser's."""
    line = Line(endpoint, str(keys.get("p256dh", "")), str(keys.get("auth", "")))
    parts = urlsplit(endpoint)
    try:
        point, secret = _bytes(line.p256dh), _bytes(line.auth)
        ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), point)
    except ValueError:
        raise Misconfigured("This browser’s keys cannot be read.") from None
    if len(secret) != 16 or parts.scheme not in ("https", "http") or not parts.hostname:
        raise Misconfigured("This browser does not say where it can be reached.")
    return line


def push(web: Web, line: Line, message: bytes, secret: bytes, contact: str) -> None:
    """Have a message shown by a browser. `contact` is the house's address (RFC 8292, section 2.1). Raises `OutsideError`: `NotFound`
    where the browser takes no pushes any more."""
    if len(message) > LONGEST:
        raise TooLarge(f"A push holds at most {LONGEST} bytes; this has {len(message)}.")
    body = http_ece.encrypt(
        message,
        salt=os.urandom(16),
        private_key=ec.generate_private_key(ec.SECP256R1()),
        dh=_bytes(line.p256dh),
        auth_secret=_bytes(line.auth),
        version="aes128gcm",
    )
    parts = urlsplit(line.endpoint)
    who = contact if contact.startswith(("https:", "mailto:")) else "mailto:nobody@invalid.example"
    signed = house_key(secret).sign({"sub": who, "aud": f"{parts.scheme}://{parts.netloc}"})
    headers = {**signed, "Content-Encoding": "aes128gcm", "TTL": str(LIVES), "Urgency": "normal"}
    headers["Content-Type"] = "application/octet-stream"
    got = web.fetch(line.endpoint, method="POST", content=body, headers=headers, max_seconds=20, follow=())
    match got.status:
        case 200 | 201 | 202 | 204:
            return
        case 404 | 410:
            raise NotFound("This browser takes no pushes any more.")
        case 429:
            raise RateLimited("The push service asks for patience.", retryable=True)
        case status if status >= 500:
            raise Unreachable(f"The push service cannot ({status}).", retryable=True)
        case status:
            raise Refused(f"The push service does not take it ({status}).")


def _bytes(text: str) -> bytes:
    try:
        return base64.b64decode(text + "=" * (-len(text) % 4), altchars=b"-_", validate=True)
    except ValueError:
        raise ValueError("this is no base64") from None
