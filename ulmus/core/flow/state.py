"""A run's state, rebuilt from its journal at any time."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any, Literal

from ..cost import Usage
from .decisions import Decision, Hold, Outcome, Turn
from .plan import Plan, PlannedStep

Phase = Literal[
    "ready",
    "waiting",
    "asked",
    "permit",
    "permitting",
    "rewriting",
    "queued",
    "unsure",
    "following",
    "pausing",
    "open",
    "checking",
    "between",
    "resting",
    "listening",
    "called",
    "stuck",
    "failed",
]


#: Phases in which something is to be done now; in the others a run waits for a time, a person, a piece or another run.
AT_WORK = ("ready", "rewriting", "permit", "checking", "following", "listening")


@dataclass(eq=False)
class Block:
    """What is known of an open block: a *for each*'s items, a fork's lanes or a repeat's rounds, by number from 1.

    `running` are the sequences under way, `kept` those that failed and can be taken up again. Of an assignment: what was
    `said` and the `calls` still to make, all its turns so far in `talk`, the scopes of acts a person has `allowed`, and the
    money `spent`.
    """

    items: list[Any] = field(default_factory=list)
    found: int | None = None
    lanes: list[int] = field(default_factory=list)
    began: float = 0.0
    started: int = 0
    starting: bool = False
    running: dict[int, Sequence] = field(default_factory=dict)
    kept: dict[int, Sequence] = field(default_factory=dict)
    results: dict[int, dict[str, Any]] = field(default_factory=dict)
    failures: dict[int, str] = field(default_factory=dict)
    passed: dict[int, str] = field(default_factory=dict)
    said: str = ""
    calls: list[dict[str, Any]] = field(default_factory=list)
    talk: list[Turn] = field(default_factory=list)
    allowed: set[str] = field(default_factory=set)
    spent: float = 0.0


@dataclass(eq=False)
class Sequence:
    """Steps carried out one after another: the page, an iteration, a lane or a round.

    `position` counts the steps that are behind it; `phase`, `attempt` and the rest are those of the step at
    `position`. `values` are the outputs given inside; those around it are reached through `parent`.
    `closed` keeps the blocks that are behind it, so that what failed in them can be taken up; a lane that is taken up while
    the page has gone on carries its fork with it in `beside`.
    """

    key: str
    steps: tuple[PlannedStep, ...]
    values: dict[str, Any] = field(default_factory=dict)
    parent: Sequence | None = None
    number: int = 0
    generation: int = 0
    position: int = 0
    phase: Phase = "ready"
    attempt: int = 1
    round: int = 1
    due: float | None = None
    message: str = ""
    notes: list[str] = field(default_factory=list)
    scope_asked: str = ""
    beside: tuple[PlannedStep, Block] | None = None
    receipt: dict[str, Any] = field(default_factory=dict)
    taken_at: float = 0.0
    block: Block | None = None
    closed: dict[str, Block] = field(default_factory=dict)
    address: str = ""
    stood: str = ""

    @property
    def current(self) -> PlannedStep | None:
        """The step the sequence stands at, or ``None`` past the last."""
        return self.steps[self.position] if self.position < len(self.steps) else None

    @property
    def prefix(self) -> str:
        """What the addresses of its steps begin with."""
        return f"{self.key}/" if self.key else ""

    def scope(self) -> dict[str, Any]:
        """Every value that can be named here: those given inside over those given around it."""
        return self.values if self.parent is None else {**self.parent.scope(), **self.values}

    def holder(self, name: str) -> Sequence | None:
        """The innermost sequence that has a value called `name`."""
        if name in self.values:
            return self
        return self.parent.holder(name) if self.parent else None


@dataclass(eq=False)
class State:
    """Where a run stands. Only `machine.apply` changes it.

    `open` holds the decisions nothing has answered yet and `at` the sequence that stands at each address, so that
    an event costs the same however long the run is. `troubles` tell, by address, what failed while the page went on, `passed`
    which lines were passed over and why. `rules` is the version of the rules the run goes by. `news` are decisions that opened
    since they were last taken, `phases` counts the sequences by the phase they stand in.
    """

    plan: Plan
    root: Sequence
    began: float
    open: dict[str, Decision] = field(default_factory=dict)
    at: dict[str, Sequence] = field(default_factory=dict)
    news: list[Decision] = field(default_factory=list)
    phases: dict[str, int] = field(default_factory=dict)
    generation: int = 0
    outcome: Outcome | None = None
    message: str = ""
    ended: bool = False
    held: str = ""
    held_for: str = ""
    over: Hold | None = None
    granted: dict[str, float] = field(default_factory=dict)
    rules: int = 1
    troubles: dict[str, str] = field(default_factory=dict)
    passed: dict[str, str] = field(default_factory=dict)
    steps: int = 0
    usage: Usage = Usage()

    @property
    def idle(self) -> bool:
        """Whether nothing is to be done before an event comes: all decisions that are open are waits, or a person's to judge."""
        return not any(self.phases.get(phase) for phase in AT_WORK)

    @property
    def values(self) -> dict[str, Any]:
        """The values of the page itself: the start's and each finished step's outputs by name."""
        return self.root.values

    @property
    def current(self) -> PlannedStep | None:
        """The step of the page the run stands at, or ``None`` past the last."""
        return self.root.current

    def scope(self, address: str) -> dict[str, Any]:
        """The values that can be named at an address where something is under way."""
        found = self.at.get(address)
        return dict(found.scope()) if found else dict(self.root.values)

    def named(self, address: str, names: Iterable[str]) -> dict[str, Any]:
        """Those values of `names` that there are at an address, the innermost of each."""
        found = self.at.get(address, self.root)
        holders = ((name, found.holder(name)) for name in names)
        return {name: holder.values[name] for name, holder in holders if holder is not None}

    def take_news(self) -> list[Decision]:
        """Decisions that opened since the last call and are still open."""
        news, self.news = self.news, []
        if self.ended or self.outcome is not None or self.held or self.over:
            return []
        return [d for d in news if self.open.get(getattr(d, "address", "")) is d]
