"""Record: a new row in a sheet."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ..api import Context, Settings, Writes, setting


class RowSettings(Settings):
    sheet: str = setting("Sheet", control="sheet")
    cells: dict[str, str] = setting(
        "Cells", "What goes into which column.", control="cells", needs="sheet", default={}, max_length=100
    )


class RowOutput(BaseModel):
    row: int = Field(0, description="The number of the new row.")
    sheet: str = Field("", description="The sheet it was added to.")


def row(settings: RowSettings, context: Context) -> tuple[str, dict[str, Any]]:
    """The sheet and the new row's cells."""
    return settings.sheet, {column: text.strip() for column, text in settings.cells.items()}


KIND = Writes(
    name="add_row",
    stage="record",
    title="Add a row",
    about="Adds a row to a sheet. The row remembers the run it came from.",
    sentence="Add a row to {sheet}",
    offer="Add a row to {sheet}",
    words="write record note down sheet table save",
    called="row",
    settings=RowSettings,
    output=RowOutput,
    row=row,
    brief="Row {row} in {sheet}",
)
