"""How near texts are to one another: TF-IDF over words and pieces of words, and the angle between them.

Pieces of three to five letters let *gardener* and *gardening* count as near; whole words count twice as much. Vectors are
sparse, so that thousands of texts are compared in a moment.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

_WORD = re.compile(r"[^\W_]+")
_LONGEST = 20_000
WORD_WEIGHT = 2.0


class Nearness:
    """A collection of texts that others can be compared with."""

    def __init__(self, texts: Sequence[str]) -> None:
        counts = [features(text) for text in texts]
        self._places = {name: i for i, name in enumerate(sorted({name for count in counts for name in count}))}
        held = Counter(name for count in counts for name in count)
        size = max(1, len(texts))
        self._weights = np.array([np.log((1 + size) / (1 + held[name])) + 1.0 for name in self._places] or [1.0], dtype=np.float64)
        self._matrix = self._rows(counts)

    def to(self, text: str) -> NDArray[np.float64]:
        """The nearness of `text` to each text of the collection, from 0 to 1."""
        if not self._places:
            return np.zeros(self._matrix.shape[0])
        found = (self._matrix @ self._rows([features(text)]).T).toarray().ravel()
        clipped: NDArray[np.float64] = np.clip(found, 0.0, 1.0)
        return clipped

    def among(self) -> csr_matrix:
        """The nearness of every text to every other, sparse, of shape (texts, texts)."""
        return csr_matrix(self._matrix @ self._matrix.T)

    def _rows(self, counts: Sequence[Counter[str]]) -> csr_matrix:
        data: list[float] = []
        columns: list[int] = []
        starts = [0]
        for count in counts:
            here = [(self._places[name], n) for name, n in count.items() if name in self._places]
            row = np.array([(1 + np.log(n)) * self._weights[place] for place, n in here])
            norm = float(np.sqrt((row * row).sum())) or 1.0
            data += list(row / norm)
            columns += [place for place, _ in here]
            starts.append(len(columns))
        return csr_matrix((data, columns, starts), shape=(len(counts), max(1, len(self._places))))


def features(text: str) -> Counter[str]:
    """Words and pieces of words of a text, counted; words stand with a mark before them."""
    out: Counter[str] = Counter()
    for word in _WORD.findall(text[:_LONGEST].casefold()):
        out[f" {word}"] += WORD_WEIGHT  # type: ignore[assignment]
        if len(word) > 4:
            for size in (4, 5):
                for i in range(len(word) - size + 1):
                    out[word[i : i + size]] += 1
    return out


def near_repeats(texts: Sequence[str], least: float = 0.8) -> list[int]:
    """For each text the index of the earlier one it nearly repeats, or -1. The first of alike texts is its own."""
    out = [-1] * len(texts)
    if len(texts) < 2:
        return out
    near = Nearness(texts).among().tocoo()
    for i, j, value in sorted(zip(near.row.tolist(), near.col.tolist(), near.data.tolist(), strict=True)):
        if j < i and value >= least and out[i] == -1 and out[j] == -1:
            out[i] = j
    return out
