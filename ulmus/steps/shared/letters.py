"""Shared by kinds that send mail: how a text is written, what goes along, and where answers go."""

from __future__ import annotations

from typing import Literal

from ...core.pieces import Attached
from ...protocols.errors import NothingToDo
from ..api import Context, Timely, setting
from .pieces import attached, places_of


class Mailed(Timely):
    """Settings of a line that sends mail."""

    written: Literal["markdown", "plain", "html"] = setting(
        "The text is",
        "Markdown and HTML go out as HTML with a plain text beside it.",
        control="choice",
        default="markdown",
        labels={"markdown": "Markdown", "plain": "plain text only", "html": "HTML"},
        more=True,
    )
    files: str = setting(
        "Attachments",
        "The links of files and pictures kept or made here, parted by commas or lines. May be empty.",
        control="slots",
        default="",
        max_length=5000,
        more=True,
    )
    reply_to: str = setting(
        "Answers to", "Another address than the sender’s.", control="slots", default="", max_length=300, more=True
    )


def attachments(files: str, context: Context) -> list[Attached]:
    """The kept files at some links. Raises `OutsideError` where one is none."""
    named = [attached(place, context) for place in places_of(files)]
    if missing := next((one.link for one in named if not one.kept), ""):
        raise NothingToDo(f"“{missing[:80]}” is no file kept here, so that it cannot be attached. Read or make it first.")
    return named
