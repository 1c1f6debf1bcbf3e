"""What happened: the entries of a run's journal. Times are seconds since the epoch (UTC)."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from ..cost import Usage


class _Event(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    at: float


class _AtStep(_Event):
    address: str


class Begun(_Event):
    """The run began with `item`; `context` holds the values of `brand` and `run`."""

    event: Literal["begun"] = "begun"
    item: dict[str, Any]
    context: dict[str, Any] = Field(default_factory=dict)


class Done(_AtStep):
    """A step gave `output`. `detail` is for readers of the journal (prompt sent, rounds, findings)."""

    event: Literal["done"] = "done"
    output: dict[str, Any]
    detail: dict[str, Any] = Field(default_factory=dict)
    usage: Usage = Usage()


class Failed(_AtStep):
    """An attempt failed. `retry_after` is the outside's own wish, in seconds."""

    event: Literal["failed"] = "failed"
    message: str
    retryable: bool = False
    retry_after: float | None = None
    detail: dict[str, Any] = Field(default_factory=dict)
    usage: Usage = Usage()


class TimerFired(_AtStep):
    """The wait before a new try is over."""

    event: Literal["timer_fired"] = "timer_fired"


class Asked(_AtStep):
    """A person was asked; `approval` is the number of the question."""

    event: Literal["asked"] = "asked"
    approval: int
    text: str


class Answered(_AtStep):
    """The person's answer. `text` is the piece as approved, with any edits made in place."""

    event: Literal["answered"] = "answered"
    verdict: Literal["approve", "back", "decline"]
    text: str = ""
    note: str = ""
    by: str = ""
    edited: bool = False


class Queued(_AtStep):
    """The piece stands in the outbox; `key` is the idempotency key it will be sent with."""

    event: Literal["queued"] = "queued"
    piece: int
    key: str


class Sent(_AtStep):
    """The other side took the piece; `receipt` says where it is."""

    event: Literal["sent"] = "sent"
    receipt: dict[str, Any]


class Unsure(_AtStep):
    """Nobody can tell whether the piece went out; a person decides."""

    event: Literal["unsure"] = "unsure"
    message: str


class TakenUp(_AtStep):
    """A person had the run go on from this step."""

    event: Literal["taken_up"] = "taken_up"
    by: str = ""


class Cancelled(_Event):
    """A person ended the run, or let a run rest that had failed."""

    event: Literal["cancelled"] = "cancelled"
    by: str = ""


class Ended(_Event):
    """The run is over."""

    event: Literal["ended"] = "ended"
    outcome: Literal["done", "failed", "declined", "cancelled"]
    message: str = ""


Event = Annotated[
    Begun | Done | Failed | TimerFired | Asked | Answered | Queued | Sent | Unsure | TakenUp | Cancelled | Ended,
    Field(discriminator="event"),
]
_ADAPTER: TypeAdapter[Event] = TypeAdapter(Event)


def load_event(data: dict[str, Any]) -> Event:
    """An event from its JSON object."""
    return _ADAPTER.validate_python(data)


def dump_event(event: Event) -> dict[str, Any]:
    """An event as a JSON object."""
    return event.model_dump(mode="json")
