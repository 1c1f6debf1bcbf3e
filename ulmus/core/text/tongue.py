"""Which of the languages known here a text seems to be written in, by its small words: enough to know its abbreviations."""

from __future__ import annotations

import re
from functools import cache, lru_cache

from ..languages import LANGUAGES

_WORD = re.compile(r"[^\W\d_]+")
_LOOKED_AT = 4000


@lru_cache(256)
def _seems(text: str) -> str:
    found = _WORD.findall(text.casefold())
    by_word = _small()
    counts = dict.fromkeys(LANGUAGES, 0.0)
    for word in found:
        for code, weight in by_word.get(word, ()):
            counts[code] += weight
    best = max(counts, key=lambda code: counts[code])
    return best if counts[best] else ""


def tongue_of(text: str) -> str:
    """An ISO 639-1 code; empty where no small word of a language known here stands in it. Weighs a word the less, the more
    languages have it."""
    return _seems(text[:_LOOKED_AT])


@cache
def _small() -> dict[str, tuple[tuple[str, float], ...]]:
    out: dict[str, list[str]] = {}
    for code, language in LANGUAGES.items():
        for word in language.small | language.refusing:
            out.setdefault(word, []).append(code)
    return {word: tuple((code, 1 / len(codes) ** 2) for code in codes) for word, codes in out.items()}
