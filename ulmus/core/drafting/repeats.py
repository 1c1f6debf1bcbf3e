"""Repeats: how like a draft is to what was published before.

Three measures, of which the greatest counts: the angle between TF-IDF vectors (the same matter in the same words), the
share of the draft's runs of five words that stand in the earlier piece (whole phrases taken over), and how many words of both
stand in the same order (the same piece with some words put in place of others).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

RUN = 5
ANY_TWO = 0.35
"""So much of any two texts of a language stands in the same order: its small words."""
LOOKED_AT = 20
_WORD = re.compile(r"[^\W_]+")
_LINK = re.compile(r"https?://\S+|[#@]\w+")


class Nearest(NamedTuple):
    """The published piece a draft is most like: which, how much (0 to 1), and its text."""

    place: int
    alike: float
    text: str


class Published:
    """Pieces that went out, ready to be compared with; links, hashtags and mentions do not count."""

    def __init__(self, texts: Sequence[str]) -> None:
        from ..gather.nearness import Nearness  # loaded on first use: it is large

        self.texts = [text for text in texts if text.strip()]
        self._near = Nearness([_bare(text) for text in self.texts])

    def nearest(self, draft: str) -> Nearest | None:
        """The piece `draft` is most like, or ``None`` where nothing was published."""
        if not self.texts or not draft.strip():
            return None
        angles = self._near.to(_bare(draft))
        runs, words = _runs(draft), _words(draft)
        best = Nearest(0, -1.0, "")
        for i in angles.argsort()[::-1][:LOOKED_AT]:
            shared = len(runs & _runs(self.texts[i])) / len(runs) if runs else 0.0
            alike = max(float(angles[i]), shared, _in_order(words, _words(self.texts[i])))
            if alike > best.alike:
                best = Nearest(int(i), alike, self.texts[i])
        return best


def _bare(text: str) -> str:
    return _LINK.sub(" ", text)


def _words(text: str) -> list[str]:
    return [word.casefold() for word in _WORD.findall(_bare(text))]


def _in_order(some: list[str], others: list[str]) -> float:
    """How much two texts have in common in the same order: the longest common subsequence of their words against their lengths,
    from what any two texts of a language share (0) to all (1)."""
    if len(some) < RUN or len(others) < RUN:
        return 0.0
    # Bit-parallel, a bit for each word of the one text (Hyyrö 2004).
    places: dict[str, int] = {}
    for n, word in enumerate(some):
        places[word] = places.get(word, 0) | 1 << n
    whole = (1 << len(some)) - 1
    row = whole
    for word in others:
        hits = row & places.get(word, 0)
        row = (row + hits | row - hits) & whole
    common = 2 * (len(some) - row.bit_count()) / (len(some) + len(others))
    return max(0.0, (common - ANY_TWO) / (1 - ANY_TWO))


def _runs(text: str) -> set[tuple[str, ...]]:
    words = _words(text)
    return {tuple(words[i : i + RUN]) for i in range(len(words) - RUN + 1)}
