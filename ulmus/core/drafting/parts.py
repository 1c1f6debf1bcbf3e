"""What a rule is about, where that is not the whole: a field of the answer (in each item of a list), or a part of the text."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from .. import text as texts
from .rules import PARTS

ITEM = "item"
"""What each item of a list of plain texts is called."""


def part_of(of: str, text: str, values: Mapping[str, Any] | None) -> list[tuple[str, str]] | None:
    """The texts a rule about `of` is measured on, each with what it is called; ``None`` where there is no such thing."""
    values = values or {}
    items = values.get("items")
    if of in values and of != "items":
        return [(of.replace("_", " "), _said(values[of]))]
    if isinstance(items, list):
        if of == ITEM:
            return [(f"item {n}", _said(item)) for n, item in enumerate(items, 1)]
        found = [(n, item[of]) for n, item in enumerate(items, 1) if isinstance(item, Mapping) and of in item]
        if found:
            return [(f"{of.replace('_', ' ')} of item {n}", _said(value)) for n, value in found]
    return [(PARTS[of], _cut(of, text))] if of in PARTS else None


def _said(value: Any) -> str:
    if isinstance(value, list):
        return "\n".join(map(_said, value))
    return "" if value is None else str(value)


def _cut(of: str, text: str) -> str:
    if of == "first_sentence":
        found = texts.sentences(text)
        return found[0].text if found else ""
    parts = re.split(r"\n", text) if of.endswith("line") else re.split(r"\n\s*\n", text)
    some = [part.strip() for part in parts if part.strip()]
    return (some[0] if of.startswith("first") else some[-1]) if some else ""
