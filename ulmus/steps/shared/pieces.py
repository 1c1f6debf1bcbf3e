"""Shared by kinds that send pieces: what goes along with one."""

from __future__ import annotations

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
