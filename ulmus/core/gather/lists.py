"""Lists as they are wanted: kept by a condition, without repeats, in an order, of some size, or picked at random."""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from ..slots import fits
from ..slots.filters import sort
from .links import same

Repeats = Literal["keep", "same", "near"]
NEAR = 0.6
HEADS = ("title", "words", "subject", "name")
"""What the elements of lists are called by, the first there is."""


@dataclass(frozen=True)
class Shaping:
    """How a list is to be; `by` names a value of its elements, with `down` from the greatest."""

    keep: str = ""
    repeats: Repeats = "keep"
    by: str = ""
    down: bool = False
    most: int | None = None
    random: bool = False


def shaped(items: list[dict[str, Any]], how: Shaping, key: str, text: str, seed: str = "") -> list[dict[str, Any]]:
    """`items` as `how` says. `key` names the value that makes an element itself, `text` those that near repeats are told by
    (parted by spaces). The same `seed` picks the same."""
    out = [item for item in items if fits(how.keep, {**item, "it": item})] if how.keep.strip() else list(items)
    if how.repeats != "keep":
        seen: set[str] = set()
        kept = []
        for one in out:
            mark = same(str(one.get(key) or one))
            if mark not in seen:
                kept.append(one)
            seen.add(mark)
        out = kept
    if how.repeats == "near" and len(out) > 1:
        from .nearness import near_repeats  # loaded on first use: it is large

        told = [_told(one, text) for one in out]
        out = [one for one, like in zip(out, near_repeats(told, NEAR), strict=True) if like < 0]
    if how.by:
        out = sort(out, "by", how.by, *(["down"] if how.down else []))
    if how.random:
        size = min(len(out), how.most or len(out))
        chosen = sorted(random.Random(seed).sample(range(len(out)), size))
        out = [out[i] for i in chosen]
    return out[: how.most] if how.most else out


def _told(one: Mapping[str, Any], names: str) -> str:
    return " ".join(str(one.get(name) or "") for name in names.split())
