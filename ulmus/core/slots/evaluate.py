"""Looking values up, putting them through filters, and deciding conditions. Nothing here raises on any value.

Comparing: two numbers (or texts that are numbers) as numbers, two dates as moments, everything else as text without
regard to capitals and to white space at the ends. A missing value is empty, and neither more nor less than anything.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from .filters import FILTERS, MISSING, as_text, moment_of, number_of
from .language import parse_condition
from .tree import Both, Condition, Either, Filter, Literal, Negated, Operand, Path, SlotError, Test, Value

MOST_ITEMS = 100_000


def look_up(path: Path, values: Mapping[str, Any]) -> Any:
    """The value at `path`, or `MISSING`. On lists ``first`` and ``last`` are names, ``[n]`` counts from 1."""
    here: Any = values.get(path.root, MISSING)
    for part in path.parts[1:]:
        if isinstance(part, int):
            here = here[part - 1] if isinstance(here, list) and part <= len(here) else MISSING
        elif isinstance(here, Mapping):
            here = here.get(part, MISSING)
        elif isinstance(here, list) and part in ("first", "last") and here:
            here = here[0 if part == "first" else -1]
        elif isinstance(here, list) and part == "count":
            here = len(here)
        else:
            return MISSING
        if here is MISSING:
            return MISSING
    return MISSING if here is None else here


def value_of(value: Value, values: Mapping[str, Any]) -> Any:
    """A value after its filters; unknown filters and wrong arguments leave it as it is."""
    found = look_up(value.path, values)
    for call in value.filters:
        found = _filtered(found, call)
    return found


def _filtered(found: Any, call: Filter) -> Any:
    kind = FILTERS.get(call.name)
    if kind is None or (found is MISSING and call.name not in ("otherwise", "count")):
        return found
    if call.condition is not None:
        return [one for one in found if _fits(call.condition, one)] if isinstance(found, list) else found
    if not kind.least <= len(call.arguments) <= kind.most:
        return found
    return kind.apply(found, *call.arguments)


def _fits(condition: Condition, one: Any) -> bool:
    return holds(condition, {**one, "it": one} if isinstance(one, dict) else {"it": one})


def items_of(value: Any, most: int | None = None) -> list[Any]:
    """A value as a list to go through: a list as it is, a text line by line, one object as one item."""
    return all_items(value)[: min(MOST_ITEMS, most or MOST_ITEMS)]


def all_items(value: Any) -> list[Any]:
    """As `items_of`, without a limit."""
    if value is MISSING or value is None:
        return []
    if isinstance(value, str):
        return [line.strip() for line in value.splitlines() if line.strip()]
    return value if isinstance(value, list) else [value]


def fits(text: str, values: Mapping[str, Any]) -> bool:
    """Whether a condition in words holds; an empty one always does, one that cannot be read never.

    >>> fits('score is "high" and count > 3', {"score": "High", "count": "12"})
    True
    """
    if not text.strip():
        return True
    condition = parse_condition(text)
    return not isinstance(condition, SlotError) and holds(condition, values)


def holds(condition: Condition, values: Mapping[str, Any]) -> bool:
    """Whether `condition` holds."""
    if isinstance(condition, Both):
        return all(holds(part, values) for part in condition.parts)
    if isinstance(condition, Either):
        return any(holds(part, values) for part in condition.parts)
    if isinstance(condition, Negated):
        return not holds(condition.part, values)
    return _test(condition, values)


def _test(test: Test, values: Mapping[str, Any]) -> bool:
    left = _operand(test.left, values)
    right = [_operand(o, values) for o in test.right]
    return COMPARISONS[SIGNS.get(test.how, test.how)].holds(left, right)


def _operand(operand: Operand, values: Mapping[str, Any]) -> Any:
    return operand.value if isinstance(operand, Literal) else value_of(operand, values)


def _text(value: Any) -> str:
    return as_text(value).strip().casefold()


def _empty(value: Any) -> bool:
    return value is MISSING or value is None or value in ([], {}) or (isinstance(value, str) and not value.strip())


def _same(a: Any, b: Any) -> bool:
    x, y = number_of(a), number_of(b)
    if x is not None and y is not None:
        return x == y
    return _text(a) == _text(b)


def _contains(whole: Any, piece: Any) -> bool:
    if isinstance(whole, list):
        return any(_same(one, piece) for one in whole)
    return _text(piece) in _text(whole)


def _order(a: Any, b: Any) -> int | None:
    if _empty(a) or _empty(b):
        return None
    x, y = number_of(a), number_of(b)
    if x is not None and y is not None:
        return (x > y) - (x < y)
    p, q = moment_of(a), moment_of(b)
    if p is not None and q is not None:
        # A date without a zone is taken in UTC, so that any two can be compared.
        p, q = (m if m.tzinfo else m.replace(tzinfo=dt.UTC) for m in (p, q))
        return (p > q) - (p < q)
    return (_text(a) > _text(b)) - (_text(a) < _text(b))


@dataclass(frozen=True)
class Comparison:
    """A way to compare: what it asks, and whether it holds between a value and what stands to its right."""

    about: str
    holds: Callable[[Any, list[Any]], bool]


def _ordered(fits: Callable[[int], bool]) -> Callable[[Any, list[Any]], bool]:
    def ask(left: Any, right: list[Any]) -> bool:
        order = _order(left, right[0])
        return order is not None and fits(order)

    return ask


SIGNS = {">": "is more than", "<": "is less than", ">=": "is at least", "<=": "is at most"}
"""What may stand for words."""

COMPARISONS: dict[str, Comparison] = {
    "is": Comparison("The two are the same.", lambda left, right: _same(left, right[0])),
    "is not": Comparison("The two differ.", lambda left, right: not _same(left, right[0])),
    "is one of": Comparison(
        "It is the same as one of several, parted by commas.", lambda left, right: any(_same(left, r) for r in right)
    ),
    "is not one of": Comparison("It is none of several.", lambda left, right: not any(_same(left, r) for r in right)),
    "is empty": Comparison("There is nothing: no value, no letters, no elements.", lambda left, right: _empty(left)),
    "is not empty": Comparison("There is something.", lambda left, right: not _empty(left)),
    "contains": Comparison("A text holds a text; a list holds an element.", lambda left, right: _contains(left, right[0])),
    "does not contain": Comparison("It does not hold it.", lambda left, right: not _contains(left, right[0])),
    "starts with": Comparison("A text begins so.", lambda left, right: _text(left).startswith(_text(right[0]))),
    "ends with": Comparison("A text ends so.", lambda left, right: _text(left).endswith(_text(right[0]))),
    "is more than": Comparison("A number is greater; a text comes later in the alphabet.", _ordered(lambda order: order > 0)),
    "is less than": Comparison("A number is smaller.", _ordered(lambda order: order < 0)),
    "is at least": Comparison("A number is as great or greater.", _ordered(lambda order: order >= 0)),
    "is at most": Comparison("A number is as small or smaller.", _ordered(lambda order: order <= 0)),
    "is before": Comparison("A date is earlier.", _ordered(lambda order: order < 0)),
    "is after": Comparison("A date is later.", _ordered(lambda order: order > 0)),
}
