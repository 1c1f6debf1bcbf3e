"""Reading ease: how easily a text is read, in the language it is written in."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import regex

from ..text import sentences, tongue_of, without_links

FEWEST_WORDS = 12
LONGEST_SENTENCE = 40
"""No text with a sentence of more words than this is easy."""
_WORD = regex.compile(r"\p{L}[\p{L}\p{M}]*(?:['’]\p{L}+)?")
_VOWELS = regex.compile(r"[aeiouyàáâãäåæèéêëìíîïòóôõöøœùúûüýÿ]+")

# Of words a sentence and syllables a word.
FORMULAS: dict[str, Callable[[float, float], float]] = {
    "en": lambda words, syllables: 206.835 - 1.015 * words - 84.6 * syllables,  # Flesch 1948
    "de": lambda words, syllables: 180 - words - 58.5 * syllables,  # Amstad 1978
    "fr": lambda words, syllables: 207 - 1.015 * words - 73.6 * syllables,  # Kandel and Moles 1958
    "es": lambda words, syllables: 206.84 - 1.02 * words - 60 * syllables,  # Fernández Huerta 1959
    "it": lambda words, syllables: 206 - words - 65 * syllables,  # Franchina and Vacca 1972
    "nl": lambda words, syllables: 206.84 - 0.93 * words - 77 * syllables,  # Douma 1960
    "pt": lambda words, syllables: 248.835 - 1.015 * words - 84.6 * syllables,  # Martins 1996
}


def reading_ease(text: str) -> int | None:
    """Reading ease from 0 to 100, by the formula made for the text's language; ``None`` for fewer than twelve words, and where no
    formula is known. Syllables are groups of vowels."""
    bare = without_links(text)
    tongue = tongue_of(bare) or "en"
    words = _WORD.findall(bare)
    count = len(sentences(bare, tongue))
    if len(words) < FEWEST_WORDS or not count or tongue not in FORMULAS:
        return None
    syllables = sum(_syllables(word.lower(), tongue) for word in words)
    return max(0, min(100, round(FORMULAS[tongue](len(words) / count, syllables / len(words)))))


def longest_sentence(text: str) -> int:
    """How many words the longest sentence has."""
    return max((len(_WORD.findall(sentence.text)) for sentence in sentences(without_links(text))), default=0)


@lru_cache(maxsize=50_000)
def _syllables(word: str, tongue: str) -> int:
    silent = word.removesuffix("e") if tongue in ("en", "fr") else word
    return max(1, len(_VOWELS.findall(silent)))
