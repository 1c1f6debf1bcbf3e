"""Outsides: one that fails slows only what uses it.

Work that leads to an outside (a connection, or a host without one) passes a door of that outside's own: so many at a
time, so many a minute. After several failures in a row the door closes for a while and what comes waits behind it
without holding a thread; then one is let through to try, and its luck decides for the rest. What has waited too long
is given back as failed, so that each step's failure policy has the last word.
"""

from __future__ import annotations

import datetime as dt
import logging
import threading
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import select

from ..core import slots
from ..core.workflow import Line, points_at
from ..core.workflow.kinds import StepSpec
from ..core.workflow.settings import read_as_far_as
from ..protocols.errors import OutsideError, Stopped, Unreachable, WorkerLost
from ..steps import kinds
from ..steps.api import Limited
from ..store import tables
from .execution import Same
from .executors import Executor
from .ports import Job, Met
from .services import Services

log = logging.getLogger("ulmus")
AT_ONCE = 64
"""Calls to one outside at a time, where its connection says nothing else."""
POLITE = 1
"""Requests to one site at a time, unless an owner has said that the host is a server of their own."""
IN_A_ROW = 5
"""Failures in a row after which the door closes."""
FIRST_REST, LONGEST_REST = 10.0, 900.0
"""Seconds the door stays closed at first, and at most; each failed try doubles it."""
LONGEST_WAIT = 3600.0
"""Seconds after which waiting work is given back as failed."""
STARTS = "starts"
"""The door of all looks at starts: they keep no more threads than this from the steps, and it never closes."""
MOST_LINES = 2000
LOOK = 0.1
READ_AGAIN = 5.0
"""Seconds between two looks at what the connections say of their limits."""


@dataclass(slots=True)
class _Waiting:
    job: Job
    run: int | None
    since: float
    watched: bool = False
    """Somebody waits for it with a thread of their own: it takes none."""


@dataclass
class Outside:
    """One outside as it stands. Times are seconds since the epoch."""

    key: str
    name: str
    at_once: int = AT_ONCE
    a_minute: int | None = None
    under_way: int = 0
    waiting: deque[_Waiting] = field(default_factory=deque)
    failures: int = 0
    since: float = 0.0
    says: str = ""
    rests: int = 0
    until: float = 0.0
    begun: deque[float] = field(default_factory=deque)

    @property
    def resting(self) -> bool:
        """Whether the door is closed: nothing is let through but a try now and then."""
        return self.failures >= IN_A_ROW


@dataclass(frozen=True)
class Trouble:
    """What is told of an outside that does not answer; `next_at` is when it is tried again."""

    key: str
    name: str
    since: float
    says: str
    waiting: int
    runs: frozenset[int]
    next_at: float


class Outsides:
    """The doors of all outsides. Thread-safe."""

    def __init__(self, services: Services, executor: Executor) -> None:
        self.services = services
        self.executor = executor
        self._all: dict[str, Outside] = {}
        self._lock = threading.Lock()
        self._read_at = 0.0

    def submit(self, key: str, job: Job, run: int | None = None) -> None:
        """Have `job` carried out as soon as its outside lets it; an empty key leads nowhere and passes at once."""
        if not key:
            self.executor.submit(job, None)
            return
        with self._lock:
            outside, new = self._door(key)
            goes = not new and not outside.waiting and outside.failures == 0 and not outside.a_minute
            if goes and outside.under_way < outside.at_once:
                # In order, with room, and nobody before it: as with most.
                outside.under_way += 1
            else:
                goes = False
                outside.waiting.append(_Waiting(job, run, self.services.clock()))
        if goes:
            self.executor.submit(self._carry_out, outside, job)
            return
        if new and key.startswith("connection:"):
            self._read_limits()
        self._let_through(outside)

    @contextmanager
    def passing(self, key: str, cancelled: Callable[[], bool]) -> Iterator[None]:
        """See `ports.Gate`."""
        if not key:
            yield
            return
        entered, left = threading.Event(), Future[Met]()

        def job(refused: Met) -> Future[Met]:
            entered.set()
            return left

        waiting = self._to_the_front(key, job)
        met: Met = None
        try:
            while waiting is not None and not entered.wait(LOOK):
                if cancelled():
                    raise Stopped("It was stopped.")
                if self._leaves(key, waiting, closed=True):
                    waiting = None
            yield
            if waiting is None:
                self.forgive(key)
        except OutsideError as error:
            met = error
            raise
        finally:
            self._leaves(key, waiting)
            left.set_result(met)

    def _door(self, key: str) -> tuple[Outside, bool]:
        """The door of an outside, and whether it is new; with the lock held."""
        known = self._all.get(key)
        if known is not None:
            return known, False
        self._all[key] = Outside(key, key.partition(":")[2], self._at_once(key))
        return self._all[key], True

    def _to_the_front(self, key: str, job: Job) -> _Waiting | None:
        """Put a job before all others; nothing where the door is closed, which is tried all the same."""
        with self._lock:
            outside, new = self._door(key)
            if outside.resting:
                return None
            waiting = _Waiting(job, None, self.services.clock(), watched=True)
            outside.waiting.appendleft(waiting)
        if new and key.startswith("connection:"):
            self._read_limits()
        self._let_through(outside)
        return waiting

    def _leaves(self, key: str, waiting: _Waiting | None, closed: bool = False) -> bool:
        """One who has not been let through waits no more, or not where it has been `closed` meanwhile; gives whether they left."""
        with self._lock:
            outside = self._all.get(key)
            if waiting is None or outside is None or waiting not in outside.waiting or (closed and not outside.resting):
                return False
            outside.waiting.remove(waiting)
            return True

    def counted(self) -> tuple[int, int, int]:
        """How many jobs are under way, how many wait at their gates, and how many outsides do not answer."""
        with self._lock:
            some = list(self._all.values())
            return sum(o.under_way for o in some), sum(len(o.waiting) for o in some), sum(o.resting for o in some)

    def _at_once(self, key: str) -> int:
        kind, _, host = key.partition(":")
        return POLITE if kind == "host" and host not in self.services.web.allowed else AT_ONCE

    def tick(self, now: float) -> None:
        """Open doors whose rest is over, and give back what has waited too long."""
        if now - self._read_at > READ_AGAIN:
            self._read_at = now
            self._read_limits()
            self._forget()
        with self._lock:
            some = [outside for outside in self._all.values() if outside.waiting]
        for outside in some:
            for late in self._too_late(outside, now):
                self.executor.submit(late.job, self._refusal(outside))
            self._let_through(outside)

    def reset(self, now: float) -> None:
        """The clock was set back: rests end now, and what waits has waited since now."""
        with self._lock:
            for outside in self._all.values():
                outside.until = min(outside.until, now)
                outside.begun.clear()
                for waiting in outside.waiting:
                    waiting.since = min(waiting.since, now)
        self._read_at = 0.0

    def try_now(self, key: str) -> None:
        """End the rest of an outside: the next in line tries it at once."""
        with self._lock:
            outside = self._all.get(key)
            if outside is not None:
                outside.until = 0.0
        if outside is not None:
            self._let_through(outside)

    def forgive(self, key: str) -> None:
        """A test of the connection went well: everything goes on."""
        with self._lock:
            outside = self._all.get(key)
        if outside is not None:
            self._heard(outside, None)
            self._let_through(outside)

    def troubles(self) -> list[Trouble]:
        """The outsides that do not answer, longest first."""
        with self._lock:
            found = [
                Trouble(
                    o.key,
                    o.name,
                    o.since,
                    o.says,
                    len(o.waiting),
                    frozenset(w.run for w in o.waiting if w.run is not None),
                    o.until,
                )
                for o in self._all.values()
                if o.resting
            ]
        return sorted(found, key=lambda trouble: trouble.since)

    # -- the door -----------------------------------------------------------------------------------

    def _forget(self) -> None:
        """Hosts come and go: one that is quiet and in order needs no door."""
        with self._lock:
            quiet = [k for k, o in self._all.items() if k.startswith("host:") and not (o.waiting or o.under_way or o.failures)]
            for key in quiet:
                del self._all[key]

    def _read_limits(self) -> None:
        """Names and limits as the connections have them now."""
        with self._lock:
            known = [o for o in self._all.values() if o.key.startswith("connection:")]
        if not known:
            return
        with self.services.store.read() as session:
            rows = {
                key: (name, settings)
                for key, name, settings in session.execute(
                    select(tables.Connection.key, tables.Connection.name, tables.Connection.settings)
                )
            }
        for outside in known:
            name, settings = rows.get(outside.key.partition(":")[2], (outside.name, {}))
            outside.name = name
            limits = read_as_far_as(Limited, {name: settings[name] for name in Limited.model_fields if name in settings})
            outside.at_once, outside.a_minute = limits.at_once or AT_ONCE, limits.a_minute

    def _let_through(self, outside: Outside) -> None:
        now = self.services.clock()
        going: list[_Waiting] = []
        with self._lock:
            while outside.waiting and self._may_go(outside, now):
                outside.under_way += 1
                if outside.a_minute:
                    outside.begun.append(now)
                going.append(outside.waiting.popleft())
        for waiting in going:
            if waiting.watched:
                self._carry_out(outside, waiting.job)
            else:
                self.executor.submit(self._carry_out, outside, waiting.job)

    def _may_go(self, outside: Outside, now: float) -> bool:
        if outside.resting and (now < outside.until or outside.under_way):
            return False
        if outside.under_way >= outside.at_once:
            return False
        while outside.begun and outside.begun[0] <= now - 60:
            outside.begun.popleft()
        return not outside.a_minute or len(outside.begun) < outside.a_minute

    def _carry_out(self, outside: Outside, job: Job) -> None:
        met: Met | Future[Met] = None
        try:
            met = job(None)
        finally:
            if isinstance(met, Future):
                met.add_done_callback(lambda over: self._over(outside, over.result()))
            else:
                self._over(outside, met)

    def _over(self, outside: Outside, error: Met) -> None:
        """One who was let through is out again."""
        with self._lock:
            outside.under_way -= 1
            quiet = error is None and outside.failures == 0 and not outside.waiting
        if not quiet:
            self._heard(outside, error)
            self._let_through(outside)

    def _heard(self, outside: Outside, error: Met) -> None:
        if error is not None and error.code == WorkerLost.code:
            return
        now = self.services.clock()
        with self._lock:
            before = outside.resting
            if error is None or not error.retryable:
                outside.failures, outside.rests, outside.until = 0, 0, 0.0
            else:
                if outside.failures == 0:
                    outside.since = now
                outside.failures += 1
                outside.says = error.message
                if outside.resting and now >= outside.until:
                    rest = min(LONGEST_REST, max(FIRST_REST * 2**outside.rests, error.retry_after or 0.0))
                    outside.until, outside.rests = now + rest, outside.rests + 1
            after = outside.resting
        if before != after:
            log.warning("%s %s", outside.name, f"does not answer: {outside.says}" if after else "answers again")
            self.services.bus.publish("outside", id=outside.key)

    def _too_late(self, outside: Outside, now: float) -> list[_Waiting]:
        late = []
        with self._lock:
            while outside.resting and outside.waiting and outside.waiting[0].since < now - LONGEST_WAIT:
                late.append(outside.waiting.popleft())
        return late

    def _refusal(self, outside: Outside) -> OutsideError:
        since = dt.datetime.fromtimestamp(outside.since)
        return Unreachable(f"{outside.name} has not answered since {since:%H:%M}. The last it said: {outside.says}")


def leads_to(line: Line, values: Any) -> str:
    """The outside a line leads to: its connection, or the host of the address it reads; empty where it leads to none."""
    fixed, text = _leads(Same(line))
    if text is None:
        return fixed
    return _host(slots.render(slots.parse(text), values).text)


@lru_cache(MOST_LINES)
def _leads(same: Same) -> tuple[str, str | None]:
    """Where a line leads whatever the values, or the text with slots that says it."""
    line = same.line
    kind = kinds()[line.kind]
    for _, key in points_at(kind, line.settings, "connection"):
        if key:
            return f"connection:{key}", None
    reaches = kind.reaches if isinstance(kind, StepSpec) else ""
    text = line.settings.get(reaches) if reaches else None
    if not isinstance(text, str):
        return "", None
    return (_host(text), None) if "<<" not in text else ("", text)


def _host(address: str) -> str:
    try:
        host = urlsplit(address.strip()).netloc
    except ValueError:
        return ""
    return f"host:{host}" if host else ""
