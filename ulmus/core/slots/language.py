"""Parsing and printing of texts with slots.

A text is cut into plain runs and slots by one pass; the inside of each slot is parsed with a Lark
grammar (`slot.lark`). `<<` that is not at once followed by a letter starts no slot and stays text.
A slot that is begun but wrong is kept as a `SlotError` with its position, so that an editor can mark
every fault at once and nothing typed is lost.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path as FilePath
from typing import Any

from lark import Lark, Token, Transformer
from lark.exceptions import LarkError, UnexpectedInput

LONGEST_SLOT = 1000
_OPEN = re.compile(r"<<(?=[^\W\d])")
_INSIDE = re.compile(r'"(?:[^"\\\n]|\\["\\]){0,400}"|>>|<<|\n\s*\n')
_PLAIN_NAME = re.compile(r"[^\W\d]\w*\Z")


@dataclass(frozen=True)
class Path:
    """Where a value stands: names and positions (from 1), e.g. ``("search", "results", 1, "link")``."""

    parts: tuple[str | int, ...]

    @property
    def root(self) -> str:
        """The step (or other root, such as ``brand``) the value comes from."""
        return str(self.parts[0])

    def __str__(self) -> str:
        out = [self.root]
        for part in self.parts[1:]:
            if isinstance(part, int):
                out.append(f"[{part}]")
            elif _PLAIN_NAME.match(part):
                out.append(f".{part}")
            else:
                out.append("." + _quote(part))
        return "".join(out)


@dataclass(frozen=True)
class Filter:
    """One filter call; arguments are texts, numbers or bare words."""

    name: str
    arguments: tuple[str | float | int, ...] = ()
    bare: tuple[bool, ...] = ()

    def __str__(self) -> str:
        words = [self.name]
        for value, bare in zip(self.arguments, self.bare, strict=True):
            words.append(value if bare else _quote(value) if isinstance(value, str) else _number(value))  # type: ignore[arg-type]
        return " ".join(words)


@dataclass(frozen=True)
class Text:
    """A run of plain text."""

    text: str
    start: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Slot:
    """One slot with its place in the text (``start`` and ``end`` in characters)."""

    path: Path
    filters: tuple[Filter, ...] = ()
    start: int = field(default=0, compare=False)
    end: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return "<<" + " | ".join([str(self.path), *map(str, self.filters)]) + ">>"


@dataclass(frozen=True)
class SlotError:
    """A slot that was begun but cannot be read; `text` is what was typed."""

    text: str
    message: str
    start: int = field(default=0, compare=False)
    end: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return self.text


@dataclass(frozen=True)
class Template:
    """A parsed text."""

    parts: tuple[Text | Slot | SlotError, ...]

    @property
    def slots(self) -> tuple[Slot, ...]:
        """The slots that could be read, in order."""
        return tuple(p for p in self.parts if isinstance(p, Slot))

    @property
    def errors(self) -> tuple[SlotError, ...]:
        """The slots that could not be read, in order."""
        return tuple(p for p in self.parts if isinstance(p, SlotError))

    def __str__(self) -> str:
        return "".join(map(str, self.parts))


@lru_cache(maxsize=4096)
def parse(text: str) -> Template:
    """Parse `text`; never raises. Takes time linear in its length."""
    return Template(tuple(_parts(text)))


def _parts(text: str) -> Iterator[Text | Slot | SlotError]:
    at = 0
    while (opening := _OPEN.search(text, at)) is not None:
        if opening.start() > at:
            yield Text(text[at : opening.start()], at)
        start = opening.start()
        end = _closing(text, opening.end())
        if end is None:
            stop = _end_of_word(text, opening.end())
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


def _end_of_word(text: str, at: int) -> int:
    found = re.compile(r"[\w.\[\]]*").match(text, at, at + LONGEST_SLOT)
    return found.end() if found else at


def _slot(text: str, start: int, end: int) -> Slot | SlotError:
    inside = text[start + 2 : end - 2]
    try:
        read: Any = _parser().parse(inside)
    except UnexpectedInput as error:
        where = start + 2 + max(error.pos_in_stream or 0, 0)
        bad = inside[max(error.pos_in_stream or 0, 0) :][:12].strip()
        message = f"“{bad}” is not expected here." if bad else "The slot ends too early."
        return SlotError(text[start:end], f"{message} Write <<step.value>> or <<step.value | filter>>.", where, end)
    except LarkError:
        return SlotError(text[start:end], "This slot cannot be read. Write <<step.value>>.", start, end)
    return Slot(read[0], read[1], start, end)


class _Build(Transformer[Token, Any]):
    def slot(self, children: list[Any]) -> tuple[Path, tuple[Filter, ...]]:
        return children[0], tuple(children[1:])

    def path(self, children: list[Any]) -> Path:
        return Path((str(children[0]), *children[1:]))

    def named(self, children: list[Any]) -> str:
        return str(children[0])

    def quoted(self, children: list[Any]) -> str:
        return _unquote(children[0])

    def counted(self, children: list[Any]) -> int:
        return int(children[0])

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
    grammar = FilePath(__file__).with_name("slot.lark").read_text("utf-8")
    return Lark(grammar, start="slot", parser="lalr", transformer=_Build())


def _quote(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _unquote(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text[1:-1])


def _number(value: float | int) -> str:
    return str(value)
