"""What happened: the entries of a run's journal. Times are seconds since the epoch (UTC)."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter
from pydantic_core import PydanticSerializationError

from ..cost import Usage
from ..values import NotPlain, read_kept
from .decisions import Outcome

RULES = 3
"""The version of the interpreter's rules that a run begun today goes by; a journal is replayed by those it began with."""


class _Event(BaseModel):
    # What an older or newer version wrote beside it is left aside.
    model_config = ConfigDict(frozen=True, extra="ignore")

    at: float


class _AtStep(_Event):
    address: str


class Begun(_Event):
    """The run began with `item`; `context` holds the values of `brand` and `run`, `rules` the version of the interpreter's
    rules it goes by."""

    event: Literal["begun"] = "begun"
    item: dict[str, Any]
    context: dict[str, Any] = Field(default_factory=dict)
    rules: int = 1


class Done(_AtStep):
    """A step gave `output`. `detail` is for readers of the journal (prompt sent, rounds, findings)."""

    event: Literal["done"] = "done"
    output: dict[str, Any]
    detail: dict[str, Any] = Field(default_factory=dict)
    usage: Usage = Usage()


class Failed(_AtStep):
    """An attempt failed. `code` tells causes apart (see `protocols.errors`); `retry_after` is the outside's own wish, in seconds."""

    event: Literal["failed"] = "failed"
    message: str
    code: str = ""
    retryable: bool = False
    retry_after: float | None = None
    detail: dict[str, Any] = Field(default_factory=dict)
    usage: Usage = Usage()


class Leased(_AtStep):
    """A worker elsewhere is to carry the step out: what it is offered as, written before it is. The decision stays open."""

    event: Literal["leased"] = "leased"
    lease: str


class TimerFired(_AtStep):
    """A wait is over: before a new try, between rounds, or one asked for by the page."""

    event: Literal["timer_fired"] = "timer_fired"


class Asked(_AtStep):
    """A person was asked; `approval` is the number of the question. For an act of an assignment, `scope` says which acts a
    yes covers."""

    event: Literal["asked"] = "asked"
    approval: int
    text: str
    scope: str = ""


class Permitted(_AtStep):
    """An act of an assignment is covered by what a person allowed before: the same act, place and kind of content."""

    event: Literal["permitted"] = "permitted"
    scope: str


class Agreed(_AtStep):
    """One of several said yes; others are still waited for. `edited` where they changed the draft."""

    event: Literal["agreed"] = "agreed"
    by: str
    edited: bool = False
    waits_for: list[str] = Field(default_factory=list)


class Answered(_AtStep):
    """The person's answer. `text` is the piece as approved, with any edits made in place; `values` are the outputs that
    follow from it: of the draft itself and of what was worked out from it; or, under the question's own name, what was answered. `despite` are the must-rules it breaks, where it
    was let out all the same."""

    event: Literal["answered"] = "answered"
    verdict: Literal["approve", "back", "decline"]
    text: str = ""
    note: str = ""
    by: str = ""
    edited: bool = False
    values: dict[str, dict[str, Any]] = Field(default_factory=dict)
    despite: list[str] = Field(default_factory=list)


class Queued(_AtStep):
    """The piece stands in the outbox; `key` is the idempotency key it will be sent with."""

    event: Literal["queued"] = "queued"
    piece: int
    key: str


class Sent(_AtStep):
    """The other side took the piece; `receipt` says where it is."""

    event: Literal["sent"] = "sent"
    receipt: dict[str, Any]


class Accepted(_AtStep):
    """The other side took a job and works on it; `receipt` says where to look, from `due` on."""

    event: Literal["accepted"] = "accepted"
    receipt: dict[str, Any]
    due: float


class Followed(_AtStep):
    """The job was looked at and is not over; it is looked at again at `due`."""

    event: Literal["followed"] = "followed"
    due: float


class Spent(_Event):
    """Something was used by a call whose result is not wanted any more: the run was paused or ended while it was under way."""

    event: Literal["spent"] = "spent"
    address: str = ""
    usage: Usage = Usage()


class Unsure(_AtStep):
    """Nobody can tell whether the piece went out; a person decides."""

    event: Literal["unsure"] = "unsure"
    message: str


class Opened(_AtStep):
    """A block was opened: with a *for each*'s `items`, out of so many `found` in its list, or the numbers of the lanes that fit
    (from 1)."""

    event: Literal["opened"] = "opened"
    items: list[Any] = Field(default_factory=list)
    found: int | None = None
    lanes: list[int] = Field(default_factory=list)


class Checked(_AtStep):
    """A repeat's condition was worked out after a round."""

    event: Literal["checked"] = "checked"
    holds: bool


class Resting(_AtStep):
    """A wait began: until `due`, or, where `listening`, until something arrives (at the latest at `due`)."""

    event: Literal["resting"] = "resting"
    due: float | None = None
    listening: bool = False


class Heard(_AtStep):
    """What a wait was waiting for arrived."""

    event: Literal["heard"] = "heard"
    item: dict[str, Any]


class Called(_AtStep):
    """A run of another workflow began."""

    event: Literal["called"] = "called"
    run: int


class Stopped(_AtStep):
    """The page itself ended the item or the run, well or as a failure."""

    event: Literal["stopped"] = "stopped"
    well: bool
    whole: bool
    message: str = ""


class Judged(_AtStep):
    """A person's word on a step that failed for good."""

    event: Literal["judged"] = "judged"
    choice: Literal["again", "value", "skip", "stop"]
    value: dict[str, Any] = Field(default_factory=dict)
    by: str = ""


class Held(_Event):
    """The run pauses: a person paused it, or a limit is reached."""

    event: Literal["held"] = "held"
    reason: Literal["person", "money", "steps", "time", "budget"]
    message: str


class Released(_Event):
    """The run goes on; a limit that was reached is granted once more."""

    event: Literal["released"] = "released"
    by: str = ""


class TakenUp(_AtStep):
    """A person had the run go on from this step, with `values` of earlier steps set anew where given."""

    event: Literal["taken_up"] = "taken_up"
    by: str = ""
    values: dict[str, dict[str, Any]] = Field(default_factory=dict)


class Cancelled(_Event):
    """A person ended the run, or let a run rest that had failed."""

    event: Literal["cancelled"] = "cancelled"
    by: str = ""


class Ended(_Event):
    """The run is over."""

    event: Literal["ended"] = "ended"
    outcome: Outcome
    message: str = ""


Event = Annotated[
    Begun
    | Done
    | Failed
    | Leased
    | TimerFired
    | Asked
    | Permitted
    | Agreed
    | Answered
    | Queued
    | Sent
    | Accepted
    | Followed
    | Spent
    | Unsure
    | Opened
    | Checked
    | Resting
    | Heard
    | Called
    | Stopped
    | Judged
    | Held
    | Released
    | TakenUp
    | Cancelled
    | Ended,
    Field(discriminator="event"),
]
_ADAPTER: TypeAdapter[Event] = TypeAdapter(Event)


def load_event(data: dict[str, Any]) -> Event:
    """An event from its JSON object."""
    return _ADAPTER.validate_python(data)


def dump_event(event: Event) -> dict[str, Any]:
    """An event as a JSON object."""
    return event.model_dump(mode="json")


def read_event(text: str | bytes) -> Event:
    """An event from its JSON text; also from one that holds what is not kept any more (see `read_kept`)."""
    try:
        return _ADAPTER.validate_json(text)
    except ValueError:
        return _ADAPTER.validate_python(read_kept(text))


def write_event(event: Event) -> str:
    """An event as JSON text. Raises `NotPlain` where it holds what cannot be kept."""
    try:
        return event.model_dump_json()
    except (PydanticSerializationError, ValueError, RecursionError, TypeError) as error:
        raise NotPlain(f"it holds something that cannot be kept ({error})") from None
