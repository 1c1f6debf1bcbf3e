"""A run's state, rebuilt from its journal at any time."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from ..cost import Usage
from .plan import Plan, PlannedStep

Phase = Literal["ready", "waiting", "asked", "rewriting", "queued", "unsure", "failed"]
Outcome = Literal["done", "failed", "declined", "cancelled"]


@dataclass
class State:
    """Where a run stands. Only `machine.apply` changes it.

    `position` counts the steps that are behind it; `phase` is that of the step at `position`.
    `values` maps the start's and each finished step's name to its outputs.
    """

    plan: Plan
    values: dict[str, Any]
    position: int = 0
    phase: Phase = "ready"
    attempt: int = 1
    round: int = 1
    due: float = 0.0
    notes: list[str] = field(default_factory=list)
    generation: int = 0
    outcome: Outcome | None = None
    message: str = ""
    ended: bool = False
    usage: Usage = Usage()

    @property
    def current(self) -> PlannedStep | None:
        """The step the run stands at, or ``None`` past the last."""
        return self.plan.steps[self.position] if self.position < len(self.plan.steps) else None
