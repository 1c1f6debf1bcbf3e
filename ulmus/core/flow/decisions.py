"""What should happen next. Decisions are open until an event answers them; carrying one out twice is harmless
only where the runtime makes it so, which is why each names its address."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

from ..drafting.turns import Rewrite, Turn

Outcome = Literal["done", "failed", "declined", "cancelled", "skipped"]


class Perform(NamedTuple):
    """Carry out a step that gathers or drafts. `attempt` counts from 1; `generation` grows with taking up again.

    For an assignment: what it has done so far, and what that has cost.
    """

    address: str
    step: str
    attempt: int
    rewrite: Rewrite | None = None
    generation: int = 0
    talk: tuple[Turn, ...] = ()
    spent: float = 0.0


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


class Permit(NamedTuple):
    """Find out whether an assignment may do this act: a person is asked, unless what was `allowed` before covers it."""

    address: str
    step: str
    allowed: frozenset[str]


class Send(NamedTuple):
    """Put the piece into the outbox. `generation` grows when a person takes the run up again."""

    address: str
    step: str
    attempt: int
    generation: int


class Follow(NamedTuple):
    """Look how a job that was taken gets on; `since` is when it was taken, and `receipt` says where to look."""

    address: str
    step: str
    attempt: int
    generation: int
    since: float
    receipt: dict[str, Any]


class Write(NamedTuple):
    """Write into a sheet, in the same transaction as the event that says so."""

    address: str
    step: str
    generation: int


class Compute(NamedTuple):
    """Work out values that need nothing from outside."""

    address: str
    step: str


class Open(NamedTuple):
    """Open a block: work out a *for each*'s items, or which lanes of a fork fit."""

    address: str
    step: str


class Check(NamedTuple):
    """Work out whether a repeat's condition holds after its `round`-th round."""

    address: str
    step: str
    round: int


class Rest(NamedTuple):
    """Work out until when, or for what, a wait waits."""

    address: str
    step: str


class Listen(NamedTuple):
    """Wait for a call or a reply, until `due` where there is one."""

    address: str
    step: str
    due: float | None


class Call(NamedTuple):
    """Begin a run of another workflow."""

    address: str
    step: str
    generation: int


class Stop(NamedTuple):
    """Work out the words to stop with."""

    address: str
    step: str


class Judge(NamedTuple):
    """A step has failed for good; a person says how to go on."""

    address: str
    step: str
    message: str


class Hold(NamedTuple):
    """A limit is reached; the run pauses and a person is asked."""

    reason: Literal["money", "steps", "time"]
    message: str


class Finish(NamedTuple):
    """Nothing is left to do."""

    outcome: Outcome
    message: str


Decision = (
    Perform
    | Wait
    | Ask
    | Permit
    | Send
    | Follow
    | Write
    | Compute
    | Open
    | Check
    | Rest
    | Listen
    | Call
    | Stop
    | Judge
    | Hold
    | Finish
)
