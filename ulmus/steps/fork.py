"""Fork: lanes with conditions; the first that fits runs, or every one."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from .base import Kind, Settings, setting


class ForkSettings(Settings):
    which: Literal["first", "every"] = setting(
        "Take",
        "A lane without a condition is for everything else.",
        control="choice",
        default="first",
        labels={"first": "the first lane that fits", "every": "every lane that fits"},
    )


class ForkOutput(BaseModel):
    lane: str = Field("", description="The lane that ran; the first where there were several.")
    lanes: list[Any] = Field([], description="The names of the lanes that ran.")


KIND = Kind(
    name="fork",
    stage="flow",
    manner="fork",
    title="Fork",
    about="Goes on in the lanes whose conditions fit. The lanes meet again below; values of a lane that did not run are missing.",
    sentence="Take {which}",
    offer="Fork: go on where it fits",
    words="if else condition branch lanes otherwise decide",
    called="fork",
    settings=ForkSettings,
    output=ForkOutput,
    brief="{lane}",
)
