"""The phases a step goes through, each with its own facts and no others.

`word` says how a run stands that has a step in this phase; `at_work` whether something is to be done now, or the run waits
for a time, a person, a piece or another run.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

Word = Literal["stuck", "unsure", "asking", "running", "waiting", "resting"]


@dataclass(frozen=True)
class Phase:
    """Where a step stands. `name` is what it is called in words of error."""

    name: ClassVar[str]
    word: ClassVar[Word] = "running"
    at_work: ClassVar[bool] = False


@dataclass(frozen=True)
class Ready(Phase):
    """It is to be carried out."""

    name = "ready"
    at_work = True


@dataclass(frozen=True)
class Due(Phase):
    """It waited first; now it is to be carried out."""

    name = "due"
    at_work = True


@dataclass(frozen=True)
class Retrying(Phase):
    """It failed, and is tried again when it is `due` (seconds since the epoch)."""

    name = "waiting for another try"
    word = "waiting"
    due: float


@dataclass(frozen=True)
class Asking(Phase):
    """A person is asked about a draft, or a question."""

    name = "asking a person"
    word = "asking"


@dataclass(frozen=True)
class Rewriting(Phase):
    """The draft it asked about is made again, after a note."""

    name = "rewriting"
    at_work = True


@dataclass(frozen=True)
class Permit(Phase):
    """An act of an assignment: it is to be found out whether it may be done."""

    name = "to be permitted"
    at_work = True


@dataclass(frozen=True)
class Permitting(Phase):
    """A person is asked whether an act may be done; a yes covers `scope`."""

    name = "asking leave"
    word = "asking"
    scope: str = ""


@dataclass(frozen=True)
class Queued(Phase):
    """Its piece is in the outbox."""

    name = "queued"


@dataclass(frozen=True)
class InDoubt(Phase):
    """Nobody can tell whether its piece went out; a person says."""

    name = "unsure"
    word = "unsure"
    message: str = ""


@dataclass(frozen=True)
class Job:
    """A job that another system took `since` then; `receipt` says where to look."""

    receipt: dict[str, Any] = field(default_factory=dict, hash=False)
    since: float = 0.0


@dataclass(frozen=True)
class Pausing(Phase):
    """A job is under way; it is looked at when that is `due`."""

    name = "waiting for a job"
    due: float
    job: Job


@dataclass(frozen=True)
class Following(Phase):
    """A job is looked at."""

    name = "looking at a job"
    at_work = True
    job: Job


@dataclass(frozen=True)
class Open(Phase):
    """A block whose sequences are under way."""

    name = "open"


@dataclass(frozen=True)
class Checking(Phase):
    """A repeat whose round has ended: does its condition hold?"""

    name = "checking"
    at_work = True


@dataclass(frozen=True)
class Between(Phase):
    """A repeat whose next round is `due` then."""

    name = "between rounds"
    word = "resting"
    due: float


@dataclass(frozen=True)
class Resting(Phase):
    """A wait for a time."""

    name = "waiting"
    word = "resting"
    due: float


@dataclass(frozen=True)
class Listening(Phase):
    """A wait for something to arrive, at the longest until `due` where there is such."""

    name = "listening"
    word = "resting"
    at_work = True
    due: float | None


@dataclass(frozen=True)
class Called(Phase):
    """A run of another workflow is under way for it."""

    name = "waiting for another run"


@dataclass(frozen=True)
class Stuck(Phase):
    """It has failed for good; a person says how to go on."""

    name = "stuck"
    word = "stuck"
    message: str


@dataclass(frozen=True)
class Broken(Phase):
    """It has failed for good, and what it stood in with it."""

    name = "failed"
    message: str
