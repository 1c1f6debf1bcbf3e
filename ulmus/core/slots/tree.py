"""What a text with slots, or a condition, is made of. Every node prints as it is written."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

_PLAIN_NAME = re.compile(r"[^\W\d]\w*\Z")
Name = str | int


@dataclass(frozen=True)
class Path:
    """Where a value stands: names and positions (from 1), e.g. ``("search", "results", 1, "link")``."""

    parts: tuple[Name, ...]

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
                out.append("." + quote(part))
        return "".join(out)


@dataclass(frozen=True)
class Filter:
    """One filter call; arguments are texts, numbers or bare words. ``keep`` has a condition instead."""

    name: str
    arguments: tuple[str | float | int, ...] = ()
    bare: tuple[bool, ...] = ()
    condition: Condition | None = None

    def __str__(self) -> str:
        if self.condition is not None:
            return f"{self.name} {self.condition}"
        words = [self.name]
        for value, bare in zip(self.arguments, self.bare, strict=True):
            words.append(str(value) if bare or not isinstance(value, str) else quote(value))
        return " ".join(words)


@dataclass(frozen=True)
class Value:
    """A path and what is done to the value found there."""

    path: Path
    filters: tuple[Filter, ...] = ()

    def __str__(self) -> str:
        return " | ".join([str(self.path), *map(str, self.filters)])


@dataclass(frozen=True)
class Literal:
    """A text or a number written out."""

    value: str | float | int

    def __str__(self) -> str:
        return quote(self.value) if isinstance(self.value, str) else str(self.value)


Operand = Value | Literal


@dataclass(frozen=True)
class Test:
    """One comparison, e.g. ``score.text is "high"``; `right` is empty for ``is empty``."""

    left: Operand
    how: str
    right: tuple[Operand, ...] = ()

    def __str__(self) -> str:
        return " ".join(p for p in (_operand(self.left), self.how, ", ".join(map(_operand, self.right))) if p)


@dataclass(frozen=True)
class Either:
    """Holds where one of the parts holds."""

    parts: tuple[Condition, ...]

    def __str__(self) -> str:
        return " or ".join(f"({p})" if isinstance(p, Either) else str(p) for p in self.parts)


@dataclass(frozen=True)
class Both:
    """Holds where all parts hold."""

    parts: tuple[Condition, ...]

    def __str__(self) -> str:
        return " and ".join(f"({p})" if isinstance(p, Either | Both) else str(p) for p in self.parts)


@dataclass(frozen=True)
class Negated:
    """Holds where the part does not."""

    part: Condition

    def __str__(self) -> str:
        return f"not {f'({self.part})' if isinstance(self.part, Either | Both) else self.part}"


Condition = Test | Either | Both | Negated


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

    @property
    def value(self) -> Value:
        """What the slot stands for."""
        return Value(self.path, self.filters)

    def __str__(self) -> str:
        return f"<<{self.value}>>"


@dataclass(frozen=True)
class Each:
    """``<<each list as name>>…<<end>>``; ``start`` and ``end`` are those of the opening mark."""

    value: Value
    name: str
    body: tuple[Part, ...]
    start: int = field(default=0, compare=False)
    end: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return f"<<each {self.value} as {self.name}>>{''.join(map(str, self.body))}<<end>>"


@dataclass(frozen=True)
class If:
    """``<<if condition>>…<<otherwise>>…<<end>>``; the second part may be left out."""

    condition: Condition
    body: tuple[Part, ...]
    otherwise: tuple[Part, ...] | None = None
    start: int = field(default=0, compare=False)
    end: int = field(default=0, compare=False)

    def __str__(self) -> str:
        other = "" if self.otherwise is None else "<<otherwise>>" + "".join(map(str, self.otherwise))
        return f"<<if {self.condition}>>{''.join(map(str, self.body))}{other}<<end>>"


@dataclass(frozen=True)
class SlotError:
    """A slot that was begun but cannot be read; `text` is what was typed."""

    text: str
    message: str
    start: int = field(default=0, compare=False)
    end: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return self.text


Part = Text | Slot | SlotError | Each | If


@dataclass(frozen=True)
class Template:
    """A parsed text."""

    parts: tuple[Part, ...]

    @property
    def slots(self) -> tuple[Slot, ...]:
        """The slots that could be read, in order, those inside blocks too."""
        return tuple(p for p in walk(self.parts) if isinstance(p, Slot))

    @property
    def errors(self) -> tuple[SlotError, ...]:
        """The slots that could not be read, in order."""
        return tuple(p for p in walk(self.parts) if isinstance(p, SlotError))

    @property
    def reads(self) -> tuple[Path, ...]:
        """Every path the text depends on, each once; names an *each* gives are left out."""
        return tuple(dict.fromkeys(_reads(self.parts, frozenset())))

    def __str__(self) -> str:
        return "".join(map(str, self.parts))


def walk(parts: tuple[Part, ...]) -> Iterator[Part]:
    """Every part, from the first to the last, those inside blocks too."""
    for part in parts:
        yield part
        if isinstance(part, Each):
            yield from walk(part.body)
        elif isinstance(part, If):
            yield from walk(part.body)
            yield from walk(part.otherwise or ())


def condition_values(condition: Condition) -> Iterator[Value]:
    """Every value a condition looks at."""
    if isinstance(condition, Test):
        for operand in (condition.left, *condition.right):
            if isinstance(operand, Value):
                yield operand
    elif isinstance(condition, Negated):
        yield from condition_values(condition.part)
    else:
        for part in condition.parts:
            yield from condition_values(part)


def _reads(parts: tuple[Part, ...], bound: frozenset[str]) -> Iterator[Path]:
    for part in parts:
        if isinstance(part, Slot):
            paths = [part.path]
        elif isinstance(part, Each):
            paths = [part.value.path]
        elif isinstance(part, If):
            paths = [v.path for v in condition_values(part.condition)]
        else:
            continue
        yield from (path for path in paths if path.root not in bound)
        if isinstance(part, Each):
            yield from _reads(part.body, bound | {part.name, "each"})
        elif isinstance(part, If):
            yield from _reads(part.body, bound)
            yield from _reads(part.otherwise or (), bound)


def _operand(operand: Operand) -> str:
    return f"({operand})" if isinstance(operand, Value) and operand.filters else str(operand)


def quote(text: str) -> str:
    """`text` between quotation marks."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
