"""Which items of a feed are which: an item keeps the name it was first known by, whatever its feed changes of it.

An item is known by its id. Some feeds give other ids, or other links, at each fetch; that is seen by comparing two fetches,
and then the item is known by what stays: its link, or its title and date. A corrected headline never makes a new item.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from .links import same

MOST_REMEMBERED = 700
CHANGED = 0.5
"""The share of items that have to be there again by another name before a feed counts as changing one."""


class Signs(NamedTuple):
    """What an item can be known by, each as a short digest; empty where it has no such thing."""

    id: str
    link: str
    title: str
    date: str
    text: str


@dataclass(frozen=True)
class Item:
    """An item as it came: its id, link, title, date and text, any of which may be empty."""

    id: str
    link: str
    title: str
    date: str
    text: str

    @property
    def signs(self) -> Signs:
        dated = f"{self.title}\n{self.date}" if self.title and self.date else ""
        link = same(self.link) if self.link else ""
        return Signs(*map(_digest, (self.id, link, dated, self.date, f"{self.title}\n{self.text}")))


def names(items: Sequence[Item], memory: Sequence[Sequence[str]]) -> tuple[list[str], list[list[str]]]:
    """The name of each item, and what is to be remembered for the next fetch. `memory` is what was remembered at the last one:
    rows of a name and the signs it was known by."""
    known = [(str(row[0]), Signs(*map(str, row[1:6]))) for row in memory if len(row) >= 6]
    signs = [item.signs for item in items]
    stays = _stays([one for _, one in known], signs)
    single = {sign: _single(sign, [one for _, one in known]) & _single(sign, signs) for sign in Signs._fields}
    by = {
        sign: {value: name for name, one in reversed(known) if (value := getattr(one, sign)) in single[sign]}
        for sign in Signs._fields
    }
    out, taken = [], set[str]()
    for item, one in zip(items, signs, strict=True):
        name = next(
            (found for sign in _order(one, stays) if (found := by[sign].get(getattr(one, sign))) and found not in taken), ""
        )
        name = name or item.id or item.link or f"digest:{_digest(f'{item.title} {item.text}', 32)}"
        taken.add(name)
        out.append(name)
    rows = {name: [name, *one] for name, one in zip(out, signs, strict=True)}
    older = [list(row) for row in memory if row and row[0] not in rows]
    return out, [*rows.values(), *older][:MOST_REMEMBERED]


def _order(signs: Signs, stays: Mapping[str, bool]) -> list[str]:
    """By what an item is looked for among those known, first to last."""
    order = ["id"] if signs.id else ["link"] if signs.link else ["date", "text"]
    if signs.id and not stays["id"]:
        order += ["link"] if stays["link"] else ["title"]
    elif not signs.id and signs.link and not stays["link"]:
        order += ["title"]
    return order


def _stays(before: Sequence[Signs], now: Sequence[Signs]) -> dict[str, bool]:
    """Whether ids, and links, are the same at this fetch as they were: where most of what was there before is there again, but
    under other ids, ids do not stay."""
    return {
        "id": not _changed("id", ("link", "title"), before, now),
        "link": not _changed("link", ("id", "title"), before, now),
    }


def _changed(sign: str, others: Sequence[str], before: Sequence[Signs], now: Sequence[Signs]) -> bool:
    known = {getattr(one, sign) for one in before}
    for other in others:
        there = _single(other, [one for one in before if getattr(one, sign)]) & _single(other, now)
        again = [one for one in now if getattr(one, other) in there and getattr(one, sign)]
        renamed = sum(getattr(signs, sign) not in known for signs in again)
        # One alone at the same address may well be the next of its kind; under the same title and date it is the same.
        if renamed >= (1 if other == "title" else 2) and renamed > CHANGED * len(again):
            return True
    return False


def _single(sign: str, items: Sequence[Signs]) -> set[str]:
    """The signs that one item has and no other: what several share tells none from another."""
    counts = Counter(getattr(item, sign) for item in items)
    return {value for value, count in counts.items() if value and count == 1}


def _digest(text: Any, length: int = 12) -> str:
    plain = " ".join(str(text).split())
    return hashlib.sha256(plain.encode("utf-8", "replace")).hexdigest()[:length] if plain else ""
