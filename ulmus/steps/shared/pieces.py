"""Shared by kinds that send pieces: what goes along with one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from ...core.pieces import Attached
from ...protocols.net import check_url
from ..api import Context


def attached(place: str, context: Context, words: str = "") -> Attached:
    """What stands at a place, a link of a file kept here or an address. Raises `OutsideError` where it can be neither."""
    kept = context.workspace.file(place)
    if kept is None:
        check_url(place)
        return Attached(link=place, words=words)
    name, type_, body = kept
    return Attached(link=place, name=name, type=type_, size=len(body), words=words, kept=True)


def shown(links: Iterable[str], context: Context) -> Iterator[Attached]:
    """Of the pictures a text shows those that are kept here: nobody outside could fetch them, so they go along."""
    for link in dict.fromkeys(links):
        if context.workspace.file(link) is not None:
            yield attached(link, context).model_copy(update={"inside": True})


def words_of(text: str) -> tuple[str, ...]:
    """Words that are parted by commas or lines, each once, without the sign of a tag."""
    return tuple(dict.fromkeys(word for part in re.split(r"[,;\n]", text) if (word := part.strip().lstrip("#").strip())))


def places_of(text: str) -> list[str]:
    """Links that are parted by commas, spaces or lines, each once; a comma inside an address stays."""
    parts = (part.strip(",") for part in re.split(r"\s+|,(?=https?:|/)", text))
    return list(dict.fromkeys(place for place in parts if place))
