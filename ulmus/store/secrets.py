"""Secrets sealed at rest with Fernet; the key lies beside the database, readable by its owner only."""

from __future__ import annotations

import json
import os
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from .db import Store
from .trouble import DataTrouble, in_words

KEY = "secret.key"
PROOF = "key_proof"
NO_KEY = (
    "The data folder has no secret.key: without it the secrets of connections cannot be read, and the addresses of calls, forms and"
    " approval letters are void. Put the key back (a backup has it), or make a new one: ulmus new-key."
)
OTHER_KEY = (
    "The secret.key in the data folder is not the one its secrets were sealed with. Put the right one back (a backup has it), or"
    " make a new one: ulmus new-key."
)


def _in_use(store: Store) -> bool:
    """Whether there is anything yet that a key was needed for: a connection, or a workflow with its addresses."""
    with store.engine.connect() as connection:
        return any(connection.exec_driver_sql(f"SELECT 1 FROM {table} LIMIT 1").first() for table in ("connections", "workflows"))


class Sealer:
    """Seals and opens small dictionaries of secrets; also signs links with the same key file. A key is made where there is
    none; where there must be one (not `may_make`), that is `DataTrouble`."""

    def __init__(self, folder: Path, may_make: bool = True) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / KEY
        with in_words(folder):
            if not path.exists():
                if not may_make:
                    raise DataTrouble(NO_KEY)
                handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
                with os.fdopen(handle, "wb") as file:
                    file.write(Fernet.generate_key())
            self.key = path.read_bytes().strip()
        try:
            self._fernet = Fernet(self.key)
        except ValueError:
            raise DataTrouble(OTHER_KEY) from None

    @classmethod
    def of(cls, store: Store) -> Sealer:
        """The key of a data folder, which has to be the one it was begun with. Raises `DataTrouble`."""
        proof = store.fact(PROOF)
        sealer = cls(store.folder, may_make=proof is None and not _in_use(store))
        if proof is None:
            store.note(PROOF, sealer.seal({"of": store.identity}))
        elif not sealer.open(proof):
            raise DataTrouble(OTHER_KEY)
        return sealer

    @classmethod
    def anew(cls, store: Store) -> Sealer:
        """A new key for a data folder that has lost its own: what was sealed is lost, and links that were signed are void."""
        (store.folder / KEY).unlink(missing_ok=True)
        sealer = cls(store.folder)
        store.note(PROOF, sealer.seal({"of": store.identity}))
        with store.writing() as connection:
            # A second step whose secret cannot be read would let nobody in.
            connection.exec_driver_sql("UPDATE users SET second = NULL, second_step = NULL, second_codes = NULL")
        return sealer

    def seal(self, secrets: dict[str, str]) -> str:
        """The sealed form of `secrets`."""
        return self._fernet.encrypt(json.dumps(secrets).encode()).decode() if secrets else ""

    def open(self, sealed: str) -> dict[str, str]:
        """What was sealed; empty where the key has changed, so that a test of the connection says so."""
        if not sealed:
            return {}
        try:
            opened: dict[str, str] = json.loads(self._fernet.decrypt(sealed.encode()))
            return opened
        except (InvalidToken, ValueError):
            return {}
