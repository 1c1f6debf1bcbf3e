"""The second step at sign-in: six figures of a device that change every thirty seconds (TOTP, RFC 6238), and codes for once, for
when the device is gone."""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
import secrets

import pyotp
import segno

STEP = 30
LENIENT = 1
"""So many steps a device's clock may be off, each way."""
CODES = 10


def new_secret() -> str:
    """A secret of 160 bits, in base32 as devices take it."""
    return pyotp.random_base32()


def address(secret: str, email: str, issuer: str) -> str:
    """The address by which a device takes the secret (``otpauth:``)."""
    return pyotp.TOTP(secret).provisioning_uri(name=email, issuer_name=issuer)


def picture(link: str) -> str:
    """An address as a picture to point a device at (QR code, ISO/IEC 18004), as a ``data:`` address."""
    return str(segno.make(link, error="m").svg_data_uri(scale=5, border=2))


def step_of(secret: str, figures: str, now: float, last: int) -> int | None:
    """The step that the figures are of; ``None`` where they are wrong, or of a step that is not behind the `last` that was used."""
    given = re.sub(r"\D", "", figures)
    totp = pyotp.TOTP(secret)
    here = int(now) // STEP
    for step in range(here - LENIENT, here + LENIENT + 1):
        if step > last and hmac.compare_digest(totp.generate_otp(step), given):
            return step
    return None


def new_codes() -> list[str]:
    """Codes for once, of 50 bits each, as they are written down."""
    drawn = (base64.b32encode(secrets.token_bytes(10)).decode().lower()[:10] for _ in range(CODES))
    return [f"{code[:5]}-{code[5:]}" for code in drawn]


def digest(code: str) -> str:
    """What is kept of a code, however it is typed."""
    return hashlib.sha256(re.sub(r"[^a-z0-9]", "", code.lower()).encode()).hexdigest()
