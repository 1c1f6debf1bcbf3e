"""Record: into a row that is there."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.rows import Change, Put
from ..api import Changes, Context, setting
from ..shared.rows import OfARow, unsaid, which_row


class WriteRowSettings(OfARow):
    cells: dict[str, str] = setting(
        "Cells",
        "What goes into which column; where nothing comes the cell stays as it is.",
        control="cells",
        needs="sheet",
        takes="made",
        default={},
        max_length=100,
    )
    below: dict[str, str] = setting(
        "Added below what stands there",
        "A line of its own, with the day where it is wanted.",
        control="cells",
        needs="sheet",
        takes="nothing",
        default={},
        max_length=100,
        more=True,
    )
    dated: bool = setting("With the day before it", control="switch", default=True, when="below", more=True)
    counted: dict[str, str] = setting(
        "Counted up",
        "Columns, and by how much; empty counts one.",
        control="cells",
        needs="sheet",
        takes="nothing",
        default={},
        max_length=100,
        more=True,
    )
    missing: Literal["fail", "add", "pass"] = setting(
        "If there is no such row",
        control="choice",
        default="fail",
        labels={"fail": "say so", "add": "add it", "pass": "go on without"},
        more=True,
    )


class WriteRowOutput(BaseModel):
    row: int = Field(0, description="Where the row stands in the sheet.")
    sheet: str = Field("", description="The sheet it is in.")
    found: str = Field("", description="yes where the row was there, no otherwise.")
    before: dict[str, Any] = Field({}, description="What stood in the cells that changed.")
    after: dict[str, Any] = Field({}, description="What stands in them now.")


def change(settings: WriteRowSettings, context: Context) -> Change:
    """What becomes of the row's cells."""
    day = str((context.values.get("run") or {}).get("date") or "") if settings.dated else ""
    puts = {column: Put(text.strip()) for column, text in settings.cells.items() if text.strip()}
    puts |= {
        column: Put(f"{day}: {text.strip()}" if day and text.strip() else text.strip(), "append")
        for column, text in settings.below.items()
    }
    puts |= {column: Put(text.strip(), "count") for column, text in settings.counted.items()}
    return Change(settings.sheet, "write", cells=puts, find=which_row(settings), missing=settings.missing)


def faults(settings: WriteRowSettings) -> list[tuple[str, str]]:
    """What is not said yet."""
    wrong = []
    if not any(settings.cells.values()) and not any(settings.below.values()) and not settings.counted:
        wrong.append(("cells", "Say what goes into which column."))
    return wrong + unsaid(settings)


def says(output: Mapping[str, Any]) -> str:
    """What became of the row."""
    after = output.get("after") or {}
    cells = " · ".join(f"{column}: {str(value)[:80]}" for column, value in after.items())
    if output.get("found") == "no" and not output.get("row"):
        return "No such row" + (f"; would add {cells}" if cells else "")
    return cells or "Nothing changed"


KIND = Changes(
    name="write_row",
    stage="record",
    title="Write into the row",
    about="Writes into cells of a row that is there, and leaves the rest. What stood there before is kept with the run and the row.",
    sentence="Write into {sheet}, {which}",
    offer="Write into the row of {sheet}",
    words="update change beside same row cell column mark used done state append note log count up fill in spreadsheet edit",
    called="written",
    settings=WriteRowSettings,
    output=WriteRowOutput,
    change=change,
    own_row=lambda settings: settings.which == "own",
    adds=lambda settings: settings.missing == "add",
    faults=faults,
    says=says,
)
