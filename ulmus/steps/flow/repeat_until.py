"""Repeat until: the steps inside go round until a condition holds, within limits of rounds and time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import RepeatPlan
from ..api import Holds, Settings, setting


class RepeatSettings(Settings):
    until: str = setting(
        "Until", 'Looked at after each round, such as job.state is "ready".', control="condition", min_length=1, max_length=2000
    )
    rounds: int = setting("At most", "Rounds.", control="number", default=10, ge=1, le=1000)
    wait: float = setting("Wait between", "From one round to the next.", control="duration", default=0, ge=0, le=86_400)
    grow: float = setting(
        "Wait longer each time", "2 doubles the wait from round to round.", control="number", default=1, ge=1, le=10, more=True
    )
    longest: float = setting("Longest", "All rounds together.", control="duration", default=86_400, ge=1, le=31_536_000, more=True)
    otherwise: Literal["fail", "go_on"] = setting(
        "If it never is", control="choice", default="fail", labels={"fail": "fail", "go_on": "go on with the last round’s values"}
    )


class RepeatOutput(BaseModel):
    rounds: int = Field(0, description="How many rounds were made.")
    came: str = Field("", description="yes, or no where the condition never came to hold.")


def says(output: Mapping[str, Any]) -> str:
    """How many rounds, and whether the condition came to hold."""
    rounds = output.get("rounds", 0)
    return f"{rounds} round{'s' if rounds != 1 else ''}" + ("" if output.get("came") == "yes" else ", it never was")


KIND = Holds(
    name="repeat_until",
    stage="flow",
    title="Repeat until",
    about="Carries out the steps inside again and again until a condition holds. For an outside job that takes minutes, or a draft that is redrafted.",
    sentence="Repeat until {until}, at most {rounds} rounds[, waiting {wait} between]",
    offer="Repeat until something is so",
    words="loop again until ready poll",
    called="repeat",
    settings=RepeatSettings,
    output=RepeatOutput,
    plan=lambda s: RepeatPlan(s.until, s.rounds, s.longest, s.wait, s.grow, s.otherwise == "fail"),
    says=says,
)
