"""What starts that watch a sheet, and lines that change its rows, have in common."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from ...core.rows import Find
from ...protocols.errors import NothingToDo
from ..api import Settings, setting


def columns_of(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The columns of the sheet as values, with those that other sheets give; any name goes where the sheet is not known."""
    key = settings.get("sheet")
    sheet = world.sheets.get(key) if world else None
    return dict.fromkeys((*sheet[1], *world.linked.get(key, ())), "text") if sheet else {"*": "any"}


class OfARow(Settings):
    """Settings of a line that is about one row of a sheet."""

    sheet: str = setting("Sheet", control="sheet", min_length=1, max_length=60)
    which: Literal["own", "by", "number"] = setting(
        "Which row",
        control="choice",
        default="own",
        labels={
            "own": "the row the run came from",
            "by": "the row in which columns say something",
            "number": "the row of a number",
        },
    )
    by: dict[str, str] = setting(
        "The row in which",
        "Columns, and what they say there; compared without case.",
        control="cells",
        needs="sheet",
        takes="nothing",
        default={},
        max_length=10,
        when="which=by",
    )
    number: str = setting(
        "Its number",
        "As Find rows gives it, such as <<one.row>>.",
        control="slots",
        default="",
        max_length=200,
        when="which=number",
    )


def which_row(settings: OfARow) -> Find:
    """Which row is meant. Raises `NothingToDo` where nothing says so."""
    if settings.which == "own":
        return Find(own=True)
    if settings.which == "number":
        plain = settings.number.strip()
        if not plain.isdigit():
            raise NothingToDo(f"“{plain[:60]}” is no row’s number." if plain else "Nothing says which row: the number is empty.")
        return Find(number=int(plain))
    told = {column: text.strip() for column, text in settings.by.items() if text.strip()}
    if not told:
        raise NothingToDo("Nothing says which row: what the columns should say is empty.")
    return Find(by=told)


def unsaid(settings: OfARow) -> list[tuple[str, str]]:
    """What is not said of which row is meant, by setting."""
    if settings.which == "by" and not any(text.strip() for text in settings.by.values()):
        return [("by", "Say which column tells the row, and what it says.")]
    return [("number", "Say which row.")] if settings.which == "number" and not settings.number.strip() else []
