"""Passkeys: signing in by a device that holds a key of its own and knows its owner (Web Authentication, level 3).

A device signs a challenge of this house for the place the house is reached at; it asks its owner first (by finger, face or figures), so
that a passkey is both steps of signing in. A challenge is good once, for five minutes. Nothing secret of a passkey is ever here.
"""

from __future__ import annotations

import ipaddress
import json
import secrets
import threading
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import webauthn
from webauthn.helpers import base64url_to_bytes, bytes_to_base64url, options_to_json
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

LASTS = 300.0
MOST_OPEN = 10_000
NAME = "Ulmus"


class NotProved(ValueError):
    """What the device answered does not prove what it should."""


@dataclass(frozen=True)
class Reached:
    """Where the house is reached: the name passkeys are made for (`host`), and the whole origin browsers tell of."""

    host: str
    origin: str


def reached(public_url: str, asked: str) -> Reached | None:
    """Where passkeys can be used: at the house's public address, or at ``localhost`` on its own machine. `asked` is the address the
    browser came to; ``None`` where passkeys cannot be (a bare number, or no HTTPS)."""
    here = urlsplit(asked)
    host = (here.hostname or "").lower()
    if host != "localhost" and (host != (urlsplit(public_url).hostname or "").lower() or _is_number(host)):
        return None
    if host != "localhost" and not public_url.startswith("https://"):
        return None
    origin = f"{here.scheme}://{here.netloc}" if host == "localhost" else "https://" + urlsplit(public_url).netloc
    return Reached(host, origin)


def _is_number(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


class Challenges:
    """Challenges that are open, for whom (empty: whoever signs in). Each is taken once."""

    def __init__(self) -> None:
        self._open: dict[bytes, tuple[str, float]] = {}
        self._lock = threading.Lock()

    def issue(self, whose: str, now: float) -> bytes:
        """A new challenge."""
        challenge = secrets.token_bytes(32)
        with self._lock:
            self._open = {c: (w, until) for c, (w, until) in self._open.items() if until > now}
            while len(self._open) >= MOST_OPEN:
                self._open.pop(next(iter(self._open)))
            self._open[challenge] = (whose, now + LASTS)
        return challenge

    def take(self, credential: Any, whose: str, now: float) -> bytes:
        """The challenge that a device answered, which is open no more. Raises `NotProved`."""
        try:
            data = json.loads(base64url_to_bytes(str(credential["response"]["clientDataJSON"])))
            challenge = base64url_to_bytes(str(data["challenge"]))
        except (KeyError, TypeError, ValueError):
            raise NotProved("That is no answer of a passkey.") from None
        with self._lock:
            for_whom, until = self._open.pop(challenge, ("", 0.0))
        if until <= now or for_whom != whose:
            raise NotProved("That took too long, or was used before. Try again.")
        return challenge


def to_make(at: Reached, challenge: bytes, user_id: int, email: str, name: str, known: list[str]) -> dict[str, Any]:
    """What a browser needs to make a passkey (PublicKeyCredentialCreationOptionsJSON); `known` are those there are."""
    options = webauthn.generate_registration_options(
        rp_id=at.host,
        rp_name=NAME,
        user_id=f"ulmus {user_id}".encode(),
        user_name=email,
        user_display_name=name,
        challenge=challenge,
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.REQUIRED, user_verification=UserVerificationRequirement.REQUIRED
        ),
        exclude_credentials=[PublicKeyCredentialDescriptor(id=base64url_to_bytes(one)) for one in known],
    )
    told: dict[str, Any] = json.loads(options_to_json(options))
    return told


def made(at: Reached, challenge: bytes, credential: dict[str, Any]) -> tuple[str, str, int]:
    """A passkey that was made: its id, its public key (COSE, base64url), and its count. Raises `NotProved`."""
    try:
        found = webauthn.verify_registration_response(
            credential=credential,
            expected_challenge=challenge,
            expected_rp_id=at.host,
            expected_origin=at.origin,
            require_user_verification=True,
        )
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise NotProved("The device’s answer could not be checked. Try again.") from error
    return bytes_to_base64url(found.credential_id), bytes_to_base64url(found.credential_public_key), found.sign_count


def to_prove(at: Reached, challenge: bytes) -> dict[str, Any]:
    """What a browser needs to sign in by a passkey (PublicKeyCredentialRequestOptionsJSON), whosever it is."""
    options = webauthn.generate_authentication_options(
        rp_id=at.host, challenge=challenge, user_verification=UserVerificationRequirement.REQUIRED
    )
    told: dict[str, Any] = json.loads(options_to_json(options))
    return told


def proved(at: Reached, challenge: bytes, credential: dict[str, Any], public: str, count: int) -> int:
    """Check that a passkey signed the challenge; gives its new count. Raises `NotProved`, also where the count says that there are two
    of it."""
    try:
        found = webauthn.verify_authentication_response(
            credential=credential,
            expected_challenge=challenge,
            expected_rp_id=at.host,
            expected_origin=at.origin,
            credential_public_key=base64url_to_bytes(public),
            credential_current_sign_count=count,
            require_user_verification=True,
        )
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise NotProved("This passkey could not be checked. Sign in with your password.") from error
    return found.new_sign_count
