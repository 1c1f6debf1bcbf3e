"""Run another workflow, and use its result."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core.workflow.plans import CallPlan
from ..api import Calls, Settings, setting


class CallSettings(Settings):
    workflow: str = setting("Workflow", "It must be live, or have been.", control="workflow", min_length=1, max_length=20)
    item: dict[str, str] = setting("Begin it with", "The values of its starting item.", control="fields", default={}, max_length=60)
    wait: bool = setting("Wait for its result", control="switch", default=True)


class CallOutput(BaseModel):
    text: str = Field("", description="The text of its last draft or approval.")
    values: dict[str, Any] = Field({}, description="Everything it gave, by step.")
    run: int = Field(0, description="The number of its run.")


KIND = Calls(
    name="run_workflow",
    stage="flow",
    gives_outside=True,
    title="Run another workflow",
    about="Begins a run of another workflow with values from here, and goes on with its result.",
    sentence="Run {workflow}[ with {item}]",
    offer="Run another workflow",
    words="call use other",
    called="call",
    settings=CallSettings,
    output=CallOutput,
    plan=lambda s: CallPlan(s.workflow, s.item, s.wait),
    brief="{text}",
)
