"""The engine: writes events into journals and has the decisions that follow carried out.

One rule holds everything together: an event, and whatever it changes in the database, are written in one
transaction; only after that does anything happen outside. What was decided but not yet done when the process
died is decided again from the journal when it starts.

Events come in from many threads and are written by one, many in a transaction (`_batch`), so that the cost of a
durable write is shared. Without `start` there is no such thread, and events are written by whoever brings them.
"""

from __future__ import annotations

import heapq
import logging
import queue
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable
from concurrent.futures import Future
from dataclasses import dataclass
from functools import partial
from typing import Any

from filelock import FileLock, Timeout
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.workflow import Line, drawn, take_name
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context, StepFailed
from ..store import tables
from . import carry
from .beginning import Beginning
from .executors import Executor, Threads
from .inside import Inside
from .journal import Live, Pages, Writing
from .outbox import Outbox
from .outsides import Outsides, leads_to
from .polling import Polling
from .replies import Replies
from .services import Services
from .shelf import shelf

log = logging.getLogger("ulmus")
TICK = 0.1
MOST_AT_ONCE = 256
WRITE_TRIES = 5
WRITE_AGAIN = 5.0


class EngineBusy(RuntimeError):
    """Another engine already works on this data."""


class EngineStopped(RuntimeError):
    """The engine has been stopped; what could not be written is done again at the next start."""


@dataclass
class _Entry:
    """Something to be written: an event of a run and what goes with it, or (without an event) only what follows."""

    run_id: int
    event: flow.Event | None
    also: Callable[[Session], None] | None = None
    told: Callable[[BaseException | None], None] = lambda error: None
    """Hears that it was written, or why not."""


class Engine:
    """Coordinates all runs of one database. Thread-safe."""

    def __init__(self, services: Services, executor: Executor | None = None) -> None:
        self.services = services
        self.executor = executor or Threads()
        self.outsides = Outsides(services, self.executor)
        self.pages = Pages()
        self.inside = Inside(self)
        self.beginning = Beginning(self)
        self.outbox = Outbox(self)
        self.polling = Polling(self)
        self.replies = Replies(self)
        self._lock = threading.RLock()
        self._live: dict[int, Live] = {}
        self._flying: set[tuple[int, str]] = set()
        self._timers: list[tuple[float, int, str]] = []
        self._later: deque[_Entry] = deque()
        self._entries: queue.SimpleQueue[_Entry | None] = queue.SimpleQueue()
        self._pumping = False
        self._closed = False
        self._closing = threading.Lock()
        self._stopping = threading.Event()
        self._writer: threading.Thread | None = None
        self._ticker = threading.Thread(target=self._tick, name="ulmus-ticker", daemon=True)
        self._file_lock = FileLock(services.store.folder / "engine.lock")

    # -- life ---------------------------------------------------------------------------------------

    def start(self, polling: bool = True) -> None:
        """Claim the data, go on with every open run, and begin to listen. Raises `EngineBusy`."""
        try:
            self._file_lock.acquire(timeout=0)
        except Timeout:
            raise EngineBusy("Another Ulmus already works on this data. Stop it first, or use another data folder.") from None
        # Many threads wait for outsides and need the interpreter for a moment only: hand it on more often than usual.
        sys.setswitchinterval(0.001)
        self.polling.enabled = polling
        self.beginning.read_spending()
        self.executor.ready()
        self._writer = threading.Thread(target=self._write, name="ulmus-writer", daemon=True)
        self._writer.start()
        self._recover()
        self._ticker.start()

    def stop(self) -> None:
        """Stop listening; what is under way is taken up at the next start."""
        self._stopping.set()
        if self._ticker.is_alive():
            self._ticker.join(5)
        self.executor.stop()
        if self._writer is not None:
            self._entries.put(None)
            self._writer.join(10)
            self._refuse_rest()
        self._file_lock.release()

    def _refuse_rest(self) -> None:
        """Nobody waits for what is written no more."""
        with self._closing:
            self._closed = True
        while not self._entries.empty():
            entry = self._entries.get_nowait()
            if entry is not None:
                entry.told(EngineStopped("The engine has been stopped."))

    def _recover(self) -> None:
        with self.services.store.read() as session:
            open_ = select(tables.Run.id).where(tables.Run.ended_at.is_(None), tables.Run.state != "queued")
            open_runs = list(session.scalars(open_.order_by(tables.Run.id)))
        for run_id in open_runs:
            self._entries.put(_Entry(run_id, None))
        self.outbox.recover()
        self.beginning.recover()

    def _tick(self) -> None:
        while not self._stopping.wait(TICK):
            try:
                now = self.services.clock()
                for run_id, address in self._due(now):
                    self._fire(run_id, address, now)
                self.outsides.look(now)
                self.outbox.look(now)
                self.polling.look(now)
                self.replies.look(now)
            except Exception:
                log.exception("the ticker met a fault and goes on")

    def _fire(self, run_id: int, address: str, now: float) -> None:
        try:
            self.record(run_id, flow.TimerFired(at=now, address=address), strict=False)
        except Exception:
            # The timer is kept, so that one run's fault neither loses it nor holds up the others.
            log.exception("run %s: a timer could not be written and will be tried again", run_id)
            with self._lock:
                heapq.heappush(self._timers, (now + 1, run_id, address))

    def _due(self, now: float) -> list[tuple[int, str]]:
        out = []
        with self._lock:
            while self._timers and self._timers[0][0] <= now:
                _, run_id, address = heapq.heappop(self._timers)
                out.append((run_id, address))
        return out

    # -- events -------------------------------------------------------------------------------------

    def begin(self, session: Session, workflow_id: int, item: dict[str, Any], title: str, **more: Any) -> int:
        """Begin a run on the workflow's live revision within `session`'s transaction; call `settle` after it."""
        return self.beginning.begin(session, workflow_id, item, title, **more)

    def settle(self, run_ids: Iterable[int]) -> None:
        """Have runs go on that were begun in a transaction of the caller's."""
        for run_id in run_ids:
            self._put(_Entry(run_id, None))
        while self._later:
            self._put(self._later.popleft())

    def post(self, run_id: int, event: flow.Event) -> None:
        """Have `event` written some time soon, without waiting; one that comes too late is left out."""
        self._put(_Entry(run_id, event))

    def post_later(self, run_id: int, event: flow.Event) -> None:
        """As `post`, for callers that are inside a transaction."""
        self._later.append(_Entry(run_id, event))

    def record(self, run_id: int, event: flow.Event, also: Callable[[Session], None] | None = None, strict: bool = True) -> bool:
        """Write `event`, and what `also` changes, in one transaction, and have what follows carried out.

        An event that cannot happen raises `flow.FlowError`, or gives ``False`` where not `strict`.
        """
        written: Future[None] = Future()
        self._put(
            _Entry(run_id, event, also, lambda error: written.set_exception(error) if error else written.set_result(None)), now=True
        )
        try:
            written.result()
        except flow.FlowError:
            if strict:
                raise
            log.info("run %s: %s came too late", run_id, event.event)
            return False
        return True

    def live(self, run_id: int) -> Live:
        """The run as it stands, read from its journal."""
        with self.services.store.read() as session:
            return self.pages.load(session, run_id)

    def _put(self, entry: _Entry, now: bool = False) -> None:
        """Have an entry written: by the writing thread, or `now` and here where this is that thread, or there is none."""
        if self._writer is not None and threading.current_thread() is not self._writer:
            with self._closing:
                if not self._closed:
                    self._entries.put(entry)
                    return
            entry.told(EngineStopped("The engine has been stopped."))
        elif now and (self._writer is not None or self._pumping):
            self._batch([entry])
        else:
            self._entries.put(entry)
            if self._writer is None and not self._pumping:
                self._pump()

    def _pump(self) -> None:
        """Write what has gathered, where there is no writing thread."""
        with self._lock:
            self._pumping = True
            try:
                while True:
                    try:
                        entry = self._entries.get_nowait()
                    except queue.Empty:
                        return
                    if entry is not None:
                        self._batch([entry])
            finally:
                self._pumping = False

    def _write(self) -> None:
        """The writing thread: whatever has gathered is written together."""
        while True:
            entry = self._entries.get()
            if entry is None:
                return
            batch = [entry]
            ended = False
            while len(batch) < MOST_AT_ONCE:
                try:
                    more = self._entries.get_nowait()
                except queue.Empty:
                    break
                if more is None:
                    ended = True
                    break
                batch.append(more)
            try:
                self._batch(batch)
            except Exception:
                log.exception("the writer met a fault and goes on")
            if ended:
                return

    def _batch(self, entries: list[_Entry], tries: int = 0) -> None:
        with self._lock:
            writing = Writing(self.services.clock())
            wrong: dict[int, flow.FlowError] = {}
            touched: dict[int, Live] = {}
            try:
                with self.services.store.write() as session:
                    writing.session = session
                    for entry in entries:
                        try:
                            touched[entry.run_id] = self._one(writing, entry)
                        except flow.FlowError as error:
                            wrong[id(entry)] = error
                    for live in touched.values():
                        if live.run_id in self._live:
                            writing.project(live)
                    writing.flush()
            except BaseException as error:
                for entry in entries:
                    self._live.pop(entry.run_id, None)
                if len(entries) > 1:
                    # One of them is at fault; each on its own, so that the others are written.
                    for entry in entries:
                        self._batch([entry])
                elif entries[0].also is None and tries < WRITE_TRIES and isinstance(error, Exception):
                    log.exception("run %s: an event could not be written and is tried again", entries[0].run_id)
                    self._stopping.wait(0.05 * 2**tries)
                    self._batch(entries, tries + 1)
                else:
                    entries[0].told(error)
                return
            self.beginning.spent(writing.spent)
            for live in touched.values():
                self._dispatch(live)
        for entry in entries:
            entry.told(wrong.get(id(entry)))
        for run_id in touched:
            self.services.bus.say("run", id=run_id)
        for then in writing.then:
            then()

    def _one(self, writing: Writing, entry: _Entry) -> Live:
        live = self._live.get(entry.run_id)
        if live is None:
            writing.flush()
            live = self._live[entry.run_id] = self.pages.load(writing.session, entry.run_id)
        if live.queued and entry.event is None:
            # It waits for another run of its workflow to end.
            del self._live[entry.run_id]
            return live
        if entry.event is not None:
            flow.apply(live.state, entry.event)
            writing.append(live, entry.event)
        if entry.also is not None:
            entry.also(writing.session)
        self.inside.follow(writing, live)
        return live

    # -- decisions ----------------------------------------------------------------------------------

    def _dispatch(self, live: Live) -> None:
        for decision in live.outside:
            if isinstance(decision, flow.Perform):
                flight = (live.run_id, f"{decision.address}#{decision.attempt}#{decision.generation}")
                if flight not in self._flying:
                    self._flying.add(flight)
                    line = self._line(live, decision)
                    context = self._context(live, decision, line)
                    job = partial(self._perform, live.run_id, line, decision, context, flight)
                    self.outsides.submit(leads_to(line, context.values), job, live.run_id)
            elif isinstance(decision, flow.Wait | flow.Listen) and decision.due is not None:
                if isinstance(decision, flow.Listen):
                    self.replies.watch(live, decision)
                heapq.heappush(self._timers, (decision.due, live.run_id, decision.address))
        live.outside = []
        if live.state.ended:
            self._live.pop(live.run_id, None)

    def _perform(
        self,
        run_id: int,
        line: Line,
        decision: flow.Perform,
        context: Context,
        flight: tuple[int, str],
        refused: OutsideError | None,
    ) -> OutsideError | None:
        event: flow.Event
        met: OutsideError | None = None
        if self._is_over(run_id):
            self._flying.discard(flight)
            return None
        try:
            if refused is not None:
                raise refused
            result = carry.perform(line, context)
            event = flow.Done(
                at=self.services.clock(),
                address=decision.address,
                output=result.output,
                detail=result.detail,
                usage=result.usage,
            )
        except OutsideError as error:
            met = error
            spent = {"usage": error.usage, "detail": error.detail} if isinstance(error, StepFailed) else {}
            event = flow.Failed(
                at=self.services.clock(),
                address=decision.address,
                message=error.message,
                retryable=error.retryable,
                retry_after=error.retry_after,
                **spent,
            )
        self._bring(run_id, event, flight)
        return met

    def _is_over(self, run_id: int) -> bool:
        """Whether a run ended while a step of it waited for its outside."""
        if run_id in self._live:
            return False
        with self.services.store.read() as session:
            return session.get_one(tables.Run, run_id).ended_at is not None

    def _bring(self, run_id: int, event: flow.Event, flight: tuple[int, str]) -> None:
        """Have what a step gave written; the step counts as under way until it is."""

        def written(error: BaseException | None) -> None:
            if error is None or isinstance(error, flow.FlowError | EngineStopped):
                self._flying.discard(flight)
                return
            log.error("run %s: what a step gave could not be written (%s) and is tried again", run_id, error)
            again = threading.Timer(WRITE_AGAIN, self._bring, (run_id, event, flight))
            again.daemon = True
            again.start()

        self._put(_Entry(run_id, event, None, written))

    def _line(self, live: Live, decision: flow.Perform) -> Line:
        """The line that is carried out: where live runs are shared between the takes of a draft, the one drawn."""
        line = live.line(decision.step)
        return drawn(line, kinds(), carry.lot(live.run_id, decision.address, live.page.loops)) if carry.shares(line) else line

    def _context(self, live: Live, decision: flow.Perform, line: Line) -> Context:
        page, own = live.page, live.line(decision.step)
        return Context(
            web=self.services.web,
            connect=self.services.connect,
            values=live.state.scope(decision.address),
            outside=page.outside,
            rewrite=decision.rewrite,
            asked_later=decision.step in page.asked,
            shelf=shelf(self.services, page.workflow.brand),
            seed=f"{live.run_id}/{decision.address}",
            take=take_name(own, line.id) if carry.shares(own) else "",
            talk=decision.talk,
            spent=decision.spent,
        )
