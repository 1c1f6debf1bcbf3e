"""Run another workflow, and use its result."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel, Field

from ...core import slots
from ...core.flow import GIVEN
from ...core.workflow.plans import CallPlan
from ..api import Calls, Context, Settings, Tool, setting


class CallSettings(Settings):
    workflow: str = setting("Workflow", "It must be live, or have been.", control="workflow", min_length=1, max_length=20)
    item: dict[str, str] = setting(
        "Begin it with",
        "The values of its starting item. As a tool it may be left empty: then the assignment fills in the fields of its start.",
        control="fields",
        default={},
        max_length=60,
    )
    wait: bool = setting("Wait for its result", control="switch", default=True)


class CallOutput(BaseModel):
    text: str = Field("", description="The text of its last draft or approval.")
    values: dict[str, Any] = Field({}, description="Everything it gave, by step.")
    run: int = Field(0, description="The number of its run.")


def as_tool(settings: CallSettings, context: Context, name: str) -> Tool | None:
    """The workflow by its name and what it is for, with the fields of its start, or those of the line's own that the model fills in."""
    called = context.workspace.workflow(settings.workflow)
    if called is None:
        return None
    about = " ".join(part for part in (f"Runs the workflow “{called.name}”.", called.purpose.strip()) if part)
    if settings.item:
        taken = {str(path.parts[1]): what for what, path in _given(settings.item)}
        return Tool(name, about, tuple(taken.items()))
    fields = [(what, label, needed) for what, label, needed in called.fields]
    return Tool(
        name,
        about,
        tuple((what, label) for what, label, needed in fields if needed),
        tuple((what, label) for what, label, needed in fields if not needed),
    )


def _given(item: dict[str, str]) -> Iterator[tuple[str, slots.Path]]:
    for what, text in item.items():
        for path in slots.parse(text).reads:
            if path.root == GIVEN and len(path.parts) > 1:
                yield what, path


KIND = Calls(
    name="run_workflow",
    stage="flow",
    gives_outside=True,
    title="Run another workflow",
    about="Begins a run of another workflow with values from here, and goes on with its result.",
    sentence="Run {workflow}[ with {item}]",
    offer="Run another workflow",
    words="call use other workflow sub chain trigger",
    called="call",
    settings=CallSettings,
    output=CallOutput,
    plan=lambda s: CallPlan(s.workflow, s.item, s.wait),
    as_tool=as_tool,
    brief="{text}",
)
