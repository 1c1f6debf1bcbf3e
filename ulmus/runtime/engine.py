"""The engine: puts the parts of the engine room together, starts and stops them.

What each does stands in its own module: `writer` (journals), `handlers` (decisions), `dispatcher` (what needs the outside),
`outsides` (the gate), `ticker` (time), `runs`, `budgets`, `outbox`, `polling` (starts), `replies`.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Any

from filelock import FileLock, Timeout
from sqlalchemy.orm import Session

from ..core import flow
from ..core.pieces import Letter
from ..store import place, tables
from . import records
from .arrivals import Arrivals
from .asking import letters
from .asking.briefs import Briefs
from .asking.deadlines import Deadlines
from .asking.replies import Answering
from .asking.rooms import RoomAnswers
from .budgets import Budgets
from .dispatcher import Dispatcher
from .executors import Executor, Threads
from .handlers import Handlers
from .hubs import Hubs
from .journal import Live, Pages
from .keeping import Keeping
from .mirrors import Mirrors
from .noticing import notices
from .noticing.notices import Notices
from .numbers import Numbers
from .outbox import Outbox
from .outsides import Outsides
from .polling import Polling
from .pushing import Pushing
from .quotas import Uses
from .replies import Replies
from .returns import Returns
from .runs import Runs
from .services import Services
from .telling import NOTICE
from .ticker import Ticker
from .transaction import Transaction
from .writer import EngineStopped, Writer

__all__ = ["Engine", "EngineBusy", "EngineStopped"]
NEW_DAY_LOOK = 30.0


class EngineBusy(RuntimeError):
    """Another engine already works on this data."""


class Engine:
    """Coordinates all runs of one database. Thread-safe."""

    def __init__(self, services: Services, executor: Executor | None = None) -> None:
        self.services = services
        self.executor = executor or Threads()
        self.pages = Pages()
        self.outsides = Outsides(services, self.executor)
        self.writer = Writer(services, self.pages)
        self.uses = Uses(services)
        self.budgets = Budgets(services, self.uses)
        self.runs = Runs(services, self.pages, self.writer)
        self.outbox = Outbox(services, self.writer, self.outsides, self._told)
        self.polling = Polling(services, self.pages, self.runs, self.outsides)
        self.replies = Replies(services, self.writer, self.outsides)
        self.answering = Answering(services, self.writer)
        self.returns = Returns(services, self.outsides, self.answering.take)
        self.briefs = Briefs(services, self.writer, self.outsides)
        self.deadlines = Deadlines(services, self.writer)
        self.room_answers = RoomAnswers(services, self.answering, self.outsides)
        self.pushing = Pushing(services, self.outsides)
        self.notices = Notices(services, self.outsides, self.pushing.notices)
        self.numbers = Numbers(services, self.outsides)
        self.mirrors = Mirrors(services, self.outsides)
        self.hubs = Hubs(services, self.outsides)
        self.keeping = Keeping(services, self.executor)
        self.arrivals = Arrivals(services, self.writer)
        self.handlers = Handlers(services, self.outbox, self.runs, self.outsides)
        self.dispatcher = Dispatcher(services, self.outsides, self.writer, self.uses, self.replies.watch)
        self.writer.handlers = self.dispatcher.handlers = self.handlers
        self.writer.dispatch, self.writer.budget = self.dispatcher, self.budgets
        self.writer.on_end(self.runs.ended)
        self.writer.on_end(lambda tx, live: tx.then(self.polling.wake))
        tickers: list[Callable[[float], None]] = [
            self.writer.catch_up,
            self.outsides.tick,
            self.outbox.tick,
            self.polling.tick,
            self.replies.tick,
            self.returns.tick,
            self.briefs.tick,
            self.deadlines.tick,
            self.room_answers.tick,
            self.pushing.tick,
            self.notices.tick,
            self.numbers.tick,
            self.mirrors.tick,
            self.hubs.tick,
            self.uses.tick,
            self.keeping.tick,
            self._new_day,
        ]
        resets = [
            self.outsides.reset,
            self.replies.reset,
            self.returns.reset,
            self.deadlines.reset,
            self.room_answers.reset,
            self.pushing.reset,
            self.notices.reset,
            self.numbers.reset,
            self.hubs.reset,
            self.uses.reset,
            self._reset,
        ]
        self.ticker = Ticker(services, self.writer, tickers, resets)
        self._next_day_look = 0.0
        self._next_forgetting = 0.0
        self._file_lock = FileLock(services.store.folder / "engine.lock")
        self.hold: place.Hold | None = None
        self.letting_go = threading.Lock()

    def start(self, polling: bool = True) -> None:
        """Claim the data, go on with every open run, and begin to listen. A copy is held: it does neither until it is let go.

        Raises `EngineBusy`.
        """
        try:
            self._file_lock.acquire(timeout=0)
        except Timeout:
            raise EngineBusy("Another Ulmus already works on this data. Stop it first, or use another data folder.") from None
        # Many threads wait for outsides and need the interpreter for a moment only: hand it on more often than usual.
        sys.setswitchinterval(0.001)
        self.polling.enabled = polling
        self.budgets.start()
        self.executor.ready()
        self.writer.start()
        self.hold = place.claim(self.services.store)
        if self.hold is None:
            self.go_on()

    def go_on(self) -> None:
        """Go on with every open run and piece, and begin to listen."""
        self.hold = None
        self.outbox.recover()
        self.runs.recover()
        self.ticker.start()

    def stop(self) -> None:
        """Stop listening; what is under way is taken up at the next start."""
        self.ticker.stop()
        self.outbox.stop()
        self.executor.stop()
        self.writer.stop()
        self.uses.flush()
        self._file_lock.release()

    def _told(self, piece: tables.Piece) -> Letter | str | None:
        """What the house tells people with a piece of its own."""
        if piece.kind == NOTICE:
            return notices.told(self.services, piece)
        return letters.told(self.services, self.writer, piece)

    def _reset(self, now: float) -> None:
        self._next_day_look = 0.0

    def _new_day(self, now: float) -> None:
        if now >= self._next_day_look:
            self._next_day_look = now + NEW_DAY_LOOK
            self._forget(now)
            self.runs.tick(now)

    def _forget(self, now: float) -> None:
        """Once a day: rows that were removed long ago."""
        if now >= self._next_forgetting:
            self._next_forgetting = now + 86_400
            with self.services.store.write() as session:
                records.forget(session, now)

    # -- what callers need, by its shortest name ----------------------------------------------------

    def transaction(self) -> AbstractContextManager[Transaction]:
        """One transaction; what was to follow happens after its commit, and only then."""
        return self.services.transaction()

    def begin(self, tx: Transaction, workflow_id: int, item: dict[str, Any], title: str, **more: Any) -> int:
        """Begin a run within `tx`; see `Runs.begin`."""
        return self.runs.begin(tx, workflow_id, item, title, **more)

    def record(self, run_id: int, event: flow.Event, also: Callable[[Session], None] | None = None, strict: bool = True) -> bool:
        """Write an event; see `ports.Events.record`."""
        return self.writer.record(run_id, event, also, strict)

    def live(self, run_id: int) -> Live:
        """The run as it stands, read from its journal."""
        return self.writer.live(run_id)
