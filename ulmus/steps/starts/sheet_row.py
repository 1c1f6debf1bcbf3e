"""Start: the next unused row of a sheet, when it is time."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..api import PollResult, SheetPoll, SheetStart, setting
from ..shared.rows import columns_of
from ..shared.timed import Timed, faults


class SheetRowSettings(Timed):
    sheet: str = setting("Sheet", control="sheet", min_length=1, max_length=60)
    used: str = setting(
        "Mark it used in",
        "The column that is filled in once a run has ended well; a row with anything in it counts as used.",
        control="column",
        needs="sheet",
        min_length=1,
        max_length=120,
    )
    count: int = setting(
        "Rows each time", "Each row starts a run of its own.", control="number", default=1, ge=1, le=500, more=True
    )


class SheetRowOutput(BaseModel):
    row: int = Field(0, description="The row’s number in the sheet.")
    left: int = Field(0, description="How many unused rows were left after it.")
    title: str = Field("", description="The row’s first cell.")


def rows(settings: SheetRowSettings, look: SheetPoll) -> PollResult:
    """The next unused rows, from the top."""
    chosen = look.rows[: look.most or settings.count]
    free = look.unused if look.unused is not None else len(look.rows)
    items = []
    for i, row in enumerate(chosen, start=1):
        title = next((str(v) for v in row.cells.values() if str(v).strip()), f"Row {row.position}")
        items.append((f"row:{row.id}", {**row.cells, "row": row.position, "left": free - i, "title": title[:300]}))
    left = free - len(chosen)
    says = f"{left} unused row{'s' if left != 1 else ''} left." if free else "No unused row is left. Add rows to the sheet."
    return PollResult(items, {}, says)


KIND = SheetStart(
    name="sheet_row",
    stage="start",
    title="Next unused row of a sheet",
    about="Takes the next unused row each time, one per run. It is marked used when the run ends well, and no two runs get the same row.",
    sentence="{rule}, with the next unused row of {sheet}",
    offer="The next unused row of {sheet}",
    words="topic list sheet",
    called="row",
    common=0.6,
    settings=SheetRowSettings,
    output=SheetRowOutput,
    plan=lambda s: s.clock(sheet=s.sheet, used=s.used, count=s.count),
    rows=rows,
    gives=columns_of,
    faults=faults,
    can_feed_itself=True,
    gives_outside=True,
    brief="{title}",
)
