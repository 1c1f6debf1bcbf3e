"""A workflow as the interpreter needs it: the order of steps and how each is carried out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..workflow.kinds import Kinds, StepSpec
from ..workflow.model import Limits, Line, Workflow
from ..workflow.plans import StepPlan

After = Literal["stop", "skip", "value", "ask"]


@dataclass(frozen=True)
class PlannedLane:
    """One way through a fork."""

    id: str
    steps: tuple[PlannedStep, ...]


@dataclass(frozen=True)
class PlannedStep:
    """One step: what it is called, how it is carried out, and what it holds.

    It is tried again `retries` times, the first time after `wait` seconds; `then` says what follows when all tries have failed,
    `fallback` the outputs to go on with.
    """

    id: str
    how: StepPlan
    retries: int = 2
    wait: float = 4.0
    then: After = "stop"
    fallback: dict[str, Any] = field(default_factory=dict, hash=False)
    steps: tuple[PlannedStep, ...] = ()
    lanes: tuple[PlannedLane, ...] = ()


@dataclass(frozen=True)
class Plan:
    """The start's name, the steps that are not muted, in order, and what a run may use."""

    start: str
    steps: tuple[PlannedStep, ...]
    limits: Limits = Limits()


def plan(workflow: Workflow, kinds: Kinds) -> Plan:
    """Plan a checked workflow. Raises `KeyError` on an unknown kind."""
    return Plan(workflow.start.id, _planned(workflow.steps, kinds), workflow.limits)


def _planned(lines: Sequence[Line], kinds: Kinds) -> tuple[PlannedStep, ...]:
    return tuple(_step(line, kinds) for line in lines if not line.muted)


def _step(line: Line, kinds: Kinds) -> PlannedStep:
    policy, kind = line.on_failure, kinds[line.kind]
    if not isinstance(kind, StepSpec):
        raise KeyError(f"{line.kind} is no kind of step")
    return PlannedStep(
        id=line.id,
        how=kind.plan_of(line.settings),
        retries=policy.retries,
        wait=policy.wait,
        then=policy.after,
        fallback=kind.fallback(policy.value) if policy.after == "value" else {},
        steps=_planned(line.steps, kinds),
        lanes=tuple(PlannedLane(lane.id, _planned(lane.steps, kinds)) for lane in line.lanes),
    )
