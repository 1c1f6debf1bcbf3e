"""The writer: one thread, the queue of events, and the runs they belong to.

One rule holds the engine together: an event, and whatever it changes in the database, are written in one transaction;
only after that does anything happen outside. What was decided but not yet done when the process died is decided again
from the journal. Events come in from many threads and are written by one, many in a transaction, so that the cost of a
durable write is shared. The writer only writes: no kind's code, file, network or whole sheet is waited for in here.

Without `start` there is no such thread, and events are written by whoever brings them.
"""

from __future__ import annotations

import logging
import queue
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from operator import attrgetter
from typing import Any

from sqlalchemy.exc import NoResultFound, OperationalError
from sqlalchemy.orm import Session

from ..core import flow
from ..core.values import NotPlain
from ..protocols.errors import OutsideError
from ..store import packed
from .journal import Live, Pages
from .ports import Budget, Commits, Dispatch, Outdated, Told
from .services import Services
from .transaction import Transaction

log = logging.getLogger("ulmus")
MOST_AT_ONCE = 256
MOST_LIVE = 4000
"""Open runs kept in memory; those used longest ago are read from their journals again."""
WAKE_AT_ONCE = 100
TRIES = 6
TRY_AGAIN = 0.05
"""Seconds until what could not be written is tried again; doubled each time."""


class EngineStopped(RuntimeError):
    """The engine has been stopped; what could not be written is done again at the next start."""


@dataclass(slots=True)
class _Answer:
    """What was prepared for an open decision."""

    decision: flow.Decision
    prepared: Any


@dataclass(slots=True)
class _Entry:
    """Something to be written: an event of a run, or an answer, and what goes with it; with neither, only what follows."""

    run_id: int
    event: flow.Event | None = None
    answer: _Answer | None = None
    also: Callable[[Session], None] | None = None
    told: Told = lambda error: None
    tries: int = 0


class Writer:
    """Writes events into journals and has what follows from them carried out. Thread-safe."""

    handlers: Commits
    dispatch: Dispatch
    budget: Budget

    def __init__(self, services: Services, pages: Pages) -> None:
        self.services = services
        self.pages = pages
        self._ended: list[Callable[[Transaction, Live], None]] = []
        self._lock = threading.RLock()
        self._live: OrderedDict[int, Live] = OrderedDict()
        self._lagging: set[int] = set()
        self._entries: queue.SimpleQueue[_Entry | None] = queue.SimpleQueue()
        self._pumping = False
        self._closed = False
        self._closing = threading.Lock()
        self._thread: threading.Thread | None = None

    def on_end(self, call: Callable[[Transaction, Live], None]) -> None:
        """Have `call` made in the transaction in which a run ends."""
        self._ended.append(call)

    def start(self) -> None:
        """Begin the writing thread."""
        self._thread = threading.Thread(target=self._work, name="ulmus-writer", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Write what has gathered, and then nothing more."""
        if self._thread is not None:
            self._entries.put(None)
            self._thread.join(10)
            with self._closing:
                self._closed = True
            while not self._entries.empty():
                entry = self._entries.get_nowait()
                if entry is not None:
                    entry.told(EngineStopped("The engine has been stopped."))

    # -- the interface ------------------------------------------------------------------------------

    def post(self, run_id: int, event: flow.Event) -> None:
        """See `ports.Events`."""
        self._put(_Entry(run_id, event))

    def wake(self, run_id: int) -> None:
        """See `ports.Events`."""
        self._put(_Entry(run_id))

    def wake_all(self, runs: Sequence[int]) -> None:
        """See `ports.Events`."""
        now, later = runs[:WAKE_AT_ONCE], runs[WAKE_AT_ONCE:]
        for run_id in now[:-1]:
            self.wake(run_id)
        if now:
            self._put(_Entry(now[-1], told=lambda error: self.wake_all(later) if not isinstance(error, EngineStopped) else None))

    def answer(
        self,
        run_id: int,
        decision: flow.Decision,
        prepared: Any,
        told: Told = lambda error: None,
        also: Callable[[Session], None] | None = None,
    ) -> None:
        """See `ports.Events`."""
        self._put(_Entry(run_id, answer=_Answer(decision, prepared), also=also, told=told))

    def tell(
        self,
        run_id: int,
        event: flow.Event | None,
        told: Told,
        also: Callable[[Session], None] | None = None,
    ) -> None:
        """See `ports.Events`."""
        self._put(_Entry(run_id, event, also=also, told=told))

    def record(self, run_id: int, event: flow.Event, also: Callable[[Session], None] | None = None, strict: bool = True) -> bool:
        """See `ports.Events`."""
        written: Future[None] = Future()
        told: Told = lambda e: written.set_exception(e) if e else written.set_result(None)  # noqa: E731
        self._put(_Entry(run_id, event, also=also, told=told), now=True)
        try:
            written.result()
        except flow.FlowError:
            if strict:
                raise
            log.info("run %s: %s came too late", run_id, event.event)
            return False
        return True

    def live(self, run_id: int) -> Live:
        """See `ports.Events`."""
        with self.services.store.read() as session:
            return self.pages.load(session, run_id)

    def waiting(self) -> int:
        """How many events wait to be written."""
        return self._entries.qsize()

    def catch_up(self, now: float) -> None:
        """Bring rows up to date that were left behind while their runs went on quickly."""
        with self._lock:
            behind = [run_id for run_id in self._lagging if (live := self._live.get(run_id)) is None or live.is_behind(now)]
            self._lagging.difference_update(behind)
        for run_id in behind:
            self.wake(run_id)

    # -- the queue ----------------------------------------------------------------------------------

    def _put(self, entry: _Entry, now: bool = False) -> None:
        """Have an entry written: by the writing thread, or `now` and here where this is that thread, or there is none."""
        if self._thread is not None and threading.current_thread() is not self._thread:
            with self._closing:
                if not self._closed:
                    self._entries.put(entry)
                    return
            entry.told(EngineStopped("The engine has been stopped."))
        elif now and (self._thread is not None or self._pumping):
            self.write([entry])
        else:
            self._entries.put(entry)
            if self._thread is None and not self._pumping:
                self._pump()

    def _pump(self) -> None:
        """Write what has gathered, where there is no writing thread."""
        with self._lock:
            self._pumping = True
            try:
                while not self._entries.empty():
                    entry = self._entries.get_nowait()
                    if entry is not None:
                        self.write([entry])
            finally:
                self._pumping = False

    def _work(self) -> None:
        """The writing thread: whatever has gathered is written together."""
        while True:
            entry = self._entries.get()
            batch: list[_Entry] = []
            while entry is not None:
                batch.append(entry)
                if len(batch) == MOST_AT_ONCE or self._entries.empty():
                    break
                entry = self._entries.get_nowait()
            try:
                if batch:
                    self.write(batch)
            except Exception:
                log.exception("the writer met a fault and goes on")
            if entry is None:
                return

    # -- writing ------------------------------------------------------------------------------------

    def write(self, entries: list[_Entry]) -> None:
        """Write entries in one transaction; where one of them is at fault, each on its own."""
        refused: dict[int, Exception] = {}
        touched: dict[int, Live] = {}
        with self._lock:
            try:
                with self.services.store.writing() as connection:
                    tx = Transaction(connection, self.services.clock())
                    try:
                        for n, entry in enumerate(entries):
                            try:
                                touched[entry.run_id] = self._take(tx, entry)
                            except (flow.FlowError, NotPlain, Outdated, NoResultFound) as error:
                                refused[n] = error
                            except packed.Emptied as error:
                                refused[n] = flow.FlowError(str(error))  # too late, for good
                        for live in touched.values():
                            if live.queued and not live.state.ended:
                                continue  # its row says that it waits its turn
                            if not live.project(tx, self.budget.spent):
                                self._lagging.add(live.run_id)
                        tx.flush()
                    finally:
                        tx.close()
            except BaseException as error:
                for entry in entries:
                    self._live.pop(entry.run_id, None)
                self._not_written(entries, error)
                return
            for live in touched.values():
                self._hand_on(live)
        self.services.health.well()
        for n, entry in enumerate(entries):
            entry.told(refused.get(n))
        for run_id in touched:
            self.services.bus.publish("run", id=run_id)
        tx.follow(self.services.bus)

    def _not_written(self, entries: list[_Entry], error: BaseException) -> None:
        """Nothing of these entries was written: find the one at fault, or try again later where the disk is."""
        if len(entries) > 1:
            for entry in entries:
                self.write([entry])
            return
        [entry] = entries
        # While the disk takes nothing it is tried again without end; a caller who waits is told.
        disk = self.services.health.met(error)
        if isinstance(error, OperationalError) and entry.also is None and (entry.tries < TRIES or disk):
            if not disk:
                log.warning("run %s: an event could not be written (%s) and is tried again", entry.run_id, error.orig)
            later = replace(entry, tries=entry.tries + 1)
            timer = threading.Timer(TRY_AGAIN * 2 ** min(entry.tries, TRIES), self._put, (later,))
            timer.daemon = True
            timer.start()
            return
        if isinstance(error, Exception) and not disk:
            log.error("run %s: an event could not be written", entry.run_id, exc_info=error)
        entry.told(error)

    def _take(self, tx: Transaction, entry: _Entry) -> Live:
        live = self._live.get(entry.run_id)
        if live is None:
            tx.flush()
            live = self._live[entry.run_id] = self.pages.load(tx.session, entry.run_id)
        self._live.move_to_end(entry.run_id)
        if live.queued and entry.event is None and entry.answer is None:
            # It waits for another run of its workflow to end.
            return live
        before = (live.state.ended, live.state.outcome)
        if entry.event is not None:
            live.apply(tx, entry.event)
        elif entry.answer is not None:
            self._commit(tx, live, entry.answer)
        if entry.also is not None:
            entry.also(tx.session)
        self._follow(tx, live)
        if live.state.ended and (live.state.ended, live.state.outcome) != before:
            live.project(tx, self.budget.spent)
            tx.connection.exec_driver_sql("DELETE FROM timers WHERE run_id = ?", (live.run_id,))
            for call in self._ended:
                call(tx, live)
        return live

    def _commit(self, tx: Transaction, live: Live, answer: _Answer) -> None:
        """Take in what was prepared for a decision, while that decision is still open."""
        now = live.state.open.get(getattr(answer.decision, "address", ""))
        if now is None or (now is not answer.decision and identity(now) != identity(answer.decision)):
            raise flow.FlowError("what was prepared came too late")
        self._apply(tx, live, now, answer.prepared)

    def _apply(self, tx: Transaction, live: Live, decision: flow.Decision, prepared: Any = None) -> None:
        address = getattr(decision, "address", "")
        try:
            for event in self.handlers.commit(tx, live, decision, prepared):
                live.apply(tx, event)
        except OutsideError as error:
            live.apply(tx, flow.Failed(at=tx.now, address=address, message=error.message, code=error.code))
        except NotPlain as error:
            words = f"What this line gave cannot be kept: {error}."
            live.apply(tx, flow.Failed(at=tx.now, address=address, message=words))

    # -- what follows -------------------------------------------------------------------------------

    def _follow(self, tx: Transaction, live: Live) -> None:
        """Answer what the database alone can answer; what cannot be is put aside in `live.outside` for after the commit."""
        state = live.state
        while True:
            if state.outcome is not None and not state.ended:
                live.apply(tx, flow.Ended(at=tx.now, outcome=state.outcome, message=state.message))
            elif state.over is not None and not state.held:
                live.apply(tx, flow.Held(at=tx.now, reason=state.over.reason, message=state.over.message))
            news = state.take_news()
            if not news:
                break
            for decision in news:
                if state.outcome is not None or state.over is not None or state.held:
                    break
                if not isinstance(decision, flow.Finish | flow.Hold) and state.open.get(decision.address) is decision:
                    self._decide(tx, live, decision)
        if state.held or state.ended:
            live.outside = []

    def _decide(self, tx: Transaction, live: Live, decision: Any) -> None:
        if isinstance(decision, flow.Wait | flow.Listen) and decision.due is not None:
            tx.set_timer(live.run_id, decision.address, decision.due)
        if isinstance(decision, flow.Perform) and (decision.step in live.page.paid or decision.step in live.page.asks):
            words = self.budget.over(tx.session, live, decision.step)
            if words:
                live.apply(tx, flow.Held(at=tx.now, reason="budget", message=words))
                return
        if self.handlers.goes_outside(decision):
            live.outside.append(decision)
        else:
            self._apply(tx, live, decision)
            if isinstance(decision, flow.Listen) and live.state.open.get(decision.address) is decision:
                live.outside.append(decision)

    def _hand_on(self, live: Live) -> None:
        """After the commit: what needs the outside is dispatched; a run that ended or pauses has what is under way ended."""
        outside, live.outside = live.outside, []
        for decision in outside:
            self.dispatch.submit(live, decision)
        state = live.state
        if state.ended or state.held:
            self.dispatch.stop(live.run_id)
        if state.ended or live.queued:
            self._live.pop(live.run_id, None)
        while len(self._live) > MOST_LIVE:
            self._live.popitem(last=False)


_IDENTITY = {
    flow.Perform: attrgetter("address", "step", "attempt", "generation"),
    flow.Wait: attrgetter("address", "due"),
    flow.Ask: attrgetter("address", "step", "round"),
    flow.Send: attrgetter("address", "step", "attempt", "generation"),
    flow.Follow: attrgetter("address", "step", "attempt", "generation", "since"),
    flow.Write: attrgetter("address", "step", "generation"),
    flow.Listen: attrgetter("address", "step", "due"),
    flow.Call: attrgetter("address", "step", "generation"),
}
_PLACE = attrgetter("address", "step")


def identity(decision: Any) -> tuple[Any, ...]:
    """What makes a decision the same decision: what is to be done, where, and for the how-manieth time."""
    kind = type(decision)
    return (kind.__name__, *_IDENTITY.get(kind, _PLACE)(decision))
