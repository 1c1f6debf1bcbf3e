"""Start: a run of another workflow has ended."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, Field

from ...core.workflow.plans import RunsPlan
from ..api import Settings, Start, setting

OUTCOMES: dict[str, tuple[str, ...]] = {"well": ("done",), "failed": ("failed",), "any": ()}


class AfterSettings(Settings):
    workflow: str = setting("Workflow", control="workflow", min_length=1, max_length=20)
    how: Literal["well", "failed", "any"] = setting(
        "Ended", control="choice", default="well", labels={"well": "well", "failed": "as a failure", "any": "however it ended"}
    )


class AfterOutput(BaseModel):
    title: str = Field("", description="What that run was called.")
    state: str = Field("", description="How it ended.")
    text: str = Field("", description="The text of its last draft or approval.")
    values: dict[str, Any] = Field({}, description="Everything it gave, by step.")
    run: int = Field(0, description="Its number.")


KIND = Start(
    name="after_workflow",
    stage="start",
    title="Another workflow ended",
    about="Starts with the result of another workflow’s run.",
    sentence="When {workflow} has ended {how}",
    offer="Another workflow has ended",
    words="result after follow",
    called="before",
    common=0.1,
    settings=AfterSettings,
    output=AfterOutput,
    plan=lambda s: RunsPlan(s.workflow, OUTCOMES[s.how]),
    can_feed_itself=True,
    gives_outside=True,
    brief="{title}",
)
