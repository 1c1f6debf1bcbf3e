"""Keys of workers: each has one of its own, of which the house keeps a digest under the worker's name."""

from __future__ import annotations

import hmac
import re
import secrets
import threading

from cachetools import TTLCache, cached

from ...store import Store
from .auth import digest

FACT = "worker key "
_LOCK = threading.Lock()
_READ: TTLCache[str, dict[str, str]] = TTLCache(8, 2.0)


def make_key(store: Store, name: str) -> str:
    """A new key for the workers called so; one made before under this name is void. Raises `ValueError` for no name."""
    wanted = called(name)
    if not wanted:
        raise ValueError("Give the worker a name.")
    key = secrets.token_urlsafe(32)
    store.note(FACT + wanted, digest(key))
    with _LOCK:
        _READ.clear()
    return key


def called(name: str) -> str:
    """A worker's name as one word that can stand in an address."""
    return "-".join(re.findall(r"[\w.-]+", name)).strip(".-")[:60]


def names(store: Store) -> list[str]:
    """The names under which there are keys."""
    return sorted(_kept(store))


def take_away(store: Store, name: str) -> bool:
    """Take a key away, and whether there was one: who shows it is refused from now on."""
    found = name in _kept(store)
    store.note(FACT + name, None)
    with _LOCK:
        _READ.clear()
    return found


def whose(store: Store, key: str) -> str:
    """The name of the worker that shows a key; empty where it is nobody's."""
    asked = digest(key)
    return next((name for name, kept in _kept(store).items() if hmac.compare_digest(kept, asked)), "")


@cached(_READ, key=lambda store: store.identity, lock=_LOCK)
def _kept(store: Store) -> dict[str, str]:
    """Digests by names; what another process changed is noticed within a moment."""
    with store.read() as session:
        rows = session.connection().exec_driver_sql("SELECT name, value FROM house WHERE name GLOB ?", (f"{FACT}*",)).all()
    return {str(name).removeprefix(FACT): str(value) for name, value in rows}
