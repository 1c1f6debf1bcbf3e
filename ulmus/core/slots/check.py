"""Static checks: does every slot name something an earlier step gives?

A scope is a tree of names: ``{"feed": {"title": "text", "link": "text"}, "brand": {...}}``. A leaf is
the type's word (``text``, ``number``, ``list``, ``any``) or, for a list whose elements are known, ``[{...}]``;
below ``any`` and ``list`` everything is allowed, and so is any name beside a ``*``.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from .filters import FILTERS
from .language import parse, parse_condition
from .tree import Condition, Each, Filter, If, Part, Slot, SlotError, Template, Text, Value, condition_values

Scope = Mapping[str, Any]
SAME_LIST = frozenset({"keep", "sort", "drop", "reverse", "otherwise"})
EACH_SCOPE = {"number": "number", "first": "any", "last": "any"}


@dataclass(frozen=True)
class Problem:
    """What is wrong, and where in the text (characters, end exclusive)."""

    message: str
    start: int
    end: int
    severity: Literal["error", "warning"] = "error"


def check(template: Template, scope: Scope, maybe: Mapping[str, str] | None = None) -> list[Problem]:
    """Problems of `template` in `scope`. `maybe` maps roots that may have no value to the reason why."""
    problems: list[Problem] = []
    seen: set[str] = set()
    for part, here, sure in _walk(template.parts, scope, frozenset()):
        if isinstance(part, SlotError):
            problems.append(Problem(part.message, part.start, part.end))
        elif isinstance(part, Slot):
            problems += _value(part.value, here, part.start, part.end)
            problems += _maybe(part.value, maybe or {}, sure, part.start, part.end)
            if here is scope:
                if str(part) in seen:
                    problems.append(Problem(f"{part} stands here twice.", part.start, part.end, "warning"))
                seen.add(str(part))
        elif isinstance(part, Each):
            problems += _value(part.value, here, part.start, part.end, may_be_whole=True)
            found = type_of(part.value, here)
            if found in ("number",) or isinstance(found, Mapping):
                problems.append(Problem(f"“{part.value.path}” is not a list.", part.start, part.end))
        elif isinstance(part, If):
            problems += _condition(part.condition, here, part.start, part.end)
    return problems


def check_condition(text: str, scope: Scope) -> list[Problem]:
    """Problems of a condition in words; an empty one has none."""
    if not text.strip():
        return []
    condition = parse_condition(text)
    if isinstance(condition, SlotError):
        return [Problem(condition.message, condition.start, max(condition.end, condition.start + 1))]
    return _condition(condition, scope, 0, len(text))


def check_value(text: str, scope: Scope) -> list[Problem]:
    """Problems of a setting that names one value, such as the list a block goes through."""
    template = parse(text)
    parts = [p for p in template.parts if not (isinstance(p, Text) and not p.text.strip())]
    problems = check(template, scope)
    if not problems and (len(parts) != 1 or not isinstance(parts[0], Slot)) and "<<" in text:
        problems.append(Problem("Put one slot here and nothing else, such as <<search.results>>.", 0, len(text)))
    return problems


def type_of(value: Value, scope: Scope) -> Any:
    """What is known of a value's type: a word, a mapping of names, or ``[elements]``."""
    here: Any = scope.get(value.path.root, "any")
    for part in value.path.parts[1:]:
        if isinstance(here, list):
            here = here[0] if isinstance(part, int) or part in ("first", "last") else "any"
        else:
            here = here.get(part, "any") if isinstance(here, Mapping) else "any"
    for call in value.filters:
        here = _after(here, call)
    return here


def _after(here: Any, call: Filter) -> Any:
    if call.name in SAME_LIST:
        return here
    if call.name in ("first", "last") and isinstance(here, list):
        return here if call.arguments else here[0]
    return "any"


def _walk(parts: tuple[Part, ...], scope: Scope, sure: frozenset[str]) -> Iterator[tuple[Part, Scope, frozenset[str]]]:
    for part in parts:
        yield part, scope, sure
        if isinstance(part, Each):
            found = type_of(part.value, scope)
            element = found[0] if isinstance(found, list) else "any"
            yield from _walk(part.body, {**scope, part.name: element, "each": EACH_SCOPE}, sure)
        elif isinstance(part, If):
            # What a condition asks about is not warned of below it.
            asked = sure | {v.path.root for v in condition_values(part.condition)}
            yield from _walk(part.body, scope, asked)
            yield from _walk(part.otherwise or (), scope, asked)


def _maybe(value: Value, maybe: Mapping[str, str], sure: frozenset[str], start: int, end: int) -> list[Problem]:
    root = value.path.root
    if root not in maybe or root in sure or any(f.name == "otherwise" for f in value.filters):
        return []
    message = f'<<{value.path}>> may be missing: {maybe[root]}. Add | otherwise "…".'
    return [Problem(message, start, end, "warning")]


def _condition(condition: Condition, scope: Scope, start: int, end: int) -> list[Problem]:
    return [p for value in condition_values(condition) for p in _value(value, scope, start, end, may_be_whole=True)]


def _value(value: Value, scope: Scope, start: int, end: int, may_be_whole: bool = False) -> list[Problem]:
    message = _path(value, scope, may_be_whole)
    problems = [Problem(message, start, end)] if message else []
    here: Any = type_of(Value(value.path), scope)
    for call in value.filters:
        kind = FILTERS.get(call.name)
        if kind is None:
            problems.append(Problem(f"There is no filter “{call.name}”.{_near(call.name, FILTERS)}", start, end))
        elif call.condition is None and (call.name == "keep" or not kind.least <= len(call.arguments) <= kind.most):
            problems.append(Problem(f"Write the filter like this: {kind.usage}.", start, end))
        elif call.condition is not None and isinstance(here, list) and isinstance(here[0], Mapping):
            problems += _condition(call.condition, {**here[0], "it": "any"}, start, end)
        here = _after(here, call)
    return problems


def _path(value: Value, scope: Scope, may_be_whole: bool) -> str:
    path = value.path
    if path.root not in scope:
        return f"No earlier step is called “{path.root}”.{_near(path.root, scope)}"
    here: Any = scope[path.root]
    walked = path.root
    for part in path.parts[1:]:
        if here in ("any", "list", "object"):
            return ""
        if isinstance(here, list):
            if isinstance(part, int) or part in ("first", "last"):
                here, walked = here[0], f"{walked}[{part}]"
                continue
            return "" if part == "count" else f"“{walked}” is a list: write [1] for its first, or go through it with <<each …>>."
        if not isinstance(here, Mapping):
            return f"“{walked}” is a single value; nothing stands under it."
        if part not in here:
            if "*" in here:
                return ""
            return f"“{walked}” gives no “{part}”.{_near(str(part), here)}"
        here, walked = here[part], f"{walked}.{part}"
    if isinstance(here, Mapping) and not value.filters and not may_be_whole:
        return f"Choose one of the values of “{walked}”: {', '.join(list(here)[:5])}."
    return ""


def _near(word: str, names: Mapping[str, Any]) -> str:
    close = difflib.get_close_matches(word, list(names), n=1, cutoff=0.5)
    return f" Did you mean “{close[0]}”?" if close else ""
