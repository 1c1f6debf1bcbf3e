"""What a line does to the rows of a sheet, as data, and what becomes of a row's cells by it.

A change is worked out without looking at the sheet; where it is made (`ulmus.runtime.records`) the row is found, what stood there is
kept, and the cells become what they should be.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

How = Literal["set", "append", "count"]
Missing = Literal["add", "fail", "pass"]


class NotThis(ValueError):
    """A cell cannot become what it should; the words say why."""


@dataclass(frozen=True)
class Put:
    """What is put into a cell: in place of what stood there (``set``), on a line below it (``append``), or counted onto it
    (``count``, a number)."""

    text: str
    how: How = "set"


@dataclass(frozen=True)
class Find:
    """Which row: the one the run came from (`own`), the one of a `number`, or the first whose columns say what `by` says."""

    own: bool = False
    number: int | None = None
    by: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Change:
    """What is done to a sheet. ``add``: `rows`, of which none comes twice by the columns `key` where there are some, nor one that is
    nearly like another where they are compared `near`. ``write``: `cells` of the row that is found; where it is `missing` it is
    added, the line fails, or nothing is done. ``move``: the row goes `to` another sheet. ``remove``: it goes."""

    sheet: str
    do: Literal["add", "write", "move", "remove"] = "add"
    rows: Sequence[Mapping[str, str]] = ()
    cells: Mapping[str, Put] = field(default_factory=dict)
    find: Find = Find()
    missing: Missing = "fail"
    key: tuple[str, ...] = ()
    near: bool = False
    to: str = ""


def put(column: str, before: Any, one: Put) -> str:
    """What a cell becomes. Raises `NotThis` where something is to be counted that is no number."""
    stood = "" if before is None else str(before)
    if one.how == "append":
        if not stood.strip():
            return one.text or stood
        return f"{stood}\n{one.text}" if one.text else stood
    if one.how == "count":
        total = _number(column, stood or "0") + _number(column, one.text or "1")
        return f"{total:.12g}"
    return one.text


def written(cells: Mapping[str, Any], puts: Mapping[str, Put]) -> dict[str, str]:
    """The cells that change, as they become; those that stay as they are are left out."""
    new = {column: put(column, cells.get(column), one) for column, one in puts.items()}
    return {column: value for column, value in new.items() if value != str(cells.get(column, "") or "")}


def _number(column: str, text: str) -> float:
    plain = re.sub(r"[\s,’']", "", text) if re.fullmatch(r"\s*-?[\d\s,’']+(?:\.\d+)?\s*", text) else text
    try:
        number = float(plain)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise NotThis(f"“{column}” holds “{text.strip()[:60]}”, which is no number to count on.")
    return number


def folded(value: Any) -> str:
    """A cell as it is compared: without case, and with single spaces."""
    return " ".join(str("" if value is None else value).casefold().split())


def same(cells: Mapping[str, Any], by: Mapping[str, str]) -> bool:
    """Whether a row's columns say what is asked for."""
    return all(folded(cells.get(column)) == folded(value) for column, value in by.items())


def key_of(cells: Mapping[str, Any], key: Sequence[str]) -> tuple[str, ...]:
    """What a row is known by; of links it does not matter how they are written (see `plain_link`)."""
    return tuple(plain_link(folded(cells.get(column))) for column in key)


def plain_link(text: str) -> str:
    """An address without what makes no difference: its scheme, ``www.``, a slash and a fragment at its end, marks that only count
    where a reader came from. Other texts stay."""
    if not re.match(r"https?://", text):
        return text
    bare = re.sub(r"^https?://(www\.)?", "", text).partition("#")[0]
    path, _, query = bare.partition("?")
    kept = [part for part in query.split("&") if part and not re.match(r"(utm_\w+|ref|source)=", part)]
    return path.rstrip("/") + (f"?{'&'.join(kept)}" if kept else "")


NEAR = 0.82
"""From which share of common runs of four letters two rows count as nearly the same."""


def is_near(one: tuple[str, ...], other: tuple[str, ...]) -> bool:
    """Whether two rows say nearly the same by what they are known by: nearly all their words, in nearly the same order."""
    if one == other:
        return True
    a, b = _shingles(" ".join(one)), _shingles(" ".join(other))
    return bool(a and b) and len(a & b) / len(a | b) >= NEAR


def _shingles(text: str) -> set[str]:
    words = re.findall(r"\w+", text)
    letters = " ".join(words)
    return {letters[i : i + 4] for i in range(max(1, len(letters) - 3))} if letters else set()
