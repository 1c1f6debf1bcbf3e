"""The workflow page as data: one start and the steps under it; blocks hold steps of their own."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, field_validator, model_validator

from ..recurrence import zone_of

Name = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
RESERVED = frozenset({"brand", "run", "given", "end", "each", "if", "otherwise"})
DEEPEST = 8
MOST_LINES = 500


class FailurePolicy(BaseModel):
    """What happens when a step fails: it is tried again `retries` times, first after `wait` seconds and then ever
    longer; after that the run stops, passes over the item, goes on with a stated value, or asks a person."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    retries: int = Field(2, ge=0, le=10, title="Try again", description="How many times a failing step is tried again.")
    wait: float = Field(4, ge=0, le=3600, title="Wait first", description="Seconds before the first new try; doubles each time.")
    after: Literal["stop", "skip", "value", "ask"] = Field(
        "stop",
        title="After that",
        description="Stop the run, pass over this item, go on with the value below, or ask a person.",
    )
    value: str = Field("", max_length=10_000, title="Value to go on with", description="Stands for the step’s main value.")


class Limits(BaseModel):
    """What a run, and all runs of a workflow together, may use. Money is in the currency the owner keeps books in."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    at_once: int | None = Field(None, ge=1, le=1000, title="Runs at a time")
    when_full: Literal["queue", "skip", "replace"] = Field(
        "queue", title="The next one", description="Waits, is passed over, or takes the oldest one’s place."
    )
    day_runs: int | None = Field(
        None,
        ge=1,
        le=100_000,
        title="Runs a day",
        description="How many its start begins in a day; then the next ones wait, and you are asked.",
    )
    steps: int = Field(20_000, ge=1, le=1_000_000, title="Steps in a run")
    hours: float = Field(24 * 90, gt=0, le=24 * 366, title="Hours a run may take")
    run_money: float | None = Field(None, ge=0, title="Money a run")
    day_money: float | None = Field(None, ge=0, title="Money a day")
    month_money: float | None = Field(None, ge=0, title="Money a month")


class Lane(BaseModel):
    """One way through a fork. `when` is a condition in words; a lane without one is the *otherwise* lane."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: Name
    when: str = Field("", max_length=2000)
    muted: bool = False
    steps: list[Line] = Field(default_factory=list)


class Guess(BaseModel):
    """What a setting was taken to be, and why, until somebody says it is right or sets it otherwise."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    value: Any = None
    why: str = Field("", max_length=500)


class Line(BaseModel):
    """One line of the page: the start, or a step. Blocks hold `steps`, forks hold `lanes`; `guesses` are settings that a page made from
    a description could only guess, by name."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: Name
    kind: str = Field(min_length=1, max_length=60)
    settings: dict[str, Any] = Field(default_factory=dict)
    muted: bool = False
    on_failure: FailurePolicy = FailurePolicy()
    steps: list[Line] = Field(default_factory=list)
    lanes: list[Lane] = Field(default_factory=list, max_length=40)
    guesses: dict[str, Guess] = Field(default_factory=dict, max_length=40, exclude_if=lambda guesses: not guesses)


class Placed(NamedTuple):
    """A line with where it stands: the blocks and lanes around it, from the outside in; `muted` counts theirs too."""

    line: Line
    within: tuple[Line | Lane, ...]
    muted: bool


class Workflow(BaseModel):
    """A named page. `purpose` says in a sentence what it is for, to assistants that may run it (those outside where it is `offered`);
    `brand` is the key of the client whose facts the page may use, `zone` the IANA time zone that times on it are in;
    empty: that of its start where it has one, else the server's."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["ulmus-workflow"] = "ulmus-workflow"
    version: Literal[1] = 1
    name: str = Field(min_length=1, max_length=120)
    purpose: str = Field("", max_length=500)
    offered: bool = False
    brand: str | None = None
    limits: Limits = Limits()
    zone: str = Field("", max_length=60)
    start: Line
    steps: list[Line] = Field(default_factory=list)

    @field_validator("zone")
    @classmethod
    def _is_known(cls, zone: str) -> str:
        if zone:
            zone_of(zone)
        return zone

    @model_validator(mode="after")
    def _names_are_unique(self) -> Workflow:
        seen: set[str] = set()
        names = [self.start.id]
        for line, within, _ in self.walk():
            if sum(isinstance(w, Line) for w in within) >= DEEPEST:
                raise ValueError(f"blocks stand inside one another more than {DEEPEST} deep at “{line.id}”")
            names += [line.id, *(lane.id for lane in line.lanes)]
        if len(names) > MOST_LINES:
            raise ValueError(f"a page has at most {MOST_LINES} lines")
        for name in names:
            if name in RESERVED:
                raise ValueError(f"“{name}” is a reserved name; call the step something else")
            if name in seen:
                raise ValueError(f"two lines are called “{name}”; names must differ")
            seen.add(name)
        return self

    def walk(self) -> Iterator[Placed]:
        """Every step, from top to bottom, with where it stands."""
        yield from _walk(self.steps, (), False)

    @property
    def every_step(self) -> list[Line]:
        """Every step from top to bottom, those inside blocks too."""
        return [placed.line for placed in self.walk()]

    @property
    def lines(self) -> list[Line]:
        """The start and every step, from top to bottom."""
        return [self.start, *self.every_step]

    def line(self, step: str) -> Line | None:
        """The line called `step`, if there is one."""
        return next((line for line in self.lines if line.id == step), None)


def _walk(steps: list[Line], within: tuple[Line | Lane, ...], muted: bool) -> Iterator[Placed]:
    for line in steps:
        off = muted or line.muted
        yield Placed(line, within, off)
        yield from _walk(line.steps, (*within, line), off)
        for lane in line.lanes:
            yield from _walk(lane.steps, (*within, line, lane), off or lane.muted)


Lane.model_rebuild()
