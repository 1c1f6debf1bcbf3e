"""What should happen next. Decisions are open until an event answers them; carrying one out twice is harmless
only where the runtime makes it so, which is why each names its address."""

from __future__ import annotations

from typing import Literal, NamedTuple


class Rewrite(NamedTuple):
    """A draft is to be made again from `previous`, after the notes of the rounds so far."""

    previous: str
    notes: tuple[str, ...]


class Perform(NamedTuple):
    """Carry out a step that gathers or drafts. `attempt` counts from 1."""

    address: str
    step: str
    attempt: int
    rewrite: Rewrite | None = None


class Wait(NamedTuple):
    """Do nothing at this address until `due` (seconds since the epoch)."""

    address: str
    due: float


class Ask(NamedTuple):
    """Put the piece before a person, for the `round`-th time."""

    address: str
    step: str
    round: int
    last: bool


class Send(NamedTuple):
    """Put the piece into the outbox. `generation` grows when a person takes the run up again."""

    address: str
    step: str
    attempt: int
    generation: int


class Write(NamedTuple):
    """Write into a sheet, in the same transaction as the event that says so."""

    address: str
    step: str
    generation: int


class Finish(NamedTuple):
    """Nothing is left to do."""

    outcome: Literal["done", "failed", "declined", "cancelled"]
    message: str


Decision = Perform | Wait | Ask | Send | Write | Finish
