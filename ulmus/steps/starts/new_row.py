"""Start: each new or changed row of a sheet."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import RowsPlan
from ..api import Batched, PollResult, SheetPoll, SheetStart, batched, setting
from ..shared.rows import columns_of


class NewRowSettings(Batched):
    sheet: str = setting("Sheet", control="sheet", min_length=1, max_length=60)
    which: Literal["new", "changed"] = setting(
        "For", control="choice", default="new", labels={"new": "each new row", "changed": "each new or changed row"}
    )
    every: float = setting("Look every", control="duration", default=5, ge=1, le=604_800, more=True)


class NewRowOutput(BaseModel):
    row: int = Field(0, description="The row’s number in the sheet.")
    title: str = Field("", description="The row’s first cell.")


def rows(settings: NewRowSettings, look: SheetPoll) -> PollResult:
    """Every row, with an identity that is new when the row is (or, where wanted, when a cell changes)."""
    items = []
    for row in look.rows:
        if not any(str(v).strip() for v in row.cells.values()):
            continue
        identity = f"row:{row.id}"
        if settings.which == "changed":
            identity += ":" + hashlib.sha256(json.dumps(row.cells, sort_keys=True).encode()).hexdigest()[:16]
        title = next(str(v) for v in row.cells.values() if str(v).strip())
        items.append((identity, {**row.cells, "row": row.position, "title": title[:300]}))
    what = "new" if settings.which == "new" else "new or changed"
    return PollResult(items, {}, f"{len(items) or 'No'} {what} row{'s' if len(items) != 1 else ''}.")


def gives(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The sheet's columns, for one row or for all together."""
    return batched({"row": "number", "title": "text", **columns_of(settings, world)}, settings)


KIND = SheetStart(
    name="new_row",
    stage="start",
    title="New row in a sheet",
    about="Starts a run for each new row, or for each row that was changed. Rows already there when the workflow goes live are passed over.",
    sentence="For {which} of {sheet}",
    offer="A new row in {sheet}",
    words="changed added lead sheet",
    called="row",
    common=0.55,
    settings=NewRowSettings,
    output=NewRowOutput,
    plan=lambda s: RowsPlan(s.sheet, s.every, s.most, s.runs == "together", s.which == "changed"),
    rows=rows,
    gives=gives,
    can_feed_itself=True,
    gives_outside=True,
    brief="{title}",
)
