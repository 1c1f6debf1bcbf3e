"""Dates in a text, in one form, in the languages known here."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

from ..languages import LANGUAGES

_ORDINALS = {
    word: n
    for words in (
        "first second third fourth fifth sixth seventh eighth ninth tenth eleventh twelfth thirteenth fourteenth fifteenth sixteenth"
        " seventeenth eighteenth nineteenth twentieth",
        "ersten zweiten dritten vierten fünften sechsten siebten achten neunten zehnten elften zwölften dreizehnten vierzehnten fünfzehnten"
        " sechzehnten siebzehnten achtzehnten neunzehnten zwanzigsten",
    )
    for n, word in enumerate(words.split(), 1)
} | {"premier": 1, "primero": 1, "primo": 1, "twenty-first": 21, "twenty-second": 22, "twenty-third": 23, "thirtieth": 30}


@dataclass(frozen=True)
class Date:
    """A date, as far as it is told (0: not told), with its place."""

    year: int
    month: int
    day: int
    text: str
    start: int
    end: int

    def agrees(self, other: Date) -> bool:
        """Whether both may be the same day: what both tell is the same."""
        pairs = ((self.year, other.year), (self.month, other.month), (self.day, other.day))
        return all(not a or not b or a == b for a, b in pairs)


@cache
def _months() -> dict[str, int]:
    out: dict[str, int] = {}
    for language in LANGUAGES.values():
        for n, name in enumerate(language.months, 1):
            out[name] = n
            if len(name) > 4 and language.code == "en":
                out[name[:3]] = n
    out.pop("may", None)
    return out | {"may": 5}


@cache
def _pattern() -> re.Pattern[str]:
    months = "|".join(sorted(map(re.escape, _months()), key=len, reverse=True))
    return re.compile(
        rf"\b(?P<y>\d{{4}})-(?P<m>\d{{1,2}})-(?P<d>\d{{1,2}})\b"
        rf"|\b(?P<d2>\d{{1,2}})[./](?P<m2>\d{{1,2}})[./](?P<y2>\d{{4}}|\d{{2}}\b)"
        rf"|\b(?P<d3>\d{{1,2}})(?:st|nd|rd|th|er|º|°|\.)?\s+(?:of\s+|de\s+)?(?P<m3>{months})\b\.?(?:,?\s+(?:de\s+|del\s+)?(?P<y3>\d{{4}}))?"
        rf"|\b(?P<d5>{'|'.join(sorted(_ORDINALS, key=len, reverse=True))})\s+(?:of\s+|de\s+)?(?P<m5>{months})\b(?:,?\s+(?P<y5>\d{{4}}))?"
        rf"|\b(?P<m4>{months})\.?\s+(?P<d4>\d{{1,2}})(?:st|nd|rd|th)?\b(?:,?\s+(?P<y4>\d{{4}}))?",
        re.I,
    )


def dates(text: str) -> Iterator[Date]:
    """The dates of a text: ``1 May``, ``May 1st, 2026``, ``3. April 2026``, ``12/09/2025`` (day first), ``2026-05-01``."""
    for m in _pattern().finditer(text):
        found = m.groupdict()
        for n in ("", "2", "3", "4", "5"):
            day, month = found[f"d{n}"], found[f"m{n}"]
            if day is None or month is None:
                continue
            number = int(month) if month.isdigit() else _months()[month.lower()]
            year = int(found[f"y{n}"] or 0)
            date = _ORDINALS.get(day.lower()) or int(day)
            said = m.group().rstrip(".")
            if 1 <= number <= 12 and 1 <= date <= 31:
                yield Date(year + 2000 if 0 < year < 100 else year, number, date, said, m.start(), m.start() + len(said))
