"""A workflow as the interpreter needs it: the order of steps and how each is carried out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..workflow.kinds import Kinds, KindSpec, Manner
from ..workflow.model import Limits, Line, Workflow

After = Literal["stop", "skip", "value", "ask"]
Asks = Literal["first", "each", "never"]


@dataclass(frozen=True)
class PlannedLane:
    """One way through a fork."""

    id: str
    steps: tuple[PlannedStep, ...]


@dataclass(frozen=True)
class PlannedStep:
    """One step.

    `then` says what follows when all tries have failed, `fallback` the outputs to go on with. `about` names the
    draft an asking step shows, `rounds` how often it may ask or a block may go round. A *for each* carries out
    `steps` for each item, known inside as `item`, so many at a time; with `strict` one failing item stops it.
    A *repeat* goes round until its condition holds, at most `seconds` long, waiting `wait` seconds between rounds,
    each time `grow` times as long; with `strict` it fails where the condition never came to hold.
    An *assignment* uses `steps` as its tools; `asks` says when a tool that acts asks a person first.
    """

    id: str
    manner: Manner
    retries: int = 2
    wait: float = 4.0
    then: After = "stop"
    fallback: dict[str, Any] = field(default_factory=dict, hash=False)
    about: str = ""
    rounds: int = 1
    steps: tuple[PlannedStep, ...] = ()
    lanes: tuple[PlannedLane, ...] = ()
    item: str = "item"
    parallel: int = 1
    strict: bool = False
    seconds: float = float("inf")
    grow: float = 1.0
    asks: Asks = "each"


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
    return tuple(_step(line, kinds[line.kind], kinds) for line in lines if not line.muted)


def _step(line: Line, spec: KindSpec, kinds: Kinds) -> PlannedStep:
    policy, settings = line.on_failure, line.settings
    more: dict[str, Any] = {}
    if spec.manner == "ask":
        more = {"about": str(settings.get("draft", "")), "rounds": int(settings.get("rounds", 3))}
    elif spec.manner == "each":
        more = {
            "item": str(settings.get("item", "item")),
            "parallel": int(settings.get("parallel", 8)),
            "strict": settings.get("failing", "leave_out") == "stop",
        }
    elif spec.manner == "fork":
        more = {"strict": settings.get("which", "first") == "first"}
    elif spec.manner == "repeat":
        more = {
            "rounds": int(settings.get("rounds", 10)),
            "seconds": float(settings.get("longest", 3600)),
            "wait": float(settings.get("wait", 0)),
            "grow": float(settings.get("grow", 1)),
            "strict": settings.get("otherwise", "fail") == "fail",
        }
    elif spec.manner == "assign":
        more = {"asks": settings.get("permission", "each")}
    elif spec.manner == "rest":
        more = {"strict": settings.get("otherwise", "go_on") == "fail"}
    return PlannedStep(
        id=line.id,
        manner=spec.manner,
        retries=policy.retries,
        then=policy.after,
        fallback=spec.fallback(policy.value) if policy.after == "value" else {},
        steps=_planned(line.steps, kinds),
        lanes=tuple(PlannedLane(lane.id, _planned(lane.steps, kinds)) for lane in line.lanes),
        **({"wait": policy.wait} | more),
    )
