"""Record: a new row in a sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core.rows import Change
from ..api import Changes, Context, Settings, setting


class RowSettings(Settings):
    sheet: str = setting("Sheet", control="sheet")
    cells: dict[str, str] = setting(
        "Cells", "What goes into which column.", control="cells", needs="sheet", default={}, max_length=100
    )
    once: str = setting(
        "Only where it is not there yet, by",
        "A column, or several parted by commas. Empty adds it always.",
        control="text",
        default="",
        max_length=500,
        more=True,
    )
    near: bool = setting("What is nearly the same counts as there", control="switch", default=False, when="once", more=True)


class RowOutput(BaseModel):
    row: int = Field(0, description="Where the new row stands; 0 where it was there already.")
    sheet: str = Field("", description="The sheet it was added to.")
    there: int = Field(0, description="1 where it was there already.")


def change(settings: RowSettings, context: Context) -> Change:
    """The row that comes, and by what it is known."""
    cells = {column: text.strip() for column, text in settings.cells.items()}
    key = tuple(column.strip() for column in settings.once.split(",") if column.strip())
    return Change(settings.sheet, rows=(cells,), key=key, near=settings.near)


def faults(settings: RowSettings) -> list[tuple[str, str]]:
    """What is not said yet."""
    wrong = [] if any(text.strip() for text in settings.cells.values()) else [("cells", "Say what goes into which column.")]
    once = [column.strip() for column in settings.once.split(",") if column.strip()]
    return wrong + [("once", f"Nothing goes into “{column}”.") for column in once if not settings.cells.get(column, "").strip()]


def says(output: Mapping[str, Any]) -> str:
    """Where it went."""
    if output.get("there"):
        return f"There already, in {output.get('sheet', '')}"
    return f"Row {output.get('row', 0)} in {output.get('sheet', '')}"


KIND = Changes(
    name="add_row",
    stage="record",
    title="Add a row",
    about="Adds a row to a sheet. The row remembers the run it came from.",
    sentence="Add a row to {sheet}",
    offer="Add a row to {sheet}",
    words="write record note down sheet table save spreadsheet log append keep store",
    called="row",
    settings=RowSettings,
    output=RowOutput,
    change=change,
    faults=faults,
    says=says,
)
