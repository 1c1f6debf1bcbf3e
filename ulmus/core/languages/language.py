"""What differs from language to language where texts are compared: endings, small words, months, abbreviations."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import Stemmer


def words(text: str) -> list[str]:
    """The words of a text that lists them, parted by blanks."""
    return text.split()


@dataclass(frozen=True)
class Language:
    """A language: its code (ISO 639-1), the Snowball stemmer for its endings, and words.

    `small` are words that carry no meaning of their own, `everyday` those of four letters and more that say nothing of what a text
    is about; `months` from the first to the last, in small letters. `refusing` are the words that
    turn a sentence round (*not*, *never*), `titles` the abbreviations that never end a sentence; with `ordinals` a figure and a
    full stop are a rank (*3. Mai*).
    """

    code: str
    stemmer: str
    small: frozenset[str]
    months: tuple[str, ...]
    refusing: frozenset[str]
    titles: frozenset[str]
    everyday: frozenset[str] = frozenset()
    ordinals: bool = False

    def stem(self, word: str) -> str:
        """A word in small letters without its endings: *seeds* and *seed*, *opened* and *opens* are the same."""
        return _stem(self.stemmer, word.removesuffix("'s").removesuffix("’s"))


@lru_cache(maxsize=100_000)
def _stem(stemmer: str, word: str) -> str:
    # One of its own for each word: a stemmer holds the word it is at, and several threads ask.
    return str(Stemmer.Stemmer(stemmer).stemWord(word))
