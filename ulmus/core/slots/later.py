"""Filling a text in twice: first with what is the same for all, later with what each of many has of their own.

At the first filling-in the marks that read a given root are set aside: each stands in the text as a short word of letters and
figures, which Markdown, HTML and addresses carry unchanged. What was made of the text is then taken apart at those words, once,
and put together for each of the many.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal
from urllib.parse import quote

from .evaluate import holds, items_of, value_of
from .filters import as_text
from .language import parse
from .render import LONGEST_OUTPUT, render
from .tree import Each, If, Part, Path, Slot, SlotError, Template, Text, condition_values

End = Literal["", "otherwise", "end"]
Place = Literal["text", "html", "url", "link"]


class Unbalanced(ValueError):
    """A block that begins inside one element of a page and ends inside another; `mark` is how it begins."""

    def __init__(self, mark: str) -> None:
        super().__init__(f"“{mark}” begins inside one paragraph or item and ends inside another.")
        self.mark = mark


@dataclass
class SetAside:
    """What is filled in later: the marks in their order (``<<reader.Name>>``, ``<<if …>>``, ``<<otherwise>>``, ``<<end>>``), each
    with the other values it needs. `word` begins the words that stand for them; no text of the piece may hold it."""

    word: str
    root: str
    marks: list[str] = field(default_factory=list)
    given: list[dict[str, Any]] = field(default_factory=list)

    def first(self, text: str, values: Mapping[str, Any]) -> str:
        """`text` filled in with all but the root's values."""
        out, room = list[str](), LONGEST_OUTPUT
        for piece in self._parts(parse(text).parts, values):
            # Each counts, also an empty one: lists within lists have an end.
            out.append(piece[:room])
            room -= len(piece) + 1
            if room <= 0:
                break
        return "".join(out)

    def word_for(self, mark: str, given: Mapping[str, Any] | None = None) -> str:
        """The word that stands in the text for a mark."""
        self.marks.append(mark)
        self.given.append(dict(given or {}))
        return f"{self.word}{len(self.marks) - 1}z"

    def _parts(self, parts: Sequence[Part], values: Mapping[str, Any]) -> Iterator[str]:
        for part in parts:
            yield from self._part(part, values)

    def _part(self, part: Part, values: Mapping[str, Any]) -> Iterator[str]:
        if isinstance(part, Text | SlotError):
            yield str(part)
        elif isinstance(part, Slot):
            yield self.word_for(str(part)) if part.path.root == self.root else as_text(value_of(part.value, values))
        elif isinstance(part, If):
            reads = [value.path for value in condition_values(part.condition)]
            if not any(path.root == self.root for path in reads):
                yield from self._parts(part.body if holds(part.condition, values) else part.otherwise or (), values)
                return
            yield self.word_for(f"<<if {part.condition}>>", self._given(reads, values))
            yield from self._parts(part.body, values)
            if part.otherwise is not None:
                yield self.word_for("<<otherwise>>")
                yield from self._parts(part.otherwise, values)
            yield self.word_for("<<end>>")
        elif part.value.path.root == self.root:
            # What stands in it may read anything: it is filled in as a whole.
            inside = [path for path in _reads(part) if path.root != self.root]
            yield self.word_for(str(part), self._given(inside, values))
        else:
            items = items_of(value_of(part.value, values))
            for number, item in enumerate(items, start=1):
                here = {"number": number, "first": number == 1, "last": number == len(items)}
                yield from self._parts(part.body, {**values, part.name: item, "each": here})

    def _given(self, paths: Sequence[Path], values: Mapping[str, Any]) -> dict[str, Any]:
        return {path.root: values[path.root] for path in paths if path.root != self.root and path.root in values}


def _reads(part: Each) -> list[Path]:
    return list(parse(str(part)).reads)


_FILLED = re.compile(r"<p\b[^<>]*>\s*</p>")
_IN_LINK = re.compile(r'\b(?:href|src)="([^"]*)"')
_ADDRESS = re.compile(r"(https?://[^\s<>]*)")
_GAP = re.compile(r"\n{3,}")
_ELEMENT = re.compile(r"<(/?)([a-zA-Z][a-zA-Z0-9]*)\b[^<>]*?(/?)>")
_EMPTY = frozenset({"br", "hr", "img", "meta", "link", "input", "wbr"})
_SAFE = re.compile(r"(?:https?://|mailto:)", re.IGNORECASE)


@dataclass(frozen=True)
class _Slot:
    part: Slot
    place: Place


@dataclass(frozen=True)
class _If:
    part: If
    given: Mapping[str, Any]
    body: tuple[_Piece, ...]
    otherwise: tuple[_Piece, ...]


@dataclass(frozen=True)
class _Whole:
    part: Each
    given: Mapping[str, Any]
    place: Place


_Piece = str | _Slot | _If | _Whole


@dataclass(frozen=True)
class Later:
    """A text taken apart at what was set aside; `page` says that it is HTML."""

    pieces: tuple[_Piece, ...]
    page: bool = False

    def filled(self, values: Mapping[str, Any]) -> str:
        """The text for one of the many: `values` holds the root's."""
        out: list[str] = []
        _fill(self.pieces, values, out)
        text = "".join(out)
        if not self.leaves_out:
            return text
        return _FILLED.sub("", text) if self.page else _GAP.sub("\n\n", text)

    @cached_property
    def leaves_out(self) -> bool:
        """Whether something of it may be left out, so that a gap could stay."""
        return any(isinstance(piece, _If) for piece in self.pieces)


def taken_apart(text: str, word: str, marks: Sequence[str], given: Sequence[Mapping[str, Any]], page: bool = False) -> Later:
    """`text` taken apart at the words for the `marks`; of a `page` of HTML, where each stands is minded. Raises `Unbalanced`."""
    if not marks:
        return Later((text,), page)
    inside = (_IN_LINK if page else _ADDRESS).finditer(text)
    links = {n: match.start(1) for match in inside for n in range(match.start(1), match.end(1))}
    at = 0
    found: list[_Piece | tuple[int, Place]] = []
    for match in re.finditer(rf"{re.escape(word)}(\d+)z", text):
        if int(match.group(1)) >= len(marks):
            continue
        found.append(text[at : match.start()])
        place: Place = "text" if not page else "html"
        if match.start() in links:
            place = "link" if links[match.start()] == match.start() else "url"
        found.append((int(match.group(1)), place))
        at = match.end()
    found.append(text[at:])
    pieces, _ = _nested(iter(found), marks, given, page)
    return Later(tuple(pieces), page)


def _nested(
    found: Iterator[Any], marks: Sequence[str], given: Sequence[Mapping[str, Any]], page: bool, opening: str = ""
) -> tuple[list[_Piece], End]:
    out: list[_Piece] = []
    raw: list[str] = []
    for one in found:
        if isinstance(one, str):
            out.append(one)
            raw.append(one)
            continue
        n, place = one
        mark = marks[n]
        if mark in ("<<end>>", "<<otherwise>>"):
            if page and opening and not _balanced("".join(raw)):
                raise Unbalanced(opening)
            if opening:
                return out, "end" if mark == "<<end>>" else "otherwise"
        elif mark.startswith("<<if "):
            body, ended = _nested(found, marks, given, page, mark)
            otherwise: list[_Piece] = []
            if ended == "otherwise":
                otherwise, _ = _nested(found, marks, given, page, mark)
            part = parse(f"{mark}<<end>>").parts[0]
            if isinstance(part, If):
                out.append(_If(part, given[n], tuple(body), tuple(otherwise)))
        else:
            part = parse(mark).parts[0]
            if isinstance(part, Slot):
                out.append(_Slot(part, place))
            elif isinstance(part, Each):
                out.append(_Whole(part, given[n], place))
    return out, ""


def _balanced(page: str) -> bool:
    """Whether a stretch of HTML may be left out: what it closes it opens again."""
    closed, opened = [], []
    for match in _ELEMENT.finditer(page):
        name = match.group(2).lower()
        if name in _EMPTY or match.group(3):
            continue
        if not match.group(1):
            opened.append(name)
        elif opened:
            opened.pop()
        else:
            closed.append(name)
    return closed == opened[::-1]


def _fill(pieces: Sequence[_Piece], values: Mapping[str, Any], out: list[str]) -> None:
    for piece in pieces:
        if isinstance(piece, str):
            out.append(piece)
        elif isinstance(piece, _Slot):
            out.append(_placed(as_text(value_of(piece.part.value, values)), piece.place))
        elif isinstance(piece, _If):
            chosen = piece.body if holds(piece.part.condition, {**piece.given, **values}) else piece.otherwise
            _fill(chosen, values, out)
        else:
            out.append(_placed(_turns(piece, values), piece.place))


def _turns(whole: _Whole, values: Mapping[str, Any]) -> str:
    return render(Template((whole.part,)), {**whole.given, **values}).text


def _placed(text: str, place: Place) -> str:
    """A value where it stands: in a page as text, within an address as a part of it, as an address only where it is a safe one."""
    if place == "text":
        return text
    if place == "html":
        return html.escape(text)
    if place == "url":
        return quote(text, safe="")
    return html.escape(text.strip()) if _SAFE.match(text.strip()) else "#"
