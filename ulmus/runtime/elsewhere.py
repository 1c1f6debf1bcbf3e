"""Steps that workers on other machines carry out: leased, published to a broker, and taken in again.

Only what gathers, drafts or thinks goes out; what sends, writes or asks stays at home, and so do gates, journal and outbox. The broker
carries nothing but the id of a task. Its worker asks the house for the rest over a link of its own (see `api.public.work`): the line and
the values its slots read, then the line's connections, once each. A lease is journalled before a task is published. A worker that is not
heard of any more loses it, which is a failure that may be tried again; an answer that comes after that is dropped, and its cost is booked.

Nobody waits for a task that is out: what came of it is told to a `Future`. One thread publishes, one watches over the leases.
"""

from __future__ import annotations

import hashlib
import logging
import queue
import secrets
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, field
from typing import Any, Protocol

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.exc import NoResultFound
from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.values import NotPlain
from ..core.workflow import Line, points_at
from ..protocols.errors import BadAnswer, NotFound, OutsideError, Stopped, WorkerLost
from ..steps import kinds
from ..steps.api import Assigns, Context, Drafts, Performs, Result, StepFailed
from ..store import tables
from .dispatcher import Brought, Task
from .execution import guarded
from .executors import Executor
from .ports import Events, Told
from .services import Services
from .writer import EngineStopped, identity

log = logging.getLogger("ulmus")

WAITS = 900.0
"""Seconds within which a worker has to take what was published."""
LONGEST = 3600.0
"""Seconds a step takes at most elsewhere. A broker gives out again what was not acknowledged, and has to wait longer than that."""
AGAIN = 60.0
"""Seconds after which what nobody has taken is offered again."""
HEARD = 30.0
"""Seconds a lease lasts from the last time its worker was heard of."""
TAKES_OFFERS = 600.0
"""Seconds for which a broker that does not answer is tried again."""
WRITE_AGAIN = 5.0
WRITTEN_WITHIN = 15.0
"""Seconds within which a worker hears that its answer is written, or is to bring it again."""
MOST_OFFERED = 1000
"""Tasks that are published and not begun; more wait at home."""
COMES = 60.0
"""Seconds after its start in which the house may not have come to all that was out when it ended."""
LOOK = 1.0
GONE = 3600.0
"""Seconds after which a worker that is not heard of is not told of any more."""
MOST_TOLD = 20_000


class BrokerAway(Exception):
    """The broker does not take anything now."""


class Broker(Protocol):
    """Where tasks are published."""

    def publish(self, task: str) -> None:
        """Offer a task, by its id, to the workers of this house. Raises `BrokerAway`."""


class NotWanted(LookupError):
    """There is no such task any more: it was stopped, answered, or lost."""


class NotYet(Exception):
    """It is to be asked once more in a moment: what came could not be written, or the house has begun anew and has not got so far."""


class AtHome(Exception):
    """This is not given out: who needs it hands the task back, to be carried out at home."""


@dataclass(eq=False)
class _Out:
    """A task that is out, and what is to come of it. `until` (a moment of the monotonic clock) is when its worker is lost, or nobody has
    taken it; `since` when it was offered first, `offered` last; `written` is set once what came of it is."""

    id: str
    line: Line
    context: Context
    at_home: Callable[[], Result]
    over: Future[Brought] = field(default_factory=Future)
    run: int = 0
    address: str = ""
    worker: str = ""
    until: float = float("inf")
    offered: float = float("inf")
    since: float = float("inf")
    written: threading.Event = field(default_factory=threading.Event)
    handed: dict[str, str] = field(default_factory=dict)
    contents: dict[str, Callable[[], bytes]] = field(default_factory=dict)


@dataclass(frozen=True)
class Seen:
    """A worker process: the name of its key, where it runs, how many steps it carries out and may, and seconds since it was heard."""

    name: str
    process: str
    at_work: int
    room: int
    heard: float


class Elsewhere:
    """The tasks of a house that are out. Thread-safe."""

    def __init__(self, services: Services, broker: Broker, events: Events, executor: Executor, waits: float = WAITS) -> None:
        self.services = services
        self.broker = broker
        self._events = events
        self._executor = executor
        self._waits = waits
        self._closed = threading.Event()
        self._began = time.monotonic()
        self._away = ""
        self._out: dict[str, _Out] = {}
        self._before: dict[str, str] = {}
        self._unbegun: set[str] = set()
        self._here: dict[tuple[str, str], tuple[float, int]] = {}
        self._offers: queue.SimpleQueue[_Out | None] = queue.SimpleQueue()
        self._told: dict[tuple[str, str], threading.Event] = {}
        self._lock = threading.Lock()
        self._room = threading.Condition(self._lock)

    def start(self) -> None:
        """Take up the leases that stand, and begin to publish and to watch over them."""
        with self.services.store.read() as session:
            standing = select(tables.Lease.id, tables.Lease.worker).where(tables.Lease.ended_at.is_(None))
            self._before = dict(session.execute(standing).tuples().all())
        for name, work in (("ulmus-publisher", self._publish_all), ("ulmus-leases", self._watch)):
            threading.Thread(target=work, daemon=True, name=name).start()

    def close(self) -> None:
        """The house stops: nobody waits any more. What is out is offered again at the next start."""
        self._closed.set()
        self._offers.put(None)

    def takes(self, line: Line) -> bool:
        """Whether a line is carried out elsewhere: it gathers, drafts or thinks, and needs no sheet of the house."""
        kind = kinds().get(line.kind)
        return isinstance(kind, Performs | Drafts | Assigns) and not any(
            key for inner in (line, *line.steps) for _, key in points_at(kinds().get(inner.kind, kind), inner.settings, "sheet")
        )

    def counted(self) -> tuple[int, int, int]:
        """How many tasks wait at home to be published, how many are published and not begun, and how many are with a worker."""
        with self._lock:
            begun = sum(bool(out.worker) for out in self._out.values())
            return len(self._out) - begun - len(self._unbegun), len(self._unbegun), begun

    def workers(self) -> list[Seen]:
        """The workers that were heard of within the last minutes."""
        now = time.monotonic()
        with self._lock:
            at_work = Counter(out.worker for out in self._out.values())
            self._here = {one: (heard, room) for one, (heard, room) in self._here.items() if now - heard < GONE}
            return [
                Seen(name, process, at_work[f"{name} {process}"], room, now - heard)
                for (name, process), (heard, room) in sorted(self._here.items())
            ]

    def trouble(self) -> str:
        """What is wrong with the workers, in words; nothing where all is well."""
        if self._away:
            return f"The broker of the workers cannot be reached: {self._away}. What is out waits for it."
        now = time.monotonic()
        with self._lock:
            waits = sum(not out.worker and now - out.since > AGAIN for out in self._out.values())
            there = any(now - heard < AGAIN for heard, _ in self._here.values())
        if not waits or there:
            return ""
        steps = "1 step waits" if waits == 1 else f"{waits} steps wait"
        return f"{steps} for a worker, and none is there. Start one on its machine with “ulmus worker”."

    # -- how a task goes out ----------------------------------------------------------------------------

    def carry_out(self, task: Task, context: Context, at_home: Callable[[], Result]) -> Future[Brought]:
        """Have a task carried out by a worker; `at_home` where the worker cannot."""
        out = _Out(self._id(task), task.line, context, at_home, run=task.run_id, address=getattr(task.decision, "address", ""))
        with self._lock:
            worker = self._before.pop(out.id, None)
            if worker:
                # The house was begun anew meanwhile; the worker that has it may bring it still.
                out.worker, out.until = worker, time.monotonic() + HEARD
            self._out[out.id] = out
        if worker is None:
            self._lease(out)
        elif not worker:
            self._offers.put(out)
        return out.over

    def play(self, line: Line, context: Context, at_home: Callable[[], Result]) -> Result:
        """As `carry_out`, for a proof, waiting for it: it belongs to no run, and what it gives so far is told as it comes."""
        out = _Out(secrets.token_hex(32), line, context, at_home)
        with self._lock:
            self._out[out.id] = out
        self._offers.put(out)
        while not self._closed.is_set():
            try:
                gave = out.over.result(LOOK).gave
            except TimeoutError:
                continue
            if isinstance(gave, Exception):
                raise gave
            return gave  # type: ignore[no-any-return]
        raise Stopped("It was stopped.")

    def _id(self, task: Task) -> str:
        place = [self.services.store.identity, task.run_id, *identity(task.decision)]
        return hashlib.sha256("/".join(map(str, place)).encode()).hexdigest()

    def _lease(self, out: _Out) -> None:
        """Have the lease written, and the task published once it is."""
        now = self.services.clock()

        def kept(session: Session) -> None:
            told = (out.id, out.run, out.address, out.line.kind, now, now + self._waits)
            session.connection().exec_driver_sql(
                "INSERT INTO leases (id, run_id, address, kind, published_at, until) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (id)"
                " DO UPDATE SET published_at = excluded.published_at, until = excluded.until, worker = '', ended_at = NULL",
                told,
            )

        def told(error: BaseException | None) -> None:
            if error is None:
                self._offers.put(out)
            else:
                self._end(out, Stopped("It is not wanted any more."))

        self._write(out.run, flow.Leased(at=now, address=out.address, lease=out.id), kept, told)

    def _write(self, run: int, event: flow.Event, also: Callable[[Session], None], told: Told) -> None:
        """Have an event written, tried again until it is; `told` hears that it was, or that it came too late."""

        def hear(error: BaseException | None) -> None:
            if error is None or isinstance(error, flow.FlowError | NotPlain | NoResultFound | EngineStopped):
                told(error)
                return
            log.error("run %s: “%s” could not be written (%s) and is tried again", run, event.event, type(error).__name__)
            again = threading.Timer(WRITE_AGAIN, self._write, (run, event, also, told))
            again.daemon = True
            again.start()

        self._events.tell(run, event, hear, also)

    def _publish_all(self) -> None:
        while (out := self._offers.get()) is not None and not self._closed.is_set():
            try:
                self._publish(out)
            except Exception:
                log.exception("a task could not be published")

    def _publish(self, out: _Out) -> None:
        """Offer a task, once there is room; a broker that is away for a while loses nothing."""
        with self._room:
            while len(self._unbegun) >= MOST_OFFERED and out.id not in self._unbegun and not self._closed.is_set():
                self._room.wait(LOOK)
            if out.id not in self._out or out.worker:
                return
            self._unbegun.add(out.id)
        end, pause = time.monotonic() + TAKES_OFFERS, 0.5
        while not self._closed.is_set() and not out.over.done():
            try:
                self.broker.publish(out.id)
            except BrokerAway as error:
                self._away = str(error) or "it does not answer"
                if time.monotonic() > end:
                    self._end(out, WorkerLost(f"The broker cannot be reached: {error}", retryable=True))
                self._closed.wait(pause)
                pause = min(10.0, pause * 2)
            else:
                self._away = ""
                with self._lock:
                    out.offered = time.monotonic()
                    out.since = min(out.since, out.offered)
                    if not out.worker:
                        out.until = min(out.until, out.offered + self._waits)
                return

    def _watch(self) -> None:
        """Look at what is out, every second: what is not wanted any more, whose worker is lost, what nobody has taken."""
        while not self._closed.wait(LOOK):
            try:
                self._look()
            except Exception:
                log.exception("the watch over leases met a fault and goes on")

    def _look(self) -> None:
        with self._lock:
            out_now = list(self._out.values())
        for out in out_now:
            now = time.monotonic()
            if out.context.cancelled():
                self._end(out, Stopped("It was stopped."))
            elif now > out.until:
                who = f"The worker {out.worker} was lost" if out.worker else "No worker took this"
                self._end(out, WorkerLost(f"{who}.", retryable=True))
            elif not out.worker and now - out.offered > AGAIN:
                # A broker that was begun anew may have forgotten it; whoever takes it second is told that it is taken.
                out.offered = now
                self._offers.put(out)

    def _end(self, out: _Out, gave: Result | OutsideError, answer: str = "") -> bool:
        """It is over; gives whether it was out."""
        if not self._take_out(out):
            return False
        self._bring(out, gave, answer)
        return True

    def _take_out(self, out: _Out) -> bool:
        with self._room:
            if self._out.get(out.id) is not out:
                return False
            del self._out[out.id]
            self._unbegun.discard(out.id)
            self._room.notify()
        return True

    def _ended(self, id_: str, answer: str) -> Callable[[Session], None]:
        """What is noted of a lease with what came of it: that it is over, and by which answer, so that none is booked twice."""

        def noted(session: Session) -> None:
            now, connection = self.services.clock(), session.connection()
            connection.exec_driver_sql("UPDATE leases SET ended_at = coalesce(ended_at, ?) WHERE id = ?", (now, id_))
            if answer:
                connection.exec_driver_sql(
                    "UPDATE leases SET answers = json_insert(answers, '$[#]', ?) WHERE id = ?", (answer, id_)
                )

        return noted

    def _at_home(self, out: _Out, answer: str) -> None:
        """Carry it out here after all."""
        gave: Any
        try:
            gave = guarded(out.at_home)
        except (OutsideError, NotPlain) as error:
            gave = error
        self._bring(out, gave, answer)

    def _bring(self, out: _Out, gave: Any, answer: str) -> None:
        out.over.set_result(Brought(gave, self._ended(out.id, answer), out.written.set))
        if not out.run:
            out.written.set()  # a proof is kept by whoever waits for it

    # -- what workers ask -------------------------------------------------------------------------------

    def here(self, worker: str, process: str, room: int) -> None:
        """A worker process is there, and may carry out `room` steps at once."""
        with self._lock:
            self._here[worker, process] = (time.monotonic(), room)

    def dismiss(self, worker: str) -> None:
        """A worker is not to be heard any more: what it has is offered again, as if it were lost."""
        with self._lock:
            self._here = {one: seen for one, seen in self._here.items() if one[0] != worker}
            for out in self._out.values():
                if out.worker.partition(" ")[0] == worker:
                    out.until = 0.0

    def begin(self, id_: str, worker: str) -> _Out:
        """A worker takes a task. Raises `NotWanted`, also where another has it."""
        out = self._found(id_)
        with self._room:
            if out.worker and out.worker != worker:
                raise NotWanted(id_)
            out.worker, out.until = worker[:120], time.monotonic() + HEARD
            self._unbegun.discard(id_)
            self._room.notify()
        if out.run:
            taken = (out.worker, self.services.clock() + HEARD, id_)

            def noted(session: Session) -> None:
                session.connection().exec_driver_sql("UPDATE leases SET worker = ?, until = ? WHERE id = ?", taken)

            self._events.tell(out.run, None, lambda error: None, noted)
        return out

    def heard(self, id_: str, worker: str, said: str = "") -> bool:
        """A worker is still at it, and a model has `said` so much by now; gives whether it is still wanted."""
        try:
            out = self._found(id_, worker)
        except NotWanted:
            return False
        except NotYet:
            return True
        out.until = time.monotonic() + HEARD
        if said:
            out.context.progress(said)
        return not out.context.cancelled()

    def connection(self, id_: str, worker: str, key: str, kind: str, ask: str = "") -> Any:
        """A connection that the line of a task points at, opened; once each, and again only for the same `ask`.

        Raises `NotWanted`, `AtHome`, `OutsideError`.
        """
        out = self._found(id_, worker)
        pointed = _connections(out.line)
        if key not in pointed and any(key in _connections(tool) for tool in out.line.steps):
            raise AtHome  # of something an assignment may do, which is never handed out
        with self._lock:
            if key not in pointed or (key in out.handed and (not ask or out.handed[key] != ask)):
                raise NotFound("This task has no such connection, or has had it.")
            out.handed[key] = ask
        return self.services.connect(key, kind)

    def lay_out(self, id_: str, worker: str, content: Callable[[], bytes], sha: str) -> None:
        """Have something large ready for the worker, which asks for it by its SHA-256 where it does not have it. Raises `NotWanted`."""
        self._found(id_, worker).contents[sha] = content

    def content(self, id_: str, worker: str, sha: str) -> bytes:
        """What was laid out for a task. Raises `NotWanted`, `NotFound`."""
        content = self._found(id_, worker).contents.get(sha)
        if content is None:
            raise NotFound("This task has nothing of that kind.")
        return content()

    def workspace(self, id_: str, worker: str) -> Any:
        """What the house shows the line of a task. Raises `NotWanted`."""
        return self._found(id_, worker).context.workspace

    def answer(self, id_: str, worker: str, told: dict[str, Any]) -> bool:
        """A worker’s answer, known by its ``answer``, so that one that is sent twice counts once: ``output``, ``detail`` and ``usage``;
        or ``failed`` with its words, ``code``, ``retryable``, ``retry_after`` and ``usage``; or ``home``, where it cannot do it. It has
        passed the boundary for values.

        Gives whether it was waited for, once it is written; of one that was not, the cost is booked. Raises `NotYet`.
        """
        try:
            usage = Usage.model_validate(told.get("usage") or {})
        except ValidationError:
            told, usage = {}, Usage()
        answer = str(told.get("answer", ""))[:64]
        self._wait_for(id_, worker)
        with self._lock:
            out, written = self._out.get(id_), self._told.get((id_, answer))
            mine = written is None and out is not None and out.worker.partition(" ")[0] == worker
            new = written is None
            if written is None:
                written = self._told[id_, answer] = out.written if mine and out is not None else threading.Event()
                while len(self._told) > MOST_TOLD:
                    self._told.pop(next(iter(self._told)))
        wanted = mine and out is not None and self._end_with(out, told, usage, answer)
        if new and not wanted:
            self._late(id_, answer, usage, written)
        if not told.get("home") and not written.wait(WRITTEN_WITHIN):
            raise NotYet
        return wanted

    def _end_with(self, out: _Out, told: dict[str, Any], usage: Usage, answer: str) -> bool:
        if told.get("home"):
            if wanted := self._take_out(out):
                self._executor.submit(self._at_home, out, answer)
            return wanted
        gave: Result | OutsideError
        try:
            if told.get("failed") is not None:
                gave = _failure(told, usage)
            else:
                gave = Result(_object(told["output"]), _object(told.get("detail") or {}), usage)
        except (KeyError, TypeError, ValueError, NotPlain) as error:
            gave = StepFailed(BadAnswer(f"What the worker gave cannot be kept: {error or 'nothing'}."), usage)
        return self._end(out, gave, answer)

    def _late(self, id_: str, answer: str, usage: Usage, written: threading.Event) -> None:
        """Book what an answer had cost that nobody waited for, unless it was taken in before."""
        with self.services.store.read() as session:
            lease = session.get(tables.Lease, id_)
        if lease is None or usage == Usage() or answer in lease.answers:
            written.set()
            return
        log.info("an answer of %s came too late; its cost is booked", lease.worker or "a worker")
        spent = flow.Spent(at=self.services.clock(), address=lease.address, usage=usage)
        told: Told = lambda error: None if isinstance(error, EngineStopped) else written.set()  # noqa: E731
        self._write(lease.run_id, spent, self._ended(id_, answer), told)

    def _found(self, id_: str, worker: str = "") -> _Out:
        """A task that is out; for a `worker`, one that it has begun. Raises `NotWanted`, `NotYet`."""
        self._wait_for(id_, worker)
        with self._lock:
            out = self._out.get(id_)
        if out is None or (worker and out.worker.partition(" ")[0] != worker):
            raise NotWanted(id_)
        return out

    def _wait_for(self, id_: str, worker: str) -> None:
        """Raises `NotYet` for what a worker had when the house ended, as long as it has not come to it again."""
        if not worker or id_ in self._out or time.monotonic() - self._began > COMES:
            return
        with self.services.store.read() as session:
            lease = session.get(tables.Lease, id_)
        if lease is not None and lease.ended_at is None and lease.worker.partition(" ")[0] == worker and id_ not in self._out:
            raise NotYet(id_)


def _connections(line: Line) -> set[str]:
    kind = kinds().get(line.kind)
    return {key for _, key in points_at(kind, line.settings, "connection")} if kind is not None else set()


def forget(services: Services, before: float) -> None:
    """Leases that ended before a time are of no more use."""
    with services.store.writing() as connection:
        connection.exec_driver_sql("DELETE FROM leases WHERE coalesce(ended_at, until) < ?", (before,))


def _object(value: Any) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise NotPlain("it is no object")
    return value


def _failure(told: dict[str, Any], usage: Usage) -> OutsideError:
    after = told.get("retry_after")
    cause = OutsideError(
        str(told["failed"])[:4000], retryable=bool(told.get("retryable")), retry_after=float(after) if after is not None else None
    )
    cause.code = str(told.get("code") or cause.code)[:40]
    if cause.code == Stopped.code:
        # Nobody here has stopped it.
        cause = WorkerLost("The worker stopped on its way.", retryable=True)
    return StepFailed(cause, usage, dict(told.get("detail") or {})) if usage != Usage() or told.get("detail") else cause
