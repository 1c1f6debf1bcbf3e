"""Fork: lanes with conditions; the first that fits runs, or every one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import ForkPlan
from ..api import Holds, Settings, setting


class ForkSettings(Settings):
    which: Literal["first", "every"] = setting(
        "Take",
        "A lane without a condition is for everything else.",
        control="choice",
        default="first",
        labels={"first": "the first lane that fits", "every": "every lane that fits"},
    )


class LaneFailure(BaseModel):
    lane: str = Field("", description="The lane’s name.")
    message: str = Field("", description="Why it failed.")


class ForkOutput(BaseModel):
    lane: str = Field("", description="The lane that ran; the first where there were several.")
    lanes: list[Any] = Field([], description="The names of the lanes that ran.")
    failed: int = Field(0, description="How many of several lanes failed; the others went on.")
    failures: list[LaneFailure] = Field([], description="Which failed, and why.")


def says(output: Mapping[str, Any]) -> str:
    """Which lanes ran."""
    return ", ".join(str(lane) for lane in output.get("lanes", [])) or "no lane fitted"


KIND = Holds(
    name="fork",
    stage="flow",
    title="Fork",
    about="Goes on in the lanes whose conditions fit. The lanes meet again below; values of a lane that did not run are missing. Where every lane that fits is taken, one that fails stops only itself.",
    sentence="Take {which}",
    offer="Fork: go on where it fits",
    words="if else condition branch lanes otherwise decide filter only when switch compare route",
    called="fork",
    settings=ForkSettings,
    output=ForkOutput,
    has_lanes=True,
    plan=lambda s: ForkPlan(every=s.which == "every"),
    says=says,
)
