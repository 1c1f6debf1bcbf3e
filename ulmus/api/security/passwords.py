"""Passwords: hashed with argon2, a few at a time; good enough by their length and by not being common."""

from __future__ import annotations

import threading

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

SHORTEST, LONGEST = 10, 200
GUESSED = 2
"""What cannot be guessed with so little effort (zxcvbn's scale from 0 to 4) will do."""

_hasher = PasswordHasher()
# Each takes much memory on purpose.
_at_once = threading.BoundedSemaphore(2)
_NOBODY = ""


def hash_password(password: str) -> str:
    """The argon2 hash to store."""
    with _at_once:
        return _hasher.hash(password)


def matches(stored: str | None, given: str) -> bool:
    """Whether a password is the one that was stored. Takes as long where nothing was: who asks learns nothing from the time."""
    global _NOBODY
    if stored is None:
        _NOBODY = _NOBODY or hash_password("nobody’s")
    with _at_once:
        try:
            return _hasher.verify(stored or _NOBODY, given) and stored is not None
        except (VerifyMismatchError, InvalidHashError):
            return False


def what_is_wrong(password: str, *about: str) -> str:
    """Why a password will not do, in words; empty where it will. `about` is what others know of its owner."""
    from zxcvbn import zxcvbn  # loaded on first use: its lists are long

    if len(password) < SHORTEST:
        return f"A password has at least {SHORTEST} characters. A few words in a row are easy to remember."
    if len(password) > LONGEST:
        return f"A password has at most {LONGEST} characters."
    if zxcvbn(password[:70], [part for one in about for part in (one, *one.replace("@", " ").split())])["score"] < GUESSED:
        return "This password is among the first that are tried. Choose one that is less common, such as a few words in a row."
    return ""
