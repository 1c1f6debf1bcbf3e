"""A run's state, rebuilt from its journal at any time."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from ..cost import Usage
from ..drafting.turns import Turn
from .decisions import Decision, Hold, Outcome
from .phases import Phase, Ready, Word
from .plan import Plan, PlannedStep

READY = Ready()


@dataclass(eq=False)
class Block:
    """What is known of an open block: the sequences in it by number from 1. `started` counts those that were begun, `running`
    are under way, `kept` failed and can be taken up again; `spent` is the money used inside. See `blocks` for each type."""

    began: float = 0.0
    started: int = 0
    running: dict[int, Sequence] = field(default_factory=dict)
    kept: dict[int, Sequence] = field(default_factory=dict)
    results: dict[int, dict[str, Any]] = field(default_factory=dict)
    failures: dict[int, str] = field(default_factory=dict)
    passed: dict[int, str] = field(default_factory=dict)
    spent: float = 0.0

    def start(self, state: State, seq: Sequence) -> None:
        """Begin what can begin now in the block that `seq` stands at; one with nothing to do is closed."""
        raise NotImplementedError

    def ended(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        """A sequence in it has ended: the block, or the page, goes on from there."""
        raise NotImplementedError

    @property
    def turns(self) -> tuple[Turn, ...]:
        """The uses of tools so far, where it is an assignment."""
        return ()

    def covered(self, step: PlannedStep) -> frozenset[str]:
        """The scopes of acts that need no leave any more, as a person has allowed them."""
        return frozenset()

    @property
    def is_loop(self) -> bool:
        """Whether what fails or ends inside is an item, that ends alone."""
        return False

    def is_side_by_side(self, parent: Sequence) -> bool:
        """Whether its sequences go on beside one another, so that one that ends leaves the others."""
        return False

    def failed(self, seq: Sequence, message: str) -> None:
        """Keep a sequence that failed."""
        self.failures[seq.number] = message
        self.kept[seq.number] = seq


@dataclass(eq=False)
class Sequence:
    """Steps carried out one after another: the page, an iteration, a lane or a round.

    `position` counts the steps that are behind it; `phase`, `attempt`, `round` and `notes` are those of the step at
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
    phase: Phase = READY
    attempt: int = 1
    round: int = 1
    notes: list[str] = field(default_factory=list)
    beside: tuple[PlannedStep, Block] | None = None
    block: Block | None = None
    closed: dict[str, Block] = field(default_factory=dict)
    address: str = ""
    stood: type[Phase] = Ready

    @property
    def current(self) -> PlannedStep | None:
        """The step the sequence stands at, or ``None`` past the last."""
        return self.steps[self.position] if self.position < len(self.steps) else None

    @property
    def step(self) -> PlannedStep:
        """The step the sequence stands at, where there is one."""
        return self.steps[self.position]

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
    which lines were passed over and why. `stopped` is how the page itself ended, while a lane that was taken up alone is still
    under way. `rules` is the version of the rules the run goes by. `news` are decisions that opened
    since they were last taken, `phases` counts the sequences by the phase they stand in.
    """

    plan: Plan
    root: Sequence
    began: float
    open: dict[str, Decision] = field(default_factory=dict)
    at: dict[str, Sequence] = field(default_factory=dict)
    news: list[Decision] = field(default_factory=list)
    phases: dict[type[Phase], int] = field(default_factory=dict)
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
    stopped: tuple[Outcome, str] | None = None
    steps: int = 0
    usage: Usage = Usage()

    @property
    def idle(self) -> bool:
        """Whether nothing is to be done before an event comes: all decisions that are open are waits, or a person's to judge."""
        return not any(count for phase, count in self.phases.items() if phase.at_work)

    def stands(self, word: Word) -> bool:
        """Whether a step is in a phase of which a run says this."""
        return any(count for phase, count in self.phases.items() if phase.word == word)

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
