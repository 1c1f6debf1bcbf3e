"""Record: a row goes to another sheet, or goes."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.rows import Change
from ..api import Changes, Context, setting
from ..shared.rows import OfARow, unsaid, which_row


class MoveRowSettings(OfARow):
    to: Literal["sheet", "away"] = setting(
        "It goes",
        "What goes away can be brought back for thirty days.",
        control="choice",
        default="sheet",
        labels={"sheet": "to another sheet", "away": "away"},
    )
    other: str = setting("Into", control="sheet", default="", max_length=60, when="to=sheet")
    missing: Literal["fail", "pass"] = setting(
        "If there is no such row",
        control="choice",
        default="fail",
        labels={"fail": "say so", "pass": "go on without"},
        more=True,
    )


class MoveRowOutput(BaseModel):
    row: int = Field(0, description="Where the row stands now, or stood.")
    sheet: str = Field("", description="The sheet it is in now, or was in.")
    found: str = Field("", description="yes where the row was there, no otherwise.")
    before: dict[str, Any] = Field({}, description="The row’s cells, where it went away.")
    after: dict[str, Any] = Field({}, description="The row’s cells, where it went to another sheet.")


def change(settings: MoveRowSettings, context: Context) -> Change:
    """Where the row goes."""
    find = which_row(settings)
    if settings.to == "sheet":
        return Change(settings.sheet, "move", find=find, missing=settings.missing, to=settings.other)
    return Change(settings.sheet, "remove", find=find, missing=settings.missing)


def faults(settings: MoveRowSettings) -> list[tuple[str, str]]:
    """What is not said yet."""
    wrong = []
    if settings.to == "sheet" and not settings.other:
        wrong.append(("other", "Choose the sheet it goes to."))
    if settings.to == "sheet" and settings.other == settings.sheet:
        wrong.append(("other", "It is in this sheet already; choose another."))
    return wrong + unsaid(settings)


KIND = Changes(
    name="move_row",
    stage="record",
    title="Move or remove the row",
    about="A row goes to another sheet, or away. What was removed can be brought back for thirty days.",
    sentence="Move the row of {sheet} {to}[: {other}]",
    offer="Move or remove the row of {sheet}",
    words="move remove delete archive done row away",
    called="moved",
    settings=MoveRowSettings,
    output=MoveRowOutput,
    change=change,
    own_row=lambda settings: settings.which == "own",
    adds=lambda settings: False,
    faults=faults,
    brief="Row {row} in {sheet}",
)
