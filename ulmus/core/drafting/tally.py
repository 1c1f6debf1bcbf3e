"""Takes counted against each other: rules kept, cost, length, preferences and approvals, the last two with intervals."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Made:
    """One take's draft for one sample; `key` tells its text apart from every other."""

    take: str
    sample: int
    key: str
    kept: bool
    cost: float
    characters: int


@dataclass(frozen=True)
class Choice:
    """A person's word: `chosen` was liked best among several drafts, told by their keys."""

    chosen: str
    among: tuple[str, ...]


@dataclass(frozen=True)
class Tally:
    """What a take came to. `low` and `high` bound the share of comparisons it wins (Wilson's 95 % interval)."""

    take: str
    made: int
    kept: int
    cost: float
    characters: int
    preferred: int
    compared: int
    low: float
    high: float


def tally(takes: Sequence[str], made: Sequence[Made], choices: Sequence[Choice]) -> list[Tally]:
    """One tally a take. Only choices among drafts that still stand count: an edited prompt begins anew."""
    out = []
    for take in takes:
        mine = [one for one in made if one.take == take]
        keys = {one.key for one in mine}
        compared = [c for c in choices if keys & set(c.among)]
        preferred = sum(c.chosen in keys for c in compared)
        low, high = wilson(preferred, len(compared))
        count = max(len(mine), 1)
        out.append(
            Tally(
                take=take,
                made=len(mine),
                kept=sum(one.kept for one in mine),
                cost=sum(one.cost for one in mine) / count,
                characters=round(sum(one.characters for one in mine) / count),
                preferred=preferred,
                compared=len(compared),
                low=low,
                high=high,
            )
        )
    return out


@dataclass(frozen=True)
class Approved:
    """What came of a take in live runs: how many of its drafts were decided on, how many of them passed as they were
    written, and the bounds of that share (Wilson's 95 % interval)."""

    decided: int
    unedited: int
    low: float
    high: float


def approved(unedited: Sequence[bool]) -> Approved:
    """The first decision on each draft of a take, counted: whether it passed without a change."""
    return Approved(len(unedited), sum(unedited), *wilson(sum(unedited), len(unedited)))


@dataclass(frozen=True)
class Share:
    """How many of some people did something, with the bounds of that share (95 %)."""

    of: int
    did: int
    low: float
    high: float


def share(did: int, of: int) -> Share:
    """A share with its bounds; none can be more than all."""
    return Share(of, min(did, of), *wilson(min(did, of), of))


def wilson(hits: int, count: int, z: float = 1.959964) -> tuple[float, float]:
    """Wilson's score interval of a share (E. B. Wilson, 1927): from 0 to 1 where nothing was counted."""
    if count == 0:
        return 0.0, 1.0
    share, square = hits / count, z * z
    middle = share + square / (2 * count)
    reach = z * math.sqrt(share * (1 - share) / count + square / (4 * count * count))
    return max(0.0, (middle - reach) / (1 + square / count)), min(1.0, (middle + reach) / (1 + square / count))
