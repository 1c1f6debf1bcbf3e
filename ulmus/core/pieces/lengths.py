"""How long a text is, as a channel counts it."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from typing import Literal

import regex
from pydantic import BaseModel, ConfigDict

from ..text.counting import Link, links

_GRAPHEME = regex.compile(r"\X")
WORDS = {"graphemes": "characters", "characters": "characters", "bytes": "bytes"}


class Counting(BaseModel):
    """What is counted: code points, user-perceived characters (extended grapheme clusters, UAX #29) or bytes of UTF-8. A link
    may count as a fixed number, a wide character (East Asian Width W or F, UAX #11; emoji are) as two."""

    model_config = ConfigDict(frozen=True)
    unit: Literal["characters", "graphemes", "bytes"] = "graphemes"
    link: int | None = None
    wide: Literal[1, 2] = 1

    @property
    def words(self) -> str:
        """What is counted, in words."""
        more = [f"a link as {self.link}"] if self.link is not None else []
        more += ["a wide one as two"] if self.wide == 2 else []
        return WORDS[self.unit] + (f" ({', '.join(more)})" if more else "")


CHARACTERS = Counting()
"""As people count: what one sees as one character."""


def length(text: str, counting: Counting = CHARACTERS) -> int:
    """The length of `text`. Linear in it.

    >>> family = "\\U0001f468\\u200d\\U0001f469\\u200d\\U0001f467"
    >>> [length(family, Counting(unit=unit)) for unit in ("characters", "graphemes", "bytes")]
    [5, 1, 18]
    >>> length("See https://a.example/long/address now", Counting(link=23))
    31
    """
    if counting.link is None:
        return _length(text, counting)
    return _length("".join(_around(text, found := links(text))), counting) + counting.link * len(found)


def _around(text: str, found: list[Link]) -> Iterator[str]:
    at = 0
    for link in found:
        yield text[at : link.start]
        at = link.end
    yield text[at:]


def _length(text: str, counting: Counting) -> int:
    if counting.unit == "bytes":
        return len(text.encode())
    signs = _GRAPHEME.findall(text) if counting.unit == "graphemes" else text
    if counting.wide == 1:
        return len(signs)
    return sum(2 if any(unicodedata.east_asian_width(part) in "WF" for part in sign) else 1 for sign in signs)
