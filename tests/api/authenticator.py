"""A device with passkeys, in software (Web Authentication, level 3, section 6): honest unless it is told otherwise."""

from __future__ import annotations

import hashlib
import json
import os
import struct
from typing import Any

import cbor2
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from webauthn.helpers import bytes_to_base64url

PRESENT, VERIFIED, HAS_KEY = 0x01, 0x04, 0x40


class Authenticator:
    """One passkey. `origin` is what the browser says it is at; `verifies` whether the device asks its owner."""

    def __init__(self, origin: str, verifies: bool = True) -> None:
        self.origin, self.verifies = origin, verifies
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.id = os.urandom(32)
        self.count = 0

    def make(self, options: dict[str, Any]) -> dict[str, Any]:
        """What a browser answers where a passkey was made (RegistrationResponseJSON)."""
        numbers = self.key.public_key().public_numbers()
        cose = {1: 2, 3: -7, -1: 1, -2: numbers.x.to_bytes(32, "big"), -3: numbers.y.to_bytes(32, "big")}
        attested = bytes(16) + struct.pack(">H", len(self.id)) + self.id + cbor2.dumps(cose)
        data = self._data(options["rp"]["id"], HAS_KEY) + attested
        made = cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})
        return self._answer({"clientDataJSON": self._client("webauthn.create", options), "attestationObject": made})

    def prove(self, options: dict[str, Any]) -> dict[str, Any]:
        """What a browser answers where somebody signs in (AuthenticationResponseJSON)."""
        self.count += 1
        data, client = self._data(options["rpId"], 0), self._client("webauthn.get", options)
        signature = self.key.sign(data + hashlib.sha256(client).digest(), ec.ECDSA(hashes.SHA256()))
        return self._answer({"clientDataJSON": client, "authenticatorData": data, "signature": signature})

    def _data(self, place: str, more: int) -> bytes:
        flags = PRESENT | (VERIFIED if self.verifies else 0) | more
        return hashlib.sha256(place.encode()).digest() + struct.pack(">BI", flags, self.count)

    def _client(self, what: str, options: dict[str, Any]) -> bytes:
        return json.dumps({"type": what, "challenge": options["challenge"], "origin": self.origin, "crossOrigin": False}).encode()

    def _answer(self, response: dict[str, bytes]) -> dict[str, Any]:
        number = bytes_to_base64url(self.id)
        told = {name: bytes_to_base64url(value) for name, value in response.items()}
        return {"id": number, "rawId": number, "type": "public-key", "clientExtensionResults": {}, "response": told}
