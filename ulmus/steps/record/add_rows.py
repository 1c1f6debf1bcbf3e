"""Record: a row for each item of a list, in one line."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core import slots
from ...core.rows import Change
from ...core.workflow.controls import ITEM
from ..api import Changes, Context, Settings, setting


class AddRowsSettings(Settings):
    sheet: str = setting("Sheet", control="sheet", min_length=1, max_length=60)
    list: str = setting("A row for each of", "A list.", control="value", takes="*list", min_length=1, max_length=1000)
    cells: dict[str, str] = setting(
        "Cells",
        "What goes into which column; <<item.title>> is the item’s own title.",
        control="itemcells",
        needs="sheet",
        default={},
        max_length=100,
    )
    once: str = setting(
        "Only what is not there yet, by",
        "A column, or several parted by commas. Empty adds all.",
        control="text",
        default="",
        max_length=500,
    )
    near: bool = setting("What is nearly the same counts as there", control="switch", default=False, when="once", more=True)
    most: int = setting("At most", "Rows.", control="number", default=200, ge=1, le=5000, more=True)


class AddRowsOutput(BaseModel):
    row: int = Field(0, description="Where the first of them stands.")
    sheet: str = Field("", description="The sheet they were added to.")
    added: int = Field(0, description="How many rows were added.")
    there: int = Field(0, description="How many were there already.")


def rows(settings: AddRowsSettings, values: Mapping[str, Any]) -> Iterator[dict[str, str]]:
    """The rows, one for each item; those with nothing in them are left out."""
    templates = {column: slots.parse(text) for column, text in settings.cells.items()}
    for item in slots.items_of(slots.value_in(settings.list, values), settings.most):
        around = {**values, ITEM: item}
        cells = {column: slots.render(template, around).text.strip() for column, template in templates.items()}
        if any(cells.values()):
            yield cells


def change(settings: AddRowsSettings, context: Context) -> Change:
    """The rows that come, and by what none comes twice."""
    key = tuple(column.strip() for column in settings.once.split(",") if column.strip())
    return Change(settings.sheet, rows=tuple(rows(settings, context.values)), key=key, near=settings.near)


def faults(settings: AddRowsSettings) -> list[tuple[str, str]]:
    """What is not said yet, and columns that nothing fills."""
    wrong = [] if any(settings.cells.values()) else [("cells", "Say what goes into which column.")]
    once = [column.strip() for column in settings.once.split(",") if column.strip()]
    wrong += [("once", f"Nothing goes into “{column}”.") for column in once if not settings.cells.get(column, "").strip()]
    return wrong


def says(output: Mapping[str, Any]) -> str:
    """How many came."""
    there = f", {output['there']} there already" if output.get("there") else ""
    return f"{output.get('added', 0)} rows{there}"


KIND = Changes(
    name="add_rows",
    stage="record",
    title="Add rows from a list",
    about="Adds a row to a sheet for each item of a list; on request only what is not there yet. The rows remember the run they came from.",
    sentence="Add a row to {sheet} for each of {list}",
    offer="Add rows to {sheet} from a list",
    words="write record list items each many several rows new only deduplicate spreadsheet duplicates dedupe bulk",
    called="rows",
    settings=AddRowsSettings,
    output=AddRowsOutput,
    change=change,
    faults=faults,
    says=says,
)
