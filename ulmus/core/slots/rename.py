"""Calling a root by another name in texts and conditions, where a step was renamed or pasted; nothing else changes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from .language import parse, parse_condition
from .tree import Both, Condition, Each, Either, If, Negated, Operand, Part, Path, Slot, SlotError, Test, Value


def renamed(text: str, names: Mapping[str, str]) -> str:
    """`text` with the roots in `names` called by their new names; marks that name none of them stay as typed.

    >>> renamed("<<page.title>>: <<each page.links as link>><<link>><<end>>", {"page": "article"})
    '<<article.title>>: <<each article.links as link>><<link>><<end>>'
    """
    out, at = [], 0
    for start, end, new in sorted(_changes(parse(text).parts, names)):
        out += [text[at:start], new]
        at = end
    return "".join([*out, text[at:]])


def renamed_condition(text: str, names: Mapping[str, str]) -> str:
    """The same for a condition in words; one that cannot be read stays as it is."""
    found = parse_condition(text)
    if isinstance(found, SlotError):
        return text
    new = _condition(found, names)
    return text if new == found else str(new)


def _changes(parts: tuple[Part, ...], names: Mapping[str, str]) -> Iterator[tuple[int, int, str]]:
    for part in parts:
        if isinstance(part, Slot):
            if part.path.root in names:
                yield part.start, part.end, str(replace(part, path=_path(part.path, names)))
        elif isinstance(part, Each):
            if part.value.path.root in names:
                yield part.start, part.end, f"<<each {_value(part.value, names)} as {part.name}>>"
            yield from _changes(part.body, {old: new for old, new in names.items() if old != part.name})
        elif isinstance(part, If):
            condition = _condition(part.condition, names)
            if condition != part.condition:
                yield part.start, part.end, f"<<if {condition}>>"
            yield from _changes(part.body, names)
            yield from _changes(part.otherwise or (), names)


def _path(path: Path, names: Mapping[str, str]) -> Path:
    return Path((names.get(path.root, path.root), *path.parts[1:]))


def _value(value: Value, names: Mapping[str, str]) -> Value:
    return replace(value, path=_path(value.path, names))


def _operand(operand: Operand, names: Mapping[str, str]) -> Operand:
    return _value(operand, names) if isinstance(operand, Value) else operand


def _condition(condition: Condition, names: Mapping[str, str]) -> Condition:
    if isinstance(condition, Test):
        right = tuple(_operand(one, names) for one in condition.right)
        return replace(condition, left=_operand(condition.left, names), right=right)
    if isinstance(condition, Negated):
        return Negated(_condition(condition.part, names))
    parts = tuple(_condition(part, names) for part in condition.parts)
    return Either(parts) if isinstance(condition, Either) else Both(parts)
