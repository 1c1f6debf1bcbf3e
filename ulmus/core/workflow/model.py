"""The workflow page as data: one start and the steps under it."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

Name = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
RESERVED = frozenset({"brand", "run"})


class FailurePolicy(BaseModel):
    """What happens when a step fails: tried again `retries` times, first after `wait` seconds and then
    ever longer; after that the run stops and can be taken up again from this step."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    retries: int = Field(2, ge=0, le=10, title="Try again", description="How many times a failing step is tried again.")
    wait: float = Field(4, ge=0, le=3600, title="Wait first", description="Seconds before the first new try; doubles each time.")


class Line(BaseModel):
    """One line of the page: the start, or a step."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: Name
    kind: str = Field(min_length=1, max_length=60)
    settings: dict[str, Any] = Field(default_factory=dict)
    muted: bool = False
    on_failure: FailurePolicy = FailurePolicy()


class Workflow(BaseModel):
    """A named page. `brand` is the key of the client whose facts the page may use."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    format: Literal["ulmus-workflow"] = "ulmus-workflow"
    version: Literal[1] = 1
    name: str = Field(min_length=1, max_length=120)
    brand: str | None = None
    start: Line
    steps: list[Line] = Field(default_factory=list, max_length=500)

    @model_validator(mode="after")
    def _names_are_unique(self) -> Workflow:
        seen: set[str] = set()
        for line in self.lines:
            if line.id in RESERVED:
                raise ValueError(f"“{line.id}” is a reserved name; call the step something else")
            if line.id in seen:
                raise ValueError(f"two lines are called “{line.id}”; names must differ")
            seen.add(line.id)
        return self

    @property
    def lines(self) -> list[Line]:
        """The start and the steps, from top to bottom."""
        return [self.start, *self.steps]

    def line(self, step: str) -> Line | None:
        """The line called `step`, if there is one."""
        return next((line for line in self.lines if line.id == step), None)
