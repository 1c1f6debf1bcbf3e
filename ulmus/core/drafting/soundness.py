"""Soundness: whether an answer is an answer at all, before its rules are measured.

A refusal, a text that goes round in circles, and one that was cut off in the middle are sent back like a broken rule.
"""

from __future__ import annotations

import re
import zlib
from collections import Counter

from .rules import Finding

SOUND = "sound"
_REFUSAL = re.compile(
    r"^\W*(?:i(?:['’]m| am) (?:sorry|afraid|unable|not able)\b|sorry,|i (?:can(?:no|['’])t|won['’]t|must (?:decline|refuse))\b"
    r"|unfortunately,? i\b|as an? (?:ai|language model|assistant)\b)",
    re.I,
)
_HELP = re.compile(
    r"\bi(?:['’]m| am)? (?:can(?:no|['’])t|cannot|unable|not able|won['’]t|must (?:decline|refuse)|not (?:allowed|permitted))", re.I
)
_LEAST_LOOP = 400
_CIRCLE = 8.0


def unsound(text: str, cut: bool = False, limit: str = "") -> Finding | None:
    """What is wrong with an answer as such; ``None`` where it is an answer. `cut`: it ended at its greatest length, which `limit`
    tells by its setting."""
    if _REFUSAL.match(text) and _HELP.search(text[:300]):
        return _broken("the model refused", "You did not write the piece but refused. Write it, from what the material says.")
    if goes_round(text):
        return _broken("it repeats itself", "The text repeats itself over and over. Say each thing once.")
    if cut:
        return _broken(
            "cut off at its greatest length" + (f" ({limit})" if limit else ""),
            "Your answer was cut off before its end. Write it shorter, so that it ends.",
        )
    return None


def goes_round(text: str) -> bool:
    """Whether a text says the same over and over: it shrinks to less than an eighth when packed (DEFLATE, RFC 1951), or the
    same long line stands in it again and again."""
    if len(text) < _LEAST_LOOP:
        return False
    data = text[:200_000].encode()
    if len(data) / len(zlib.compress(data, 6)) > _CIRCLE:
        return True
    pieces = [p.strip() for p in re.split(r"(?<=[.!?])\s+|\n", text) if len(p.strip()) > 30]
    return bool(pieces) and Counter(pieces).most_common(1)[0][1] > 4


def _broken(says: str, reason: str) -> Finding:
    return Finding(rule=SOUND, strength="must", kept=False, says=says, reason=reason)
