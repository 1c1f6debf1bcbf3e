"""Chapters of a recording, found where its subject changes.

The words said are gathered in short blocks of equal length. Between any two blocks the likeness of what was said before to
what is said after is measured; it dips where the subject shifts (text tiling, Hearst 1997). The deepest dips that stand far
enough apart become chapters. How many there are follows from the fineness and the length of the recording.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..languages import language
from .cues import Chapter, Cue, Fineness

_WORD = re.compile(r"[^\W\d_]{3,}")
_SHARE: dict[str, float] = {"few": 2.0, "some": 1.0, "many": 0.5}
_DEPTH: dict[str, float] = {"few": 1.0, "some": 0.55, "many": 0.15}
_OF_DEEPEST: dict[str, float] = {"few": 0.6, "some": 0.45, "many": 0.15}
BLOCK_WORDS = 24
REACH = 8
MOST = 60
_KEY_WORDS = 5


def chapters(cues: Sequence[Cue], fineness: Fineness = "some") -> list[Chapter]:
    """The chapters of a recording, in order; together they hold every cue. None for a recording in which nothing is said."""
    said = [cue for cue in cues if cue.text.strip()]
    if not said:
        return []
    blocks = _blocks(said)
    breaks = [0, *_breaks(said, blocks, fineness), len(said)]
    parts = [said[a:b] for a, b in itertools.pairwise(breaks)]
    counts = [_counts(part) for part in parts]
    everywhere = Counter(word for count in counts for word in count)
    out = []
    for i, part in enumerate(parts):
        ranked = sorted(counts[i], key=lambda w: (-counts[i][w] * np.log(1 + len(parts) / everywhere[w]), w))
        text = " ".join(cue.text.strip() for cue in part)
        end = parts[i + 1][0].start if i + 1 < len(parts) else part[-1].end
        out.append(Chapter(part[0].start, end, tuple(ranked[:_KEY_WORDS]), " ".join(text.split()[:14]), text))
    return out


def _blocks(said: Sequence[Cue]) -> list[tuple[int, Counter[str]]]:
    """Blocks of about as many words each: the index of the cue each begins with, and its words."""
    out: list[tuple[int, Counter[str]]] = []
    size, words = 0, Counter[str]()
    first = 0
    for i, cue in enumerate(said):
        found = [language().stem(w) for w in _WORD.findall(cue.text.casefold())]
        words.update(found)
        size += len(found)
        if size >= BLOCK_WORDS:
            out.append((first, words))
            first, size, words = i + 1, 0, Counter()
    if words or not out:
        out.append((min(first, len(said) - 1), words))
    return out


def usual_length(seconds: float) -> float:
    """How long (seconds) a chapter of a recording of so many seconds usually is: two minutes of seven, six of three hours."""
    return float(62.0 * max(1.0, seconds / 60) ** 0.338)


def _breaks(said: Sequence[Cue], blocks: list[tuple[int, Counter[str]]], fineness: Fineness) -> list[int]:
    """The cues new chapters begin with."""
    length = max(1.0, said[-1].end - said[0].start)
    usual = usual_length(length) * _SHARE[fineness]
    least = usual * 0.4
    wanted = min(MOST, max(1, round(length / usual))) - 1
    if wanted < 1 or len(blocks) < 4:
        return []
    depths = _depths(_matrix(blocks))
    # Deep against the others, and not shallow against the deepest: a recording of few subjects has few chapters.
    threshold = max(float(depths.mean() + _DEPTH[fineness] * depths.std()), float(_OF_DEEPEST[fineness] * depths.max()))
    chosen: list[int] = []
    times = [said[0].start, said[-1].end]
    for gap in np.argsort(-depths, kind="stable"):
        if depths[gap] < threshold or len(chosen) >= wanted * 2:
            break
        if depths[gap] < depths[max(0, gap - 2) : gap + 3].max():
            continue  # on the slope of a deeper one
        cue = blocks[gap + 1][0]
        if all(abs(said[cue].start - time) >= least for time in times):
            chosen.append(cue)
            times.append(said[cue].start)
    return sorted(chosen)


def _matrix(blocks: list[tuple[int, Counter[str]]]) -> NDArray[np.float64]:
    """Blocks by words, weighted by how few blocks have a word; words in nearly every block tell nothing."""
    held = Counter(word for _, words in blocks for word in words)
    names = {w: i for i, w in enumerate(sorted(w for w, n in held.items() if 1 < n < 0.5 * len(blocks) or len(blocks) < 8))}
    matrix = np.zeros((len(blocks), max(1, len(names))))
    for row, (_, words) in enumerate(blocks):
        for word, n in words.items():
            if word in names:
                matrix[row, names[word]] = (1 + np.log(n)) * np.log((1 + len(blocks)) / held[word])
    return matrix


def _depths(matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    """How deep the likeness dips at each gap between two blocks."""
    sums = np.vstack([np.zeros(matrix.shape[1]), np.cumsum(matrix, axis=0)])
    count = len(matrix)
    likeness = np.empty(count - 1)
    for gap in range(count - 1):
        before = sums[gap + 1] - sums[max(0, gap + 1 - REACH)]
        after = sums[min(count, gap + 1 + REACH)] - sums[gap + 1]
        norm = float(np.linalg.norm(before) * np.linalg.norm(after))
        likeness[gap] = float(before @ after) / norm if norm else 0.0
    left = np.maximum.accumulate(likeness)
    right = np.maximum.accumulate(likeness[::-1])[::-1]
    near = np.array([likeness[max(0, i - 2 * REACH) : i + 2 * REACH + 1].max() for i in range(count - 1)])
    depths: NDArray[np.float64] = np.minimum(left, near) + np.minimum(right, near) - 2 * likeness
    return depths


def _counts(part: Sequence[Cue]) -> Counter[str]:
    """The words of a chapter, counted; short and everyday ones are left out."""
    words = (w for cue in part for w in _WORD.findall(cue.text.casefold()) if len(w) > 3 and w not in language().everyday)
    return Counter(words)
