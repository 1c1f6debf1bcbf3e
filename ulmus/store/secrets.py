"""Secrets sealed at rest with Fernet; the key lies beside the database, readable by its owner only."""

from __future__ import annotations

import json
import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken


class Sealer:
    """Seals and opens small dictionaries of secrets; also signs links with the same key file."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / "secret.key"
        if not path.exists():
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(handle, "wb") as file:
                file.write(Fernet.generate_key())
        self.key = path.read_bytes().strip()
        self._fernet = Fernet(self.key)

    def seal(self, secrets: dict[str, str]) -> str:
        """The sealed form of `secrets`."""
        return self._fernet.encrypt(json.dumps(secrets).encode()).decode() if secrets else ""

    def open(self, sealed: str) -> dict[str, str]:
        """What was sealed; empty where the key has changed, so that a test of the connection says so."""
        if not sealed:
            return {}
        try:
            return json.loads(self._fernet.decrypt(sealed.encode()))
        except (InvalidToken, ValueError):
            return {}
