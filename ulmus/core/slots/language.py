"""Parsing of texts with slots, and of conditions.

A text is cut into plain runs and slots by one pass; the inside of each slot is parsed with a Lark
grammar (`grammar.py`). `<<` that is not at once followed by a letter starts no slot and stays text.
A slot that is begun but wrong is kept as a `SlotError` with its position, so that an editor can mark
every fault at once and nothing typed is lost.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

from lark import Lark, Token, Transformer
from lark.exceptions import LarkError, UnexpectedInput

from .grammar import GRAMMAR
from .tree import (
    Both,
    Condition,
    Each,
    Either,
    Filter,
    If,
    Literal,
    Negated,
    Part,
    Path,
    Slot,
    SlotError,
    Template,
    Test,
    Text,
    Value,
)

LONGEST_SLOT = 1000
LONGEST_CONDITION = 2000
DEEPEST = 20
_OPEN = re.compile(r"<<(?=[^\W\d])")
_INSIDE = re.compile(r'"(?:[^"\\\n]|\\["\\]){0,400}"|>>|<<|\n\s*\n')
_WORD = re.compile(r"[\w.\[\]]*")
_TAG = re.compile(r"(each|if)\s+(?=\S)|(end|otherwise)\s*\Z")
_USAGE = {
    "slot": "Write <<step.value>> or <<step.value | filter>>.",
    "each": "Write <<each step.list as one>> … <<end>>.",
    "condition": 'Write it like: step.value is "high" and step.count > 3.',
}


@dataclass
class _Tag:
    """A mark that opens, divides or closes a block."""

    what: str
    inside: Any
    text: str
    start: int
    end: int


@dataclass
class _Open:
    """A block that is open while its parts are gathered."""

    tag: _Tag
    body: list[Part] = field(default_factory=list)
    otherwise: list[Part] | None = None

    @property
    def parts(self) -> list[Part]:
        return self.body if self.otherwise is None else self.otherwise


@lru_cache(maxsize=4096)
def parse(text: str) -> Template:
    """Parse `text`; never raises. Takes time linear in its length."""
    return Template(tuple(_nested(_parts(text))))


@lru_cache(maxsize=4096)
def parse_condition(text: str) -> Condition | SlotError:
    """A condition in words, or what is wrong with it."""
    if len(text) > LONGEST_CONDITION:
        return SlotError(text, f"This condition is too long; at most {LONGEST_CONDITION} characters.", 0, len(text))
    found = _read("condition", text, 0)
    return replace(found, text=text) if isinstance(found, SlotError) else found


def _nested(parts: Iterator[Part | _Tag]) -> list[Part]:
    page: list[Part] = []
    stack: list[_Open] = []
    for part in parts:
        here = stack[-1].parts if stack else page
        if not isinstance(part, _Tag):
            here.append(part)
        elif part.what in ("each", "if"):
            if len(stack) >= DEEPEST:
                here.append(SlotError(part.text, "Blocks stand too deep inside one another here.", part.start, part.end))
            else:
                stack.append(_Open(part))
        elif part.what == "otherwise" and stack and stack[-1].tag.what == "if" and stack[-1].otherwise is None:
            stack[-1].otherwise = []
        elif part.what == "end" and stack:
            (stack[-2].parts if len(stack) > 1 else page).append(_closed(stack[-1]))
            stack.pop()
        else:
            what = "<<end>> closes" if part.what == "end" else "<<otherwise>> belongs to"
            here.append(SlotError(part.text, f"{what} nothing that is open here.", part.start, part.end))
    while stack:
        # Left open: the opening mark is at fault; what stands after it is kept as it is.
        left = stack.pop()
        fault = SlotError(left.tag.text, "This block is not closed. Put <<end>> where it ends.", left.tag.start, left.tag.end)
        divided = [] if left.otherwise is None else [Text("<<otherwise>>"), *left.otherwise]
        (stack[-1].parts if stack else page).extend([fault, *left.body, *divided])
    return page


def _closed(block: _Open) -> Part:
    tag = block.tag
    if tag.what == "each":
        value, name = tag.inside
        return Each(value, name, tuple(block.body), tag.start, tag.end)
    otherwise = None if block.otherwise is None else tuple(block.otherwise)
    return If(tag.inside, tuple(block.body), otherwise, tag.start, tag.end)


def _parts(text: str) -> Iterator[Part | _Tag]:
    at = 0
    while (opening := _OPEN.search(text, at)) is not None:
        if opening.start() > at:
            yield Text(text[at : opening.start()], at)
        start = opening.start()
        end = _closing(text, opening.end())
        if end is None:
            word = _WORD.match(text, opening.end(), opening.end() + LONGEST_SLOT)
            stop = word.end() if word else opening.end()
            yield SlotError(text[start:stop], "This slot is not closed. Add >> after its name.", start, stop)
            at = stop
            continue
        yield _slot(text, start, end)
        at = end
    if at < len(text):
        yield Text(text[at:], at)


def _closing(text: str, at: int) -> int | None:
    limit = min(len(text), at + LONGEST_SLOT)
    while (found := _INSIDE.search(text, at, limit)) is not None:
        if found.group() == ">>":
            return found.end()
        if not found.group().startswith('"'):
            return None
        at = found.end()
    return None


def _slot(text: str, start: int, end: int) -> Part | _Tag:
    whole, inside = text[start:end], text[start + 2 : end - 2]
    tag = _TAG.match(inside)
    if tag is not None and tag.group(2):
        return _Tag(tag.group(2), None, whole, start, end)
    what, offset = ("slot", 0) if tag is None else ({"each": "each", "if": "condition"}[tag.group(1)], tag.end())
    read = _read(what, inside[offset:], start + 2 + offset)
    if isinstance(read, SlotError):
        return replace(read, text=whole, start=read.start, end=end)
    if tag is not None:
        return _Tag(tag.group(1), read, whole, start, end)
    return Slot(read.path, read.filters, start, end)


def _read(what: str, inside: str, offset: int) -> Any:
    try:
        return _parsed(what, inside)
    except UnexpectedInput as error:
        at = max(error.pos_in_stream or 0, 0)
        ended = getattr(getattr(error, "token", None), "type", "") == "$END"
        at = len(inside) if ended else at
        bad = inside[at:][:12].strip()
        message = f"“{bad}” is not expected here." if bad else "This ends too early."
        return SlotError(inside, f"{message} {_USAGE[what]}", offset + at, offset + len(inside))
    except (LarkError, RecursionError):
        return SlotError(inside, f"This cannot be read. {_USAGE[what]}", offset, offset + len(inside))


@lru_cache(maxsize=4096)
def _parsed(what: str, inside: str) -> Any:
    return _parser().parse(inside, start=what)


class _Build(Transformer[Token, Any]):
    def slot(self, children: list[Any]) -> Value:
        return Value(children[0], tuple(children[1:]))

    def each(self, children: list[Any]) -> tuple[Value, str]:
        return Value(children[0], tuple(children[1:-1])), str(children[-1])

    def condition(self, children: list[Any]) -> Condition:
        return children[0]  # type: ignore[no-any-return]

    def either(self, children: list[Any]) -> Either:
        return Either(tuple(children))

    def both(self, children: list[Any]) -> Both:
        return Both(tuple(children))

    def negated(self, children: list[Any]) -> Negated:
        return Negated(children[0])

    def test(self, children: list[Any]) -> Test:
        left, how, *right = children
        return Test(left, " ".join(str(how).split()), tuple(right))

    def operand(self, children: list[Any]) -> Value | Literal:
        if isinstance(children[0], tuple):
            return Literal(children[0][0])
        return Value(children[0], tuple(children[1:]))

    def path(self, children: list[Any]) -> Path:
        return Path((str(children[0]), *children[1:]))

    def named(self, children: list[Any]) -> str:
        return str(children[0])

    def quoted(self, children: list[Any]) -> str:
        return _unquote(children[0])

    def counted(self, children: list[Any]) -> int:
        return int(children[0])

    def keep(self, children: list[Any]) -> Filter:
        return Filter("keep", condition=children[0])

    def filter(self, children: list[Any]) -> Filter:
        name, *arguments = children
        return Filter(str(name), tuple(a[0] for a in arguments), tuple(a[1] for a in arguments))

    def string(self, children: list[Any]) -> tuple[str, bool]:
        return _unquote(children[0]), False

    def number(self, children: list[Any]) -> tuple[float | int, bool]:
        text = str(children[0])
        return (float(text) if "." in text else int(text)), False

    def word(self, children: list[Any]) -> tuple[str, bool]:
        return str(children[0]), True


@lru_cache(maxsize=1)
def _parser() -> Lark:
    return Lark(GRAMMAR, start=["slot", "each", "condition"], parser="lalr", transformer=_Build())


def _unquote(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text[1:-1])
