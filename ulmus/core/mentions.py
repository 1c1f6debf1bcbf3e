"""Where values speak of a person: by mail address, name, or other words; and the same values with a mark in their place.

An address stands only for itself (`ada@a.example` is not in `bada@a.example`, nor in `ada@a.example.org`), a name only as whole words,
however it is written large or small, however its blanks are, and with marks of HTML between its words. What is escaped in addresses of
the web or in HTML counts too.
"""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, field
from html.entities import html5
from typing import Any
from urllib.parse import quote

MARK = "[removed]"
LEAST, MOST = 3, 12
"""Letters of a term, and terms at once."""
AROUND = 60


@dataclass(frozen=True)
class Mentions:
    """What a person is called. Raises `ValueError`, in words, where that is too little or too much to look for."""

    terms: tuple[str, ...]
    _pattern: re.Pattern[str] = field(init=False, repr=False, compare=False)
    _plain: tuple[str, ...] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        terms = tuple(dict.fromkeys(" ".join(_normal(term).split()) for term in self.terms if term.strip()))
        if not terms:
            raise ValueError("Give a mail address, or a name.")
        if len(terms) > MOST:
            raise ValueError(f"Give at most {MOST} addresses and names at once.")
        short = next((term for term in terms if sum(map(str.isalnum, term)) < LEAST), None)
        if short is not None:
            raise ValueError(f"“{short}” is too short to tell one person from another. Give at least {LEAST} letters.")
        object.__setattr__(self, "terms", terms)
        # The longest first, so that a name within an address is not taken out of it.
        longest = sorted(terms, key=len, reverse=True)
        object.__setattr__(self, "_pattern", re.compile("|".join(map(_as_pattern, longest)), re.I))
        forms = {form for term in terms for form in (quote(term), quote(term, safe=""), term.split()[0])}
        forms |= {_surest(term) for term in terms}
        written = {one for form in forms for one in (form, json.dumps(form)[1:-1])}
        object.__setattr__(self, "_plain", tuple({form.casefold() for form in written}))

    def may_be_in(self, text: str) -> bool:
        """Whether a text as it is stored is worth a look; never false where it speaks of the person."""
        folded = _normal(text).casefold()
        return any(term in folded for term in self._plain)

    def within(self, value: Any) -> Iterator[str]:
        """The places in a value, each with some words around it."""
        for text in _texts(value):
            for found in self._pattern.finditer(_normal(text)):
                start, end = max(0, found.start() - AROUND), found.end() + AROUND
                yield " ".join(_normal(text)[start:end].split())

    def marked(self, value: Any, mark: str = MARK) -> Any:
        """The value with the mark wherever it speaks of the person; the same value where it does not."""
        if isinstance(value, str):
            plain = _normal(value)
            changed = self._pattern.sub(lambda _: mark, plain)
            return value if changed == plain else changed
        if isinstance(value, dict):
            out: dict[str, Any] = {}
            for name, one in value.items():
                called = known = self.marked(name, mark)
                while called in out:
                    called = f"{known} {len(out)}"
                out[called] = self.marked(one, mark)
            return out
        if isinstance(value, list):
            return [self.marked(one, mark) for one in value]
        if isinstance(value, int | float) and not isinstance(value, bool) and self._pattern.fullmatch(str(value)):
            return mark
        return value


def _normal(text: str) -> str:
    return text if text.isascii() else unicodedata.normalize("NFC", text)


_MARKS = r"(?:\s|&nbsp;|&#0*160;|&#x0*a0;|</?[a-z][^<>]{0,300}>)+"
"""What may stand between two words: blanks, and marks of HTML."""
_APOSTROPHES = "'’"


def _letter(letter: str) -> str:
    """A letter as it is, or as HTML escapes it."""
    if letter.isascii() and (letter.isalnum() or letter in "-_."):
        return re.escape(letter)
    plain = "['’]" if letter in _APOSTROPHES else re.escape(letter)
    same = _APOSTROPHES if letter in _APOSTROPHES else letter
    names = [name for one in same for name, stands in html5.items() if stands == one and name.endswith(";")]
    coded = [rf"#0*{ord(one)};|#x0*{ord(one):x};" for one in same]
    return f"(?:{plain}|&(?:{'|'.join([*map(re.escape, names), *coded])}))"


def _surest(term: str) -> str:
    """The longest part of a term that stands in a text however it is escaped; ``&`` for one that has none."""
    return max(re.findall(r"[A-Za-z0-9]+", term), key=len, default="&")


def _as_pattern(term: str) -> str:
    words = _MARKS.join("".join(map(_letter, word)) for word in term.split())
    if "@" in term:
        escaped = re.escape(quote(term, safe=""))
        return rf"(?<![\w.+-])(?:{words}|{escaped})(?![\w-]|\.\w)"
    before, after = r"(?<!\w)" if term[0].isalnum() else "", r"(?!\w)" if term[-1].isalnum() else ""
    return f"{before}{words}{after}"


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for name, one in value.items():
            yield name
            yield from _texts(one)
    elif isinstance(value, list):
        for one in value:
            yield from _texts(one)
    elif isinstance(value, int | float) and not isinstance(value, bool):
        yield str(value)
