"""What differs from language to language where texts are compared: endings, small words, numbers and months in words."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache, lru_cache

import snowballstemmer


@dataclass(frozen=True)
class Language:
    """A language: its code (ISO 639-1), the Snowball stemmer for its endings, and words.

    `small` are words that carry no meaning of their own, `everyday` those of four letters and more that say nothing of what a text
    is about; `months` from the first to the last, and `numbers` by their words, in small letters. `refusing` are the words that
    turn a sentence round (*not*, *never*), `titles` the abbreviations that never end a sentence; with `ordinals` a figure and a
    full stop are a rank (*3. Mai*); `quotes` are the quotation marks it uses beside those of English.
    """

    code: str
    stemmer: str
    small: frozenset[str]
    months: tuple[str, ...]
    refusing: frozenset[str]
    titles: frozenset[str]
    everyday: frozenset[str] = frozenset()
    numbers: Mapping[str, int] = field(default_factory=dict, hash=False)
    ordinals: bool = False
    quotes: str = ""

    def stem(self, word: str) -> str:
        """A word in small letters without its endings: *seeds* and *seed*, *opened* and *opens* are the same."""
        return _stem(self.stemmer, word.removesuffix("'s").removesuffix("’s"))


@lru_cache(maxsize=100_000)
def _stem(stemmer: str, word: str) -> str:
    return str(_stemmer(stemmer).stemWord(word))


@cache
def _stemmer(name: str) -> snowballstemmer.stemmer:
    return snowballstemmer.stemmer(name)
