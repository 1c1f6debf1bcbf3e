"""Steps that workers on other machines carry out: published to a broker, leased, and taken in again.

Only what gathers or drafts goes out; what sends, writes or asks stays at home, and so do gates, journal and outbox. The broker carries
nothing but the id of a task. Its worker asks the house for the rest over a link of its own (see `api.public.work`): the line and the
values its slots read, then the line's connections, once each. A lease is written before a task is published. A worker that is not heard
of any more loses it, which is a failure that may be tried again; an answer that comes after that is dropped, and its cost is booked.
"""

from __future__ import annotations

import hashlib
import logging
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from pydantic import ValidationError

from ..core import flow
from ..core.cost import Usage
from ..core.values import NotPlain, plain_object
from ..core.workflow import Line, points_at
from ..protocols.errors import BadAnswer, NotFound, OutsideError, Stopped, WorkerLost
from ..steps import kinds
from ..steps.api import Context, Drafts, Performs, Result, StepFailed
from ..store import tables
from .dispatcher import Task
from .services import Services
from .writer import identity

log = logging.getLogger("ulmus")

WAITS = 900.0
"""Seconds within which a worker has to take what was published."""
PLAYS = 900.0
"""Seconds a proof takes at most."""
AGAIN = 60.0
"""Seconds after which what nobody has taken is offered again."""
HEARD = 30.0
"""Seconds a lease lasts from the last time its worker was heard of."""
TAKES_OFFERS = 600.0
"""Seconds for which a broker that does not answer is tried again."""
LOOK = 1.0
MOST_TOLD = 20_000


class BrokerAway(Exception):
    """The broker does not take anything now."""


class Broker(Protocol):
    """Where tasks are published."""

    def publish(self, task: str) -> None:
        """Offer a task, by its id, to the workers of this house. Raises `BrokerAway`."""


class NotWanted(LookupError):
    """There is no such task any more: it was stopped, answered, or lost."""


@dataclass(eq=False)
class _Out:
    """A task that is out: what it needs, and what came of it."""

    id: str
    line: Line
    context: Context
    deadline: float
    until: float
    worker: str = ""
    handed: dict[str, str] = field(default_factory=dict)
    over: threading.Event = field(default_factory=threading.Event)
    result: Result | None = None
    failed: OutsideError | None = None
    home: bool = False


class Elsewhere:
    """The tasks of a house that are out. Thread-safe."""

    def __init__(self, services: Services, broker: Broker, book: Callable[[int, flow.Event], None], waits: float = WAITS) -> None:
        self.services = services
        self.broker = broker
        self._book = book
        self._waits = waits
        self._closed = threading.Event()
        self._out: dict[str, _Out] = {}
        self._told: dict[tuple[str, str], None] = {}
        self._lock = threading.Lock()

    def takes(self, line: Line) -> bool:
        """Whether a line is carried out elsewhere: it gathers or drafts, and needs no sheet of the house."""
        kind = kinds().get(line.kind)
        return isinstance(kind, Performs | Drafts) and not any(key for _, key in points_at(kind, line.settings, "sheet"))

    def carry_out(self, task: Task, context: Context, at_home: Callable[[], Result]) -> Result:
        """Have a task carried out by a worker, and wait for it; `at_home` where the worker cannot. Raises `OutsideError`."""
        out = _Out(self._id(task), task.line, context, task.deadline, 0.0)
        return self._carried(out, task.run_id, getattr(task.decision, "address", ""), at_home)

    def play(self, line: Line, context: Context, at_home: Callable[[], Result]) -> Result:
        """As `carry_out`, for a proof: it belongs to no run, and what it gives so far is told as it comes."""
        out = _Out(secrets.token_hex(32), line, context, self.services.clock() + PLAYS, 0.0)
        return self._carried(out, 0, "", at_home)

    def _carried(self, out: _Out, run: int, address: str, at_home: Callable[[], Result]) -> Result:
        now, context = self.services.clock(), out.context
        out.until = now + self._waits
        with self.services.store.write() as session:
            before = session.get(tables.Lease, out.id)
            if before is not None and before.ended_at is None and before.worker:
                # The house was begun anew meanwhile; the worker that has it may bring it still.
                out.worker, out.until = before.worker, now + HEARD
            told = {"run_id": run, "address": address, "kind": out.line.kind, "published_at": now, "until": out.until}
            session.merge(tables.Lease(id=out.id, worker=out.worker, ended_at=None, **told))
        with self._lock:
            self._out[out.id] = out
        try:
            if not out.worker:
                self._publish(out)
                out.until = self.services.clock() + self._waits
            offered = time.monotonic()
            while not out.over.wait(LOOK):
                if not out.worker and time.monotonic() - offered > AGAIN:
                    # A broker that was begun anew may have forgotten it; whoever takes it second is told that it is taken.
                    self._publish(out)
                    offered = time.monotonic()
                if context.cancelled() or self._closed.is_set():
                    raise Stopped("It was stopped.")
                if self.services.clock() > out.until:
                    who = f"The worker {out.worker} was lost" if out.worker else "No worker took this"
                    raise WorkerLost(f"{who}.", retryable=True)
        finally:
            with self._lock:
                self._out.pop(out.id, None)
            if not self._closed.is_set():
                with self.services.store.writing() as connection:
                    connection.exec_driver_sql("UPDATE leases SET ended_at = ? WHERE id = ?", (self.services.clock(), out.id))
        if self._closed.is_set():
            raise Stopped("It was stopped.")
        if out.home:
            return at_home()
        if out.failed is not None:
            raise out.failed
        assert out.result is not None
        return out.result

    def _id(self, task: Task) -> str:
        place = [self.services.store.identity, task.run_id, *identity(task.decision)]
        return hashlib.sha256("/".join(map(str, place)).encode()).hexdigest()

    def _publish(self, out: _Out) -> None:
        """Offer it; a broker that is away for a while loses nothing."""
        end, pause = time.monotonic() + TAKES_OFFERS, 0.5
        while not out.context.cancelled() and not self._closed.is_set():
            try:
                self.broker.publish(out.id)
            except BrokerAway as error:
                if time.monotonic() > end:
                    raise WorkerLost(f"The broker cannot be reached: {error}", retryable=True) from None
                time.sleep(pause)
                pause = min(10.0, pause * 2)
            else:
                return

    def close(self) -> None:
        """The house stops: nobody waits any more. What is out is offered again at the next start."""
        self._closed.set()
        with self._lock:
            for out in self._out.values():
                out.over.set()
        end = time.monotonic() + 2.0
        while self._out and time.monotonic() < end:
            time.sleep(0.02)

    # -- what workers ask -------------------------------------------------------------------------------

    def begin(self, id_: str, worker: str) -> _Out:
        """A worker takes a task. Raises `NotWanted`, also where another has it."""
        out = self._found(id_)
        with self._lock:
            if out.worker and out.worker != worker and self.services.clock() <= out.until:
                raise NotWanted(id_)
            out.worker, out.until = worker[:120], self.services.clock() + HEARD
        with self.services.store.writing() as connection:
            connection.exec_driver_sql("UPDATE leases SET worker = ?, until = ? WHERE id = ?", (out.worker, out.until, id_))
        return out

    def heard(self, id_: str, worker: str, partial: str = "") -> bool:
        """A worker is still at it; gives whether it is still wanted."""
        try:
            out = self._found(id_, worker)
        except NotWanted:
            return False
        out.until = self.services.clock() + HEARD
        if partial:
            out.context.progress(partial)
        return not out.context.cancelled()

    def connection(self, id_: str, worker: str, key: str, kind: str, ask: str = "") -> Any:
        """A connection that the line of a task points at, opened; once each, and again only for the same `ask`. Raises `NotWanted`, `OutsideError`."""
        out = self._found(id_, worker)
        pointed = {one for _, one in points_at(kinds()[out.line.kind], out.line.settings, "connection")}
        with self._lock:
            if key not in pointed or (key in out.handed and (not ask or out.handed[key] != ask)):
                raise NotFound("This task has no such connection, or has had it.")
            out.handed[key] = ask
        return self.services.connect(key, kind)

    def workspace(self, id_: str, worker: str) -> Any:
        """What the house shows the line of a task. Raises `NotWanted`."""
        return self._found(id_, worker).context.workspace

    def answer(self, id_: str, worker: str, told: dict[str, Any]) -> bool:
        """A worker’s answer, known by its ``answer``, so that one that is sent twice counts once: ``output``, ``detail`` and ``usage``; or ``failed`` with its words, ``code``, ``retryable``, ``retry_after`` and
        ``usage``; or ``home``, where it cannot do it. Gives whether it was waited for; of one that was not, the cost is booked."""
        try:
            usage = Usage.model_validate(told.get("usage") or {})
        except ValidationError:
            told, usage = {}, Usage()
        name = (id_, str(told.get("answer", ""))[:64])
        with self._lock:
            if name in self._told:
                return False
            self._told[name] = None
            while len(self._told) > MOST_TOLD:
                self._told.pop(next(iter(self._told)))
            out = self._out.get(id_)
            if out is not None and out.worker.partition(" ")[0] == worker:
                del self._out[id_]
            else:
                out = None
        if out is None:
            self._late(id_, usage)
            return False
        try:
            if told.get("home"):
                out.home = True
            elif told.get("failed") is not None:
                out.failed = _failure(told, usage)
            else:
                out.result = Result(plain_object(told["output"]), plain_object(told.get("detail") or {}), usage)
        except (KeyError, TypeError, ValueError, NotPlain) as error:
            out.failed = StepFailed(BadAnswer(f"What the worker gave cannot be kept: {error or 'nothing'}."), usage)
        out.over.set()
        return True

    def _late(self, id_: str, usage: Usage) -> None:
        with self.services.store.read() as session:
            lease = session.get(tables.Lease, id_)
        if lease is not None and lease.run_id and usage != Usage():
            log.info("an answer of %s came too late; its cost is booked", lease.worker or "a worker")
            self._book(lease.run_id, flow.Spent(at=self.services.clock(), address=lease.address, usage=usage))

    def _found(self, id_: str, worker: str = "") -> _Out:
        """A task that is out; for a `worker`, one that it has begun."""
        with self._lock:
            out = self._out.get(id_)
        if out is None or (worker and out.worker.partition(" ")[0] != worker):
            raise NotWanted(id_)
        return out


def forget(services: Services, before: float) -> None:
    """Leases that ended before a time are of no more use."""
    with services.store.writing() as connection:
        connection.exec_driver_sql("DELETE FROM leases WHERE coalesce(ended_at, until) < ?", (before,))


def _failure(told: dict[str, Any], usage: Usage) -> OutsideError:
    after = told.get("retry_after")
    cause = OutsideError(
        str(told["failed"])[:4000], retryable=bool(told.get("retryable")), retry_after=float(after) if after is not None else None
    )
    cause.code = str(told.get("code") or cause.code)[:40]
    return StepFailed(cause, usage, dict(told.get("detail") or {})) if usage != Usage() or told.get("detail") else cause
