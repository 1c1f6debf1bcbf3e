"""Changes between two versions of a text, word by word, for showing what a rewrite did."""

from __future__ import annotations

import difflib
import re
from typing import Literal, NamedTuple

MOST_WORDS = 4000


class Change(NamedTuple):
    """A run of text that was kept, added or removed."""

    what: Literal["same", "added", "removed"]
    text: str


def changes(before: str, after: str) -> list[Change]:
    """`after` set against `before`. Very long texts are compared by line to keep the time bounded.

    >>> [(change.what, change.text) for change in changes("Beans for all.", "Beans for you.")]
    [('same', 'Beans for '), ('removed', 'all'), ('added', 'you'), ('same', '.')]
    """
    pattern = r"\s+|\w+|[^\w\s]"
    a, b = re.findall(pattern, before), re.findall(pattern, after)
    long = max(len(a), len(b)) > MOST_WORDS
    if long:
        a, b = before.splitlines(keepends=True), after.splitlines(keepends=True)
    out: list[Change] = []
    # A line that comes again and again tells nothing of its place, and looking at each pair of them takes minutes.
    for what, i1, i2, j1, j2 in difflib.SequenceMatcher(None, a, b, autojunk=long).get_opcodes():
        if what == "equal":
            out.append(Change("same", "".join(a[i1:i2])))
            continue
        if i2 > i1:
            out.append(Change("removed", "".join(a[i1:i2])))
        if j2 > j1:
            out.append(Change("added", "".join(b[j1:j2])))
    return out
