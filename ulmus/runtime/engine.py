"""The engine: writes events into journals and has the decisions that follow carried out.

One rule holds everything together: an event, and whatever it changes in the database, are written in one
transaction; only after that does anything happen outside. What was decided but not yet done when the process
died is decided again from the journal when it starts.
"""

from __future__ import annotations

import hashlib
import heapq
import logging
import threading
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from filelock import FileLock, Timeout
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core import flow
from ..core.workflow import Line, Workflow
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context, StepFailed
from ..store import tables
from . import carry
from .asking import open_question
from .executors import Executor, Threads
from .outbox import Outbox
from .polling import Polling
from .services import Services, brand_values, run_values

log = logging.getLogger("ulmus")
TICK = 0.1


class EngineBusy(RuntimeError):
    """Another engine already works on this data."""


@dataclass
class Live:
    """An open run in memory: rebuilt from its journal whenever it is not here."""

    run_id: int
    workflow: Workflow
    state: flow.State
    seq: int

    def line(self, step: str) -> Line:
        found = self.workflow.line(step)
        assert found is not None
        return found


class Engine:
    """Coordinates all runs of one database. Thread-safe."""

    def __init__(self, services: Services, executor: Executor | None = None) -> None:
        self.services = services
        self.executor = executor or Threads()
        self.outbox = Outbox(self)
        self.polling = Polling(self)
        self._lock = threading.RLock()
        self._live: dict[int, Live] = {}
        self._flying: set[tuple[int, str]] = set()
        self._timers: list[tuple[float, int, str]] = []
        self._stopping = threading.Event()
        self._ticker = threading.Thread(target=self._tick, name="ulmus-ticker", daemon=True)
        self._file_lock = FileLock(services.store.folder / "engine.lock")

    # -- life ---------------------------------------------------------------------------------------

    def start(self, polling: bool = True) -> None:
        """Claim the data, go on with every open run, and begin to listen. Raises `EngineBusy`."""
        try:
            self._file_lock.acquire(timeout=0)
        except Timeout:
            raise EngineBusy("Another Ulmus already works on this data. Stop it first, or use another data folder.") from None
        self.polling.enabled = polling
        self._recover()
        self._ticker.start()

    def stop(self) -> None:
        """Stop listening; what is under way is taken up at the next start."""
        self._stopping.set()
        if self._ticker.is_alive():
            self._ticker.join(5)
        self.executor.stop()
        self._file_lock.release()

    def _recover(self) -> None:
        with self.services.store.read() as session:
            open_runs = list(session.scalars(select(tables.Run.id).where(tables.Run.ended_at.is_(None))))
        for run_id in open_runs:
            with self._lock:
                self._settle(run_id)
        self.outbox.recover()

    def _tick(self) -> None:
        while not self._stopping.wait(TICK):
            try:
                now = self.services.clock()
                for run_id, address in self._due(now):
                    self._fire(run_id, address, now)
                self.outbox.look(now)
                self.polling.look(now)
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

    def begin(self, session: Session, workflow_id: int, item: dict[str, Any], title: str) -> int:
        """Begin a run on the workflow's live revision within `session`'s transaction; call `settle` after it."""
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        assert record.revision_id is not None
        now = self.services.clock()
        number = (session.scalar(select(func.count()).where(tables.Run.workflow_id == workflow_id)) or 0) + 1
        run = tables.Run(
            workflow_id=workflow_id,
            revision_id=record.revision_id,
            title=title[:300],
            state="running",
            started_at=now,
            changed_at=now,
        )
        session.add(run)
        session.flush()
        context = {"brand": brand_values(session, record.brand), "run": run_values(now, number)}
        event = flow.Begun(at=now, item=item, context=context)
        session.add(tables.JournalEntry(run_id=run.id, seq=0, event=flow.dump_event(event)))
        return run.id

    def settle(self, run_ids: Iterable[int]) -> None:
        """Have runs go on that were begun in a transaction of the caller's."""
        for run_id in run_ids:
            with self._lock:
                self._settle(run_id)

    def record(
        self,
        run_id: int,
        event: flow.Event,
        also: Callable[[Session], None] | None = None,
        strict: bool = True,
    ) -> bool:
        """Write `event`, and what `also` changes, in one transaction, and have what follows carried out.

        An event that cannot happen raises `flow.FlowError`, or gives ``False`` where not `strict`.
        """
        with self._lock:
            try:
                with self.services.store.write() as session:
                    live = self._open(session, run_id)
                    flow.apply(live.state, event)
                    self._append(session, live, event)
                    if also is not None:
                        also(session)
                    self._follow(session, live)
            except flow.FlowError:
                self._live.pop(run_id, None)
                if strict:
                    raise
                log.info("run %s: %s came too late", run_id, event.event)
                return False
            except BaseException:
                self._live.pop(run_id, None)
                raise
            self._dispatch(live)
        self.services.bus.say("run", id=run_id)
        return True

    def live(self, run_id: int) -> Live:
        """The run as it stands, read from its journal where it is not in memory."""
        with self._lock, self.services.store.read() as session:
            live = self._open(session, run_id)
            if live.state.ended:
                self._live.pop(run_id, None)
            return live

    def _settle(self, run_id: int) -> None:
        with self.services.store.write() as session:
            live = self._open(session, run_id)
            self._follow(session, live)
        self._dispatch(live)
        self.services.bus.say("run", id=run_id)

    def _open(self, session: Session, run_id: int) -> Live:
        if run_id not in self._live:
            self._live[run_id] = load(session, run_id)
        return self._live[run_id]

    def _append(self, session: Session, live: Live, event: flow.Event) -> None:
        live.seq += 1
        session.add(tables.JournalEntry(run_id=live.run_id, seq=live.seq, event=flow.dump_event(event)))

    # -- decisions ----------------------------------------------------------------------------------

    def _follow(self, session: Session, live: Live) -> None:
        """Carry out, within the transaction, every decision that only changes the database."""
        while (event := self._inside(session, live)) is not None:
            flow.apply(live.state, event)
            self._append(session, live, event)
        self._project(session, live)

    def _inside(self, session: Session, live: Live) -> flow.Event | None:
        now = self.services.clock()
        for decision in flow.decide(live.state):
            match decision:
                case flow.Finish():
                    return flow.Ended(at=now, outcome=decision.outcome, message=decision.message)
                case flow.Ask():
                    line = live.line(decision.step)
                    text = str(live.state.values.get(str(line.settings.get("draft")), {}).get("text", ""))
                    approval = open_question(self.services, session, live.run_id, line, decision, text)
                    return flow.Asked(at=now, address=decision.address, approval=approval, text=text)
                case flow.Send():
                    return self._queue(session, live, decision, now)
                case flow.Write():
                    return self._write(session, live, decision, now)
        return None

    def _queue(self, session: Session, live: Live, decision: flow.Send, now: float) -> flow.Event:
        line = live.line(decision.step)
        try:
            outgoing = carry.piece(line, self._context(live))
        except OutsideError as error:
            return flow.Failed(at=now, address=decision.address, message=error.message)
        key = effect_key(live.run_id, decision.address, decision.generation)
        piece = self.outbox.queue(session, live.run_id, decision.address, line.kind, outgoing, key, now)
        return flow.Queued(at=now, address=decision.address, piece=piece, key=key)

    def _write(self, session: Session, live: Live, decision: flow.Write, now: float) -> flow.Event:
        try:
            sheet, cells = carry.row(live.line(decision.step), self._context(live))
            record = session.get(tables.Sheet, sheet)
            if record is None:
                raise OutsideError(f"The sheet “{sheet}” is no longer here.")
        except OutsideError as error:
            return flow.Failed(at=now, address=decision.address, message=error.message)
        key = effect_key(live.run_id, decision.address, decision.generation)
        position = (session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet)) or 0) + 1
        session.add(tables.SheetRow(sheet=sheet, position=position, cells=cells, run_id=live.run_id, key=key))
        self.services.bus.say("sheet", key=sheet)
        return flow.Done(at=now, address=decision.address, output={"row": position, "sheet": record.name}, detail={"cells": cells})

    def _dispatch(self, live: Live) -> None:
        for decision in flow.decide(live.state):
            if isinstance(decision, flow.Perform):
                flight = (live.run_id, f"{decision.address}#{decision.attempt}#{live.state.generation}")
                if flight not in self._flying:
                    self._flying.add(flight)
                    context = self._context(live, decision)
                    self.executor.submit(self._perform, live.run_id, live.line(decision.step), decision, context, flight)
            elif isinstance(decision, flow.Wait):
                timer = (decision.due, live.run_id, decision.address)
                if timer not in self._timers:
                    heapq.heappush(self._timers, timer)
        if live.state.ended:
            self._live.pop(live.run_id, None)
        self.outbox.hurry()

    def _perform(self, run_id: int, line: Line, decision: flow.Perform, context: Context, flight: tuple[int, str]) -> None:
        event: flow.Event
        try:
            result = carry.perform(line, context)
            event = flow.Done(
                at=self.services.clock(),
                address=decision.address,
                output=result.output,
                detail=result.detail,
                usage=result.usage,
            )
        except OutsideError as error:
            spent = {"usage": error.usage, "detail": error.detail} if isinstance(error, StepFailed) else {}
            event = flow.Failed(
                at=self.services.clock(),
                address=decision.address,
                message=error.message,
                retryable=error.retryable,
                retry_after=error.retry_after,
                **spent,
            )
        try:
            self.record(run_id, event, strict=False)
        except Exception:
            log.exception("run %s: what a step gave could not be written", run_id)
        finally:
            self._flying.discard(flight)

    def _context(self, live: Live, decision: flow.Perform | None = None) -> Context:
        return Context(
            web=self.services.web,
            connect=self.services.connect,
            values=dict(live.state.values),
            outside=carry.outside_roots(live.workflow),
            rewrite=decision.rewrite if decision else None,
            asked_later=bool(decision) and carry.asked_later(live.workflow, decision.step),  # type: ignore[union-attr]
        )

    def _project(self, session: Session, live: Live) -> None:
        state, now = live.state, self.services.clock()
        run = session.get_one(tables.Run, live.run_id)
        run.state = state.outcome or _WORDS[state.phase]
        run.step = state.current.id if state.current else ""
        run.message = state.message
        run.changed_at = now
        run.ended_at = now if state.ended else None
        run.cost = state.usage.cost
        run.tokens = state.usage.tokens_in + state.usage.tokens_out
        if state.ended:
            for approval in session.scalars(
                select(tables.Approval).where(tables.Approval.run_id == live.run_id, tables.Approval.state == "open")
            ):
                approval.state = "void"
            for piece in session.scalars(
                select(tables.Piece).where(tables.Piece.run_id == live.run_id, tables.Piece.state == "queued")
            ):
                piece.state, piece.message = "failed", "The run ended before this went out."


_WORDS = {
    "ready": "running",
    "rewriting": "running",
    "queued": "running",
    "waiting": "waiting",
    "asked": "asking",
    "unsure": "unsure",
    "failed": "failed",
}


def load(session: Session, run_id: int) -> Live:
    """A run rebuilt from its journal."""
    run = session.get_one(tables.Run, run_id)
    workflow = Workflow.model_validate(session.get_one(tables.Revision, run.revision_id).document)
    rows = session.execute(
        select(tables.JournalEntry.seq, tables.JournalEntry.event)
        .where(tables.JournalEntry.run_id == run_id)
        .order_by(tables.JournalEntry.seq)
    ).all()
    state = flow.replay(flow.plan(workflow, kinds()), (flow.load_event(e) for _, e in rows))
    return Live(run_id, workflow, state, rows[-1][0])


def effect_key(run_id: int, address: str, generation: int) -> str:
    """The idempotency key of an effect: the same for every try at the same place of the same run."""
    return hashlib.sha256(f"{run_id}/{address}/{generation}".encode()).hexdigest()[:40]
