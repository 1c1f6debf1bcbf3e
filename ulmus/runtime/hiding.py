"""What a removed person is still known by: nothing one could read, but enough that what they asked for holds and nothing is done twice.

Of an address or the identity of an item a keyed digest (HMAC-SHA256, RFC 2104) is kept in its place; the key is the house's own.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Callable

from sqlalchemy import Connection
from sqlalchemy.orm import Session

from ..store.db import set_fact

FACT = "hiding key"
SIGN = "#"


def hidden(connection: Connection, text: str) -> str:
    """What stands for a text from now on."""
    key = _key(connection)
    if key is None:
        set_fact(connection, FACT, key := secrets.token_hex(32))
    return _digest(key, text)


def known_as(session: Session, text: str) -> tuple[str, ...]:
    """As what a text may stand in the database: itself, and hidden where this house has hidden any."""
    return names(session.connection())(text)


def names(connection: Connection) -> Callable[[str], tuple[str, ...]]:
    """As `known_as`, for many texts."""
    key = _key(connection)
    return lambda text: (text,) if key is None else (text, _digest(key, text))


def _key(connection: Connection) -> str | None:
    found = connection.exec_driver_sql("SELECT value FROM house WHERE name = ?", (FACT,)).scalar()
    return str(found) if found else None


def _digest(key: str, text: str) -> str:
    return SIGN + hmac.digest(key.encode(), text.encode("utf-8", "surrogatepass"), hashlib.sha256).hex()[:40]
