"""Sentences: where each begins and ends. A library knows the marks and abbreviations of some 300 languages; what posts and
letters have beside sentences (lines, lists, tags, links) is told here."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

import regex
import sentencex

from ..languages import Language, language
from .counting import emoji, links
from .tongue import tongue_of

_BLOCK = regex.compile(r"[^\n]+(?:\n(?=[\p{Ll}])(?![a-z][a-z\d_]*:\s)[^\n]+)*")
"""A line, with the lines after it that go on in small letters; a field of an answer with its name before it begins anew."""
_ITEM = regex.compile(r"\s*(?:[-*•–—·▪►>]+|#{1,6}|\(?\d{1,3}[.)]|[a-z]\)|[a-z][a-z\d_]*:)\s+")
_LAST = regex.compile(r"(?<![\p{L}\p{N}])([\p{L}°ª]+(?:\.[\p{L}]+)*)\.\s*$")
_INITIAL = regex.compile(r"(?<![\p{L}\p{N}])\p{Lu}\.\s*$")
_RANK = regex.compile(r"(?<![\p{L}\p{N}.,])\d{1,2}\.\s*$")
_BARE = regex.compile(r"[#＃@][\p{L}\p{N}\p{M}_·.-]+")
_STOPS = regex.compile(r"(?<=[\p{L}\p{N}] ?)([^\p{L}\p{N}\p{P}\s]+)\s+(?=\p{Lu})")
_PERSONS = frozenset(
    (
        "dr",
        "dra",
        "prof",
        "profa",
        "dott",
        "sig",
        "sra",
        "srta",
        "sr",
        "mme",
        "mlle",
        "dhr",
        "mevr",
        "hr",
        "ing",
        "avv",
        "mr",
        "mrs",
        "ms",
    )
)
"""Titles of people, which stand in texts of any language."""
_LOOKED_BACK, _LONGEST_CHUNK = 40, 4000
_PLAIN_START = regex.compile(r"[\s“\"'«„(*_]*\p{L}[\p{L}\p{M}'’,-]*(?:[\s,;!?…)”]|:\s|\.?\s*\Z|\.\s)")
"""A word that is surely none of a link, a tag or a name that is called."""
_LINK_FIRST = regex.compile(r"\s*(?:https?://|www\.|[\w-]+\.[\w-]+/)")
_NEXT_WORD = regex.compile(r"[^\p{L}]*([\p{L}'’]+)")


class Span(NamedTuple):
    """A part of a text with its place: code points, as Python counts them."""

    text: str
    start: int
    end: int


def sentences(text: str, tongue: str = "") -> list[Span]:
    """The sentences of a text, in order; each begins and ends with a sign that is no blank.

    A line of its own (a heading, an item of a list) is one, a line of tags, links or emoji is none. Linear in the text.

    >>> [s.text for s in sentences("Dr. Hale came at 9 a.m. on Monday. “Stay!” she said.\\n\\n#seeds")]
    ['Dr. Hale came at 9 a.m. on Monday.', '“Stay!” she said.']
    """
    return [span for span in _kept(text, tongue) if speaks(span.text)]


@lru_cache(16)
def _kept(text: str, tongue: str) -> tuple[Span, ...]:
    return tuple(spans(text, tongue))


def spans(text: str, tongue: str = "") -> Iterator[Span]:
    """The sentences of a text, and also its lines of tags, links and emoji."""
    tongue = tongue or tongue_of(text) or "en"
    for block in _BLOCK.finditer(text):
        begin = block.start()
        item = _ITEM.match(block.group())
        if item:
            begin += item.end()
        for start, end in _parts(text[begin : block.end()], tongue):
            part = text[begin + start : begin + end]
            bare = part.strip()
            if bare:
                lead = begin + start + len(part) - len(part.lstrip())
                yield Span(bare, lead, lead + len(bare))


def speaks(text: str) -> bool:
    """Whether a stretch of text says something: a word stands in it beside tags, names that are called, links and emoji."""
    if _PLAIN_START.match(text):
        return True
    bare = _BARE.sub(" ", text)
    for link in links(bare):
        bare = bare.replace(link.text, " ")
    return any(map(str.isalnum, _no_emoji(bare)))


def _no_emoji(text: str) -> str:
    for sign in emoji(text):
        text = text.replace(sign, " ")
    return text


def _parts(block: str, tongue: str) -> Iterator[tuple[int, int]]:
    """Where the sentences of a block begin and end."""
    known = language(tongue)
    at, held, spoken = 0, 0, False
    pieces = [part for chunk in _chunks(block) for piece in sentencex.segment(tongue, chunk) for part in _at_emoji(piece)]
    for n, piece in enumerate(pieces):
        at = block.index(piece, at) + len(piece)
        spoken = spoken or speaks(piece)
        if n + 1 < len(pieces) and _goes_on(block[max(held, at - _LOOKED_BACK) : at], spoken, pieces[n + 1], known):
            continue
        yield held, at
        held, spoken = at, False
    if held < len(block):
        yield held, len(block)


def _chunks(block: str) -> Iterator[str]:
    """A block in chunks the library takes in no time: it grows with the square of marks that are opened and never closed."""
    at = 0
    while len(block) - at > _LONGEST_CHUNK:
        window = block[at : at + _LONGEST_CHUNK]
        stop = max(window.rfind(". "), window.rfind("! "), window.rfind("? "), window.rfind("。")) + 1 or window.rfind(" ") + 1
        yield window[: stop or len(window)]
        at += stop or len(window)
    yield block[at:]


def _at_emoji(piece: str) -> list[str]:
    """A stretch cut after emoji that stand in the place of a full stop: a capital follows, and words come before."""
    out, at = [], 0
    if not piece.isascii():
        for sign in _STOPS.finditer(piece):
            if len(piece[at : sign.start()].split()) > 1 and emoji(sign.group(1)):
                out.append(piece[at : sign.end()])
                at = sign.end()
    return [*out, piece[at:]]


def _goes_on(before: str, spoken: bool, after: str, known: Language) -> bool:
    """Whether what seems the end of a sentence (`spoken`, where it says something) is none."""
    if not any(map(str.isalnum, after)):
        return not emoji(after)  # marks alone belong to what stands before them
    if not spoken:
        return False
    first = _NEXT_WORD.match(after)
    word = first.group(1) if first else ""
    last = _LAST.search(before)
    starts_one = word[:1].isupper() and word.casefold() in known.small
    if last and last.group(1).casefold() in known.titles | _PERSONS and (len(last.group(1)) > 1 or not starts_one):
        return True
    if not starts_one and word[:1].isupper() and _INITIAL.search(before):
        return True
    if known.ordinals and not starts_one and _RANK.search(before):
        return True
    if _LINK_FIRST.match(after):
        return False
    return word[:1].islower() and after.lstrip()[:1].islower() and not before.rstrip().endswith((":", ";"))
