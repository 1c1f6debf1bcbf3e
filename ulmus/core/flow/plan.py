"""A workflow as the interpreter needs it: the order of steps and how each is carried out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..workflow.kinds import Kinds, StepSpec
from ..workflow.model import Limits, Line, Workflow
from ..workflow.plans import DestinationsPlan, StepPlan

After = Literal["stop", "skip", "value", "ask"]


@dataclass(frozen=True)
class PlannedLane:
    """One way through a fork. `blank` are the values that stand for what a destination gives where it gives nothing."""

    id: str
    steps: tuple[PlannedStep, ...]
    blank: dict[str, Any] = field(default_factory=dict, hash=False)


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
    how = kind.plan_of(line.settings)
    apart = isinstance(how, DestinationsPlan)
    return PlannedStep(
        id=line.id,
        how=how,
        retries=policy.retries,
        wait=policy.wait,
        then=policy.after,
        fallback=kind.fallback(policy.value) if policy.after == "value" else {},
        steps=() if apart else _planned(line.steps, kinds),
        lanes=_destinations(line.steps, kinds)
        if apart
        else tuple(PlannedLane(lane.id, _planned(lane.steps, kinds)) for lane in line.lanes),
    )


def _destinations(lines: Sequence[Line], kinds: Kinds) -> tuple[PlannedLane, ...]:
    """Each line as a lane of its own; one that is muted keeps its place, and holds nothing."""
    return tuple(PlannedLane(line.id, _planned([line], kinds), {line.id: kinds[line.kind].fallback("")}) for line in lines)
