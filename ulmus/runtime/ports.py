"""What the parts of the engine room know of one another: narrow interfaces, put together in `engine`.

Parts import this page and never each other's machinery, so that there is no circle and each can be tried alone.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Future
from contextlib import AbstractContextManager
from typing import Any, Protocol

from sqlalchemy.orm import Session

from ..core import flow
from ..protocols.errors import OutsideError
from .journal import Live
from .services import Services
from .timing import Goes
from .transaction import Transaction

Told = Callable[[BaseException | None], None]
"""Hears that something was written, or why not."""
Met = OutsideError | None
"""What work on an outside failed with, or nothing."""
Job = Callable[[Met], "Met | Future[Met]"]
"""Work on an outside: gets the reason where it is given back undone, gives what it failed with; where somebody else is at it, later."""


class Outdated(Exception):
    """What was prepared rests on something that has changed since; it is to be prepared once more."""


class Events(Protocol):
    """How events come into journals. Thread-safe."""

    def post(self, run_id: int, event: flow.Event) -> None:
        """Have `event` written some time soon, without waiting; one that comes too late is left out."""

    def tell(
        self,
        run_id: int,
        event: flow.Event | None,
        told: Told,
        also: Callable[[Session], None] | None = None,
    ) -> None:
        """As `post`, with what `also` changes in the same transaction, or only that; `told` hears that it was written, or why not."""

    def record(self, run_id: int, event: flow.Event, also: Callable[[Session], None] | None = None, strict: bool = True) -> bool:
        """Write `event`, and what `also` changes, in one transaction, and have what follows carried out.

        An event that cannot happen raises `flow.FlowError`, or gives ``False`` where not `strict`.
        """

    def wake(self, run_id: int) -> None:
        """Have a run go on from its journal."""

    def wake_all(self, runs: Sequence[int]) -> None:
        """Have many runs go on, some at a time, so that what comes meanwhile need not wait for all of them."""

    def answer(
        self,
        run_id: int,
        decision: flow.Decision,
        prepared: Any,
        told: Told = lambda error: None,
        also: Callable[[Session], None] | None = None,
    ) -> None:
        """Have what was `prepared` for an open decision committed, and what `also` changes; `told` hears that it was, or why not."""

    def live(self, run_id: int) -> Live:
        """The run as it stands, read from its journal."""


class Dispatch(Protocol):
    """Where decisions go that need more than the database."""

    def submit(self, live: Live, decision: flow.Decision) -> None:
        """Have it carried out outside the transaction; what comes of it comes back as an event."""

    def stop(self, run_id: int) -> None:
        """End what is under way for a run that ended or pauses."""


class Gate(Protocol):
    """The doors of outsides: so many at a time, so many a minute, closed while they fail."""

    def submit(self, key: str, job: Job, run: int | None = None) -> None:
        """Have `job` carried out as soon as its outside lets it; an empty key leads nowhere and passes at once."""

    def passing(self, key: str, cancelled: Callable[[], bool]) -> AbstractContextManager[None]:
        """Wait at the door of an outside as somebody does who is watched (a proof): before all others, and a door that is closed is
        tried all the same. Within it one counts as under way, and what one meets is told of the outside. Raises `Stopped`."""


class Runs(Protocol):
    """How runs begin."""

    def begin(
        self,
        tx: Transaction,
        workflow_id: int,
        item: dict[str, Any],
        title: str,
        parent: tuple[int, str] | None = None,
        depth: int = 0,
        identity: str | None = None,
    ) -> int:
        """Begin a run on the workflow's live revision within `tx`; it goes on once that is committed."""


class Outbox(Protocol):
    """Where pieces wait to go out."""

    services: Services

    def queue(self, tx: Transaction, live: Live, decision: flow.Send, kind: str, outgoing: Any, goes: Goes) -> tuple[int, str]:
        """Put a piece into the outbox within `tx`, to go out then; gives its number and key. Raises `OutsideError` where there is
        no place for it."""


class Commits(Protocol):
    """The decisions of a run: which go outside, and what the others, or what was prepared for them, come to."""

    def goes_outside(self, decision: flow.Decision) -> bool:
        """Whether it is carried out outside the transaction."""

    def commit(self, tx: Transaction, live: Live, decision: flow.Decision, prepared: Any) -> list[flow.Event]:
        """The events a decision comes to, with what they change in the database. Raises `OutsideError`, `Outdated`."""


class Budget(Protocol):
    """Limits on money, and on how often connections are asked."""

    def over(self, session: Session, live: Live, step: str) -> str:
        """Which limit per day or month keeps a line from being carried out, in words, or nothing."""

    def spent(self, day: str, workflow_id: int, cost: float) -> None:
        """Take notice of what was just written down."""
