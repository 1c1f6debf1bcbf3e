"""Trials: what drafts of two versions of a page came to on the same items, held against each other.

A draft *passes* where it could be made, breaks no must-rule, every test of its prompt holds, and no sentence of it is
contradicted by its sources or stands in none. What a change mends and what it breaks is counted in pairs, so that an item that is hard
for both weighs for neither.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from .. import slots
from ..slots.language import parse_condition
from .tally import wilson

Z = 1.959964


@dataclass(frozen=True)
class PromptTest:
    """What must hold of a draft: a condition on what it gives, for the sample of a name, or for every item where there is none."""

    holds: str
    sample: str = ""

    def said(self) -> str:
        """The test in words."""
        return f"{self.holds}, for “{self.sample}”" if self.sample else self.holds


def failed_tests(tests: Iterable[PromptTest], item: str, output: Mapping[str, Any], values: Mapping[str, Any]) -> tuple[str, ...]:
    """The tests that do not hold for what a draft gives (`output`) of an item, in words; other `values` of the run can be named
    in them as well."""
    scope = {**values, **output}
    return tuple(test.said() for test in tests if test.sample in ("", item) and not slots.fits(test.holds, scope))


def test_faults(tests: Iterable[PromptTest], scope: Mapping[str, Any]) -> list[str]:
    """What is wrong with tests, in words; `scope` has what the line gives, and what is above it."""
    out = []
    for test in tests:
        if not test.holds.strip():
            out.append("A test says nothing that must hold.")
        elif isinstance(parse_condition(test.holds), slots.SlotError) or slots.check_condition(test.holds, scope):
            (problem, *_) = slots.check_condition(test.holds, scope)
            out.append(f"The test “{test.holds[:60]}”: {problem.message}")
    return out


@dataclass(frozen=True)
class Outcome:
    """What came of one draft: its text, or why there is none (`failed`), the must-rules it breaks, the tests that do not hold and the
    sentences no source bears out; and what it took."""

    text: str = ""
    failed: str = ""
    broken: tuple[str, ...] = ()
    tests: tuple[str, ...] = ()
    unsourced: tuple[str, ...] = ()
    calls: int = 0
    cost: float = 0.0

    @property
    def wrong(self) -> tuple[str, ...]:
        """Everything that is wrong with it, in words."""
        failed = (self.failed,) if self.failed else ()
        return (*failed, *self.broken, *(f"test: {test}" for test in self.tests), *(f"no source: {s}" for s in self.unsourced))

    @property
    def passes(self) -> bool:
        """Whether nothing is wrong with it."""
        return not self.wrong


@dataclass(frozen=True)
class Difference:
    """How many of some items something holds for, before and after; how many were mended and how many broken by the change; and the
    difference of the shares with its bounds (95 %)."""

    of: int
    before: int
    after: int
    mended: int
    broke: int
    low: float
    high: float
    before_low: float
    before_high: float
    after_low: float
    after_high: float


def difference(pairs: Sequence[tuple[bool, bool]]) -> Difference:
    """Pairs (before, after) counted. The bounds of the difference are those of Bonett and Price (2012), which are good for few pairs;
    those of each share are Wilson's."""
    count = len(pairs)
    before, after = sum(one for one, _ in pairs), sum(one for _, one in pairs)
    mended = sum(not one and other for one, other in pairs)
    broke = sum(one and not other for one, other in pairs)
    up, down = (mended + 1) / (count + 2), (broke + 1) / (count + 2)
    reach = Z * math.sqrt(max(0.0, up + down - (up - down) ** 2) / (count + 2))
    low, high = (max(-1.0, up - down - reach), min(1.0, up - down + reach)) if count else (-1.0, 1.0)
    return Difference(count, before, after, mended, broke, low, high, *wilson(before, count), *wilson(after, count))


@dataclass(frozen=True)
class Pair:
    """A draft of one item before and after a change: which line made it, and where in the page (empty outside blocks)."""

    item: str
    step: str
    place: str
    before: Outcome
    after: Outcome

    @property
    def came(self) -> str:
        """What the change did: ``mended``, ``broke``, ``other`` (the text differs, nothing else) or ``same``."""
        if self.before.passes != self.after.passes:
            return "mended" if self.after.passes else "broke"
        return "same" if self.before.text == self.after.text and self.before.wrong == self.after.wrong else "other"


@dataclass(frozen=True)
class LineTrial:
    """What a change came to for a draft's line: drafts that pass; keep their must-rules; meet their tests; say nothing the sources
    do not; the cost and the calls of one, before and after."""

    step: str
    passes: Difference
    rules: Difference
    tests: Difference
    sources: Difference
    cost: tuple[float, float]
    calls: tuple[float, float]


def counted(pairs: Sequence[Pair]) -> list[LineTrial]:
    """The pairs by line, in the order in which these come."""
    out = []
    for step in dict.fromkeys(pair.step for pair in pairs):
        mine = [pair for pair in pairs if pair.step == step]
        count = len(mine)
        out.append(
            LineTrial(
                step,
                difference([(pair.before.passes, pair.after.passes) for pair in mine]),
                difference([_both(pair, lambda one: not one.failed and not one.broken) for pair in mine]),
                difference([_both(pair, lambda one: not one.failed and not one.tests) for pair in mine]),
                difference([_both(pair, lambda one: not one.failed and not one.unsourced) for pair in mine]),
                (sum(pair.before.cost for pair in mine) / count, sum(pair.after.cost for pair in mine) / count),
                (sum(pair.before.calls for pair in mine) / count, sum(pair.after.calls for pair in mine) / count),
            )
        )
    return out


def _both(pair: Pair, holds: Any) -> tuple[bool, bool]:
    return bool(holds(pair.before)), bool(holds(pair.after))
