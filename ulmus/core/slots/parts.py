"""A condition as a row of comparisons, for editing it piece by piece."""

from __future__ import annotations

from dataclasses import dataclass

from .evaluate import SIGNS
from .tree import Both, Condition, Either, Literal, Test, quote


@dataclass(frozen=True)
class Clause:
    """One comparison: the value looked at, how, and with what: texts written out, or one other value."""

    left: str
    how: str
    right: tuple[str, ...] = ()
    is_value: bool = False

    def __str__(self) -> str:
        right = self.right if self.is_value else tuple(quote(text) for text in self.right)
        return " ".join(part for part in (self.left, self.how, ", ".join(right)) if part)


def clauses_of(condition: Condition) -> tuple[str, tuple[Clause, ...]] | None:
    """The word that joins (``and``, ``or``) and the comparisons; ``None`` where the condition is nested or negated."""
    parts = condition.parts if isinstance(condition, Both | Either) else (condition,)
    found = tuple(_clause(part) for part in parts if isinstance(part, Test))
    if len(found) < len(parts) or None in found:
        return None
    return "or" if isinstance(condition, Either) else "and", tuple(clause for clause in found if clause is not None)


def _clause(test: Test) -> Clause | None:
    if isinstance(test.left, Literal):
        return None
    how = SIGNS.get(test.how, test.how)
    left = f"({test.left})" if test.left.filters else str(test.left)
    if how.endswith("one of") and any(isinstance(one, Literal) and "," in str(one.value) for one in test.right):
        # In a row the texts are parted by commas.
        return None
    if all(isinstance(one, Literal) for one in test.right):
        return Clause(left, how, tuple(str(one.value) for one in test.right if isinstance(one, Literal)))
    if len(test.right) != 1 or isinstance(test.right[0], Literal):
        return None
    right = test.right[0]
    return Clause(left, how, (f"({right})" if right.filters else str(right),), is_value=True)
