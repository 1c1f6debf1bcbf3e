"""Stop: ends the item or the run, well or as a failure, with words."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel

from ...core.workflow.plans import StopPlan
from ..api import Settings, Stops, setting


class StopSettings(Settings):
    what: Literal["item", "run"] = setting(
        "Stop",
        "Inside a block, an item that stops well is passed over.",
        control="choice",
        default="item",
        labels={"item": "this item", "run": "the whole run"},
    )
    how: Literal["well", "failed"] = setting(
        "As", control="choice", default="well", labels={"well": "nothing more to do", "failed": "a failure"}
    )
    words: str = setting("Words", "Why; shown with the run.", control="slots", default="", max_length=2000)


class StopOutput(BaseModel):
    """Nothing follows."""


KIND = Stops(
    name="stop",
    stage="flow",
    title="Stop",
    about="Ends this item or the whole run, with words that say why.",
    sentence="Stop {what}: {how}[, “{words}”]",
    offer="Stop here",
    words="end finish leave out skip filter only if error cancel nothing",
    called="stop",
    settings=StopSettings,
    output=StopOutput,
    plan=lambda s: StopPlan(well=s.how == "well", whole=s.what == "run", words=s.words),
)
