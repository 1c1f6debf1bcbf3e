"""What a line gave, in one breath."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping
from typing import Any

from ..gather.lists import HEADS
from .kinds import KindSpec

LONGEST = 400


class _Blank(defaultdict[str, Any]):
    def __missing__(self, key: str) -> str:
        return ""


def brief(kind: KindSpec[Any], output: Mapping[str, Any]) -> str:
    """A result of a kind in one breath: by its own words, or its pattern and what the first of a list are called."""
    if kind.says is not None:
        return kind.says(output)[:LONGEST]
    if not kind.brief:
        return ""
    told = re.sub(r"^1 (\w+)s\b", r"1 \1", kind.brief.format_map(_Blank(str, output)))
    return f"{told}{_heads(output)}"[:LONGEST].strip()


def row_in_brief(cells: Mapping[str, Any]) -> str:
    """A row: the beginnings of its cells."""
    return " · ".join(shortened(str(value)) for value in cells.values() if value)[:LONGEST]


def counted(output: Mapping[str, Any]) -> str:
    """Of a list that was made smaller: how many of how many, to stand before its brief; empty for any other."""
    count, found = output.get("count"), output.get("found")
    if not isinstance(count, int) or not isinstance(found, int) or found <= count or "items" not in output:
        return ""
    return f"{count} of {found} · "


def _heads(output: Mapping[str, Any]) -> str:
    """What the first few of a list are called."""
    found = output.get("items") or output.get("chapters")
    if not isinstance(found, list):
        return ""
    heads = [_head(one) for one in found[:3] if isinstance(one, dict)]
    return "".join(f" · {shortened(head, 48)}" for head in heads if head)


def _head(one: Mapping[str, Any]) -> str:
    named = next((str(one[name]) for name in HEADS if one.get(name)), "")
    return named or next((value for value in one.values() if isinstance(value, str) and value), "")


def shortened(text: str, most: int = 34) -> str:
    """A text on one line, cut between words; a long word, such as an address, is cut and not left out."""
    text = " ".join(text.split())
    if len(text) <= most:
        return text
    cut = text.rfind(" ", 0, most - 1)
    return f"{text[:cut]} …" if cut > 0 else text[: most - 1] + "…"
