"""Repeats: how like a draft is to what was published before.

Two measures, of which the greater counts: the angle between TF-IDF vectors (the same matter in the same words), and the
share of the draft's runs of five words that stand in the earlier piece (whole phrases taken over).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

RUN = 5
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
        runs = _runs(draft)
        best = Nearest(0, -1.0, "")
        for i in angles.argsort()[::-1][:LOOKED_AT]:
            shared = len(runs & _runs(self.texts[i])) / len(runs) if runs else 0.0
            alike = max(float(angles[i]), shared)
            if alike > best.alike:
                best = Nearest(int(i), alike, self.texts[i])
        return best


def _bare(text: str) -> str:
    return _LINK.sub(" ", text)


def _runs(text: str) -> set[tuple[str, ...]]:
    words = [w.casefold() for w in _WORD.findall(_bare(text))]
    return {tuple(words[i : i + RUN]) for i in range(len(words) - RUN + 1)}
