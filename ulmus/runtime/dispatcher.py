"""The dispatcher: what needs more than the database is carried out outside the transaction and comes back as an event.

A task is plain data: the line, the values its slots read, when it must be over. It passes the gate of its outside, goes to
the executor, and what came of it is brought to the writer until it is written. When a run pauses or ends, its tasks under
way are told to stop; what they had cost is booked all the same.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from functools import partial
from typing import Any, Protocol

from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.flow import Rewrite, Turn
from ..core.values import NotPlain, plain_object
from ..core.workflow import Line, drawn, is_shared, take_name
from ..core.workflow.plans import AskPlan, SendPlan
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Context, StepFailed, Workspace
from . import execution, logs
from .journal import Live
from .outsides import leads_to
from .ports import Gate, Met, Outdated, Told
from .quotas import Uses
from .reach import Reach, reach_of
from .services import Services
from .workspace import workspace
from .writer import EngineStopped, Writer, identity

log = logging.getLogger("ulmus")
WRITE_AGAIN = 5.0


@dataclass(slots=True)
class Task:
    """One decision to be carried out: plain data, whole in itself, and never changed. `values` are those its slots read;
    `deadline` is in seconds since the epoch; `about` is the line of the draft a question shows; `reach` what an assignment's
    tool may read."""

    run_id: int
    decision: flow.Decision
    line: Line
    values: dict[str, Any]
    deadline: float
    about: Line | None = None
    brand: str | None = None
    outside: frozenset[str] = frozenset()
    rewrite: Rewrite | None = None
    asked_later: bool = False
    take: str = ""
    talk: tuple[Turn, ...] = ()
    spent: float = 0.0
    reach: Reach | None = None


@dataclass(slots=True)
class Brought:
    """What somebody else gave for a task, or why not; `also` goes into the transaction in which that is written, or what it had cost;
    `written` hears that it was."""

    gave: Any
    also: Callable[[Session], None]
    written: Callable[[], None]


class Prepares(Protocol):
    """What can be prepared for a decision outside the transaction."""

    def prepare(self, task: Task, context: Context) -> Any:
        """What a decision's handler will commit; a `Future` of it (as `Brought`), where somebody else is at it. Raises `OutsideError`, `NotPlain`."""


@dataclass(slots=True, eq=False)
class _Flight:
    """A task on its way, whether it has been told to stop, and what is to follow where it is wanted once more."""

    task: Task
    stopped: bool = False
    again: Task | None = None


@dataclass(slots=True)
class _Came:
    """What came of a task: the failure's `event`, or what was `prepared`; what it had cost; and what goes with it (see `Brought`)."""

    event: flow.Event | None
    prepared: Any
    usage: Usage
    also: Callable[[Session], None] | None
    written: Callable[[], None]


class Dispatcher:
    """Has tasks carried out, each once at a time. Thread-safe."""

    handlers: Prepares

    def __init__(
        self, services: Services, gate: Gate, writer: Writer, uses: Uses, listen: Callable[[Live, flow.Listen], None]
    ) -> None:
        self.services = services
        self.uses = uses
        self.gate = gate
        self.writer = writer
        self._listen = listen
        self._flights: dict[tuple[Any, ...], _Flight] = {}
        self._shelves: dict[str | None, Workspace] = {}
        self.carried_out: Counter[tuple[str, str]] = Counter()
        """How often tasks of each kind were carried out since the house began, and how that ended: ``done``, ``failed``, ``stopped``."""
        self._lock = threading.Lock()

    def submit(self, live: Live, decision: flow.Decision) -> None:
        """See `ports.Dispatch`."""
        if isinstance(decision, flow.Listen):
            self._listen(live, decision)
            return
        self._send(task_of(live, decision, self.services.clock()))

    def _send(self, task: Task) -> None:
        place = (task.run_id, *identity(task.decision))
        with self._lock:
            flight = self._flights.get(place)
            if flight is not None:
                if flight.stopped:
                    flight.again = task
                return
            flight = self._flights[place] = _Flight(task)
        key = leads_to(task.line, task.values) if isinstance(task.decision, flow.Perform | flow.Follow) else ""
        self.gate.submit(key, partial(self._carry_out, place, flight), task.run_id)

    def stop(self, run_id: int) -> None:
        """See `ports.Dispatch`."""
        with self._lock:
            for flight in self._flights.values():
                if flight.task.run_id == run_id:
                    flight.stopped = True

    # -- on the executor ----------------------------------------------------------------------------

    def _carry_out(self, place: tuple[Any, ...], flight: _Flight, refused: Met) -> Met | Future[Met]:
        if flight.stopped:
            self._landed(place, flight)
            return None
        task, began = flight.task, time.monotonic()

        def prepare() -> Any:
            if refused is not None:
                raise refused
            return self.handlers.prepare(task, self._context(task, flight))

        def over(gave: Any) -> Met:
            also, written = (gave.also, gave.written) if isinstance(gave, Brought) else (None, lambda: None)
            gave = gave.gave if isinstance(gave, Brought) else gave
            if isinstance(task.decision, flow.Perform | flow.Follow) and refused is None:
                self.uses.note(execution.asks(task.line), _usage(gave))
            event = self._failure(task, gave) if isinstance(gave, OutsideError | NotPlain) else None
            met = gave if isinstance(gave, OutsideError) else None
            came = _Came(event, gave, _usage(gave), also, written)
            how = "done" if event is None else "stopped" if flight.stopped else "failed"
            with self._lock:
                self.carried_out[task.line.kind, how] += 1
            if flight.stopped and event is not None:
                # It was told to stop: that is no failure of the line. What it had cost is booked.
                self._book(task, came)
                self._landed(place, flight)
                return None
            log.info("%s in %.2f s%s", task.line.kind, time.monotonic() - began, f": {met.code or 'failed'}" if met else "")
            self._bring(place, flight, came)
            return met

        with logs.at(task.run_id, _address(task)):
            gave = _tried(prepare)
            return _later(gave, over, task) if isinstance(gave, Future) else over(gave)

    def _failure(self, task: Task, error: OutsideError | NotPlain) -> flow.Failed:
        if isinstance(error, NotPlain):
            words = f"What this line gave cannot be kept: {error}."
            return flow.Failed(at=self.services.clock(), address=_address(task), message=words)
        return flow.Failed(
            at=self.services.clock(),
            address=_address(task),
            message=error.message,
            code=error.code,
            retryable=error.retryable,
            retry_after=error.retry_after,
            usage=_usage(error),
            detail=_kept(error.detail) if isinstance(error, StepFailed) else {},
        )

    def _context(self, task: Task, flight: _Flight) -> Context:
        """What a task's line may use while it is carried out."""
        services = self.services
        # What a house shows is the same for all pages of a brand.
        shown = self._shelves.get(task.brand)
        if shown is None:
            shown = self._shelves[task.brand] = workspace(services, task.brand)
        return Context(
            web=services.web,
            connect=services.connect,
            values=task.values,
            outside=task.outside,
            rewrite=task.rewrite,
            asked_later=task.asked_later,
            workspace=shown,
            seed=f"{task.run_id}/{_address(task)}",
            take=task.take,
            talk=task.talk,
            spent=task.spent,
            cancelled=lambda: flight.stopped or services.clock() > task.deadline,
        )

    def _bring(self, place: tuple[Any, ...], flight: _Flight, came: _Came) -> None:
        """Have what came of it written; the task counts as under way until it is."""
        task = flight.task

        def told(error: BaseException | None) -> None:
            if error is None or isinstance(error, flow.FlowError | NotPlain | EngineStopped):
                if isinstance(error, flow.FlowError):
                    self._book(task, came)
                elif not isinstance(error, EngineStopped):
                    came.written()
                self._landed(place, flight)
                return
            if isinstance(error, Outdated):
                flight.again = task
                self._landed(place, flight)
                return
            log.error("run %s: what a step gave could not be written (%s) and is tried again", task.run_id, error)
            again = threading.Timer(WRITE_AGAIN, self._bring, (place, flight, came))
            again.daemon = True
            again.start()

        if came.event is not None:
            self.writer.tell(task.run_id, came.event, told, came.also)
        else:
            self.writer.answer(task.run_id, task.decision, came.prepared, told, came.also)

    def _book(self, task: Task, came: _Came) -> None:
        """What it had cost is booked although nothing of it is wanted any more."""
        spent = flow.Spent(at=self.services.clock(), address=_address(task), usage=came.usage)
        if came.also is not None or came.usage != Usage():
            told: Told = lambda error: came.written() if error is None else None  # noqa: E731
            self.writer.tell(task.run_id, spent if came.usage != Usage() else None, told, came.also)

    def _landed(self, place: tuple[Any, ...], flight: _Flight) -> None:
        with self._lock:
            self._flights.pop(place, None)
            again = flight.again
        if again is not None:
            self._send(again)


def _address(task: Task) -> str:
    return str(getattr(task.decision, "address", ""))


def _usage(gave: Any) -> Usage:
    """What it had cost, be it a result or a failure."""
    usage = getattr(gave, "usage", None)
    return usage if isinstance(usage, Usage) else Usage()


def _tried(call: Callable[[], Any]) -> Any:
    """What `call` gives, or what it failed with."""
    try:
        return execution.guarded(call)
    except (OutsideError, NotPlain) as error:
        return error


def _later(gives: Future[Any], over: Callable[[Any], Met], task: Task) -> Future[Met]:
    """What `over` makes of what somebody else gives, once it is there."""
    met: Future[Met] = Future()

    def there(gave: Future[Any]) -> None:
        error: Met = None
        try:
            with logs.at(task.run_id, _address(task)):
                error = over(_tried(gave.result))
        finally:
            met.set_result(error)

    gives.add_done_callback(there)
    return met


def _kept(detail: dict[str, Any]) -> dict[str, Any]:
    """What a failure tells beside its words; nothing where that cannot be kept, so that the failure itself is."""
    try:
        return plain_object(detail)
    except NotPlain as error:
        log.error("the details of a failure could not be kept: %s", error)
        return {}


def task_of(live: Live, decision: Any, now: float) -> Task:
    """A decision as a task."""
    page, own = live.page, live.line(decision.step)
    perform = decision if isinstance(decision, flow.Perform) else None
    shares = perform is not None and is_shared(own, kinds())
    plan = execution.plan_of(own)
    line = drawn(own, kinds(), execution.lot(live.run_id, decision.address, page.loops)) if shares else own
    reads = page.reads[own.id]
    return Task(
        run_id=live.run_id,
        decision=decision,
        line=line,
        # When a piece goes is said in the page's zone, which the run keeps.
        values=live.state.named(decision.address, {*reads, flow.GIVEN, *(("run",) if isinstance(plan, SendPlan) else ())}),
        deadline=max(now + 1, live.state.began + page.workflow.limits.hours * 3600 + live.state.granted.get("time", 0.0)),
        about=page.lines.get(plan.draft) if isinstance(plan, AskPlan) else None,
        brand=page.workflow.brand,
        outside=page.outside & reads,
        rewrite=perform.rewrite if perform else None,
        asked_later=decision.step in page.asked,
        take=take_name(own, kinds(), line.id) if shares else "",
        talk=perform.talk if perform else (),
        spent=perform.spent if perform else 0.0,
        reach=reach_of(live.state, page.workflow, decision.address),
    )
