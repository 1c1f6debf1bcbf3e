"""A workflow as the interpreter needs it: the order of steps and how each is carried out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..workflow.kinds import Kinds
from ..workflow.model import Workflow


@dataclass(frozen=True)
class PlannedStep:
    """One step. `about` names the draft an asking step shows; `rounds` how often it may ask."""

    id: str
    manner: Literal["perform", "ask", "send", "write"]
    retries: int = 2
    wait: float = 4.0
    about: str = ""
    rounds: int = 1


@dataclass(frozen=True)
class Plan:
    """The start's name and the steps that are not muted, in order."""

    start: str
    steps: tuple[PlannedStep, ...]

    def index(self, step: str) -> int:
        """The position of `step`. Raises `KeyError` where there is none."""
        for i, planned in enumerate(self.steps):
            if planned.id == step:
                return i
        raise KeyError(step)


def plan(workflow: Workflow, kinds: Kinds) -> Plan:
    """Plan a checked workflow. Raises `KeyError` on an unknown kind."""
    steps = []
    for line in workflow.steps:
        manner = kinds[line.kind].manner
        if line.muted or manner == "start":
            continue
        policy = line.on_failure
        steps.append(
            PlannedStep(
                id=line.id,
                manner=manner,
                retries=policy.retries,
                wait=policy.wait,
                about=str(line.settings.get("draft", "")) if manner == "ask" else "",
                rounds=int(line.settings.get("rounds", 3)) if manner == "ask" else 1,
            )
        )
    return Plan(workflow.start.id, tuple(steps))
