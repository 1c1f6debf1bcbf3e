"""The ticker: waits that are over are told to their runs, and everything that ticks is called.

When a run is due stands in an indexed table, not in memory. A clock that is set forward makes due what it passed; one that
is set back would have every wait last longer by as much: waits that began in what is now the future keep their length.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from functools import partial

from ..core import flow
from .services import Services
from .writer import Writer

log = logging.getLogger("ulmus")
TICK = 0.1
MOST_AT_ONCE = 1000
JUMP = 2.0
"""Seconds by which the clock may differ from the time that really passed before it counts as set."""


class Ticker:
    """Calls `tickers` with the time, again and again, each guarded from the others' faults."""

    def __init__(
        self,
        services: Services,
        writer: Writer,
        tickers: Sequence[Callable[[float], None]],
        resets: Sequence[Callable[[float], None]] = (),
    ) -> None:
        self.services = services
        self.writer = writer
        self.parts = [self.fire, *tickers]
        self.resets = resets
        self._fired: set[tuple[int, str]] = set()
        self._over: list[tuple[int, str, float]] = []
        self._lock = threading.Lock()
        self._stopping = threading.Event()
        self._beat = time.monotonic()
        self._thread = threading.Thread(target=self._work, name="ulmus-ticker", daemon=True)

    def start(self) -> None:
        """Begin; where the clock was set back while nobody looked, what was noted since lies in the future."""
        now = self.services.clock()
        with self.services.store.engine.connect() as connection:
            last = connection.exec_driver_sql("SELECT max(looked_at) FROM starts").scalar()
        if last is not None and last > now + JUMP:
            self._guarded(self.set_back, now)
        self._thread.start()

    def stop(self) -> None:
        """End, after the look that is under way."""
        self._stopping.set()
        if self._thread.is_alive():
            self._thread.join(5)

    def late(self) -> float:
        """Seconds since it last looked at the time."""
        return time.monotonic() - self._beat

    def _work(self) -> None:
        clock, passed = self.services.clock(), time.monotonic()
        while not self._stopping.wait(TICK):
            now, moment = self.services.clock(), time.monotonic()
            if now - clock < moment - passed - JUMP:
                self._guarded(self.set_back, now)
            clock, passed = now, moment
            self._beat = moment
            health = self.services.health
            self._guarded(health.tick, now)
            for tick in self.parts:
                if not health.rests(now):
                    self._guarded(tick, now)

    def _guarded(self, look: Callable[[float], None], now: float) -> None:
        try:
            look(now)
        except Exception as error:
            if not self.services.health.met(error):
                log.exception("the ticker met a fault and goes on")

    def fire(self, now: float) -> None:
        """Tell runs of their waits that are over."""
        self._clear()
        with self.services.store.engine.connect() as connection:
            rows = connection.exec_driver_sql(
                "SELECT run_id, address FROM timers WHERE due <= ? ORDER BY due LIMIT ?", (now, MOST_AT_ONCE)
            ).all()
        for run_id, address in rows:
            place = (int(run_id), str(address))
            with self._lock:
                if place in self._fired:
                    continue
                self._fired.add(place)
            self.writer.tell(place[0], flow.TimerFired(at=now, address=place[1]), partial(self._told, place, now))

    def _told(self, place: tuple[int, str], now: float, error: BaseException | None) -> None:
        """Written, or too late: the timer is over, unless the run waits there anew. Otherwise it is tried again."""
        with self._lock:
            if error is None or isinstance(error, flow.FlowError):
                self._over.append((*place, now))
            else:
                self._fired.discard(place)

    def _clear(self) -> None:
        """Take the timers out that are over, many at a time."""
        with self._lock:
            over, self._over = self._over, []
        if not over:
            return
        try:
            with self.services.store.writing() as connection:
                connection.exec_driver_sql("DELETE FROM timers WHERE run_id = ? AND address = ? AND due <= ?", over)
        finally:
            with self._lock:
                self._fired.difference_update((run_id, address) for run_id, address, _ in over)

    def set_back(self, now: float) -> None:
        """The clock was set back: waits keep their length, and whatever was to be looked at later is looked at now."""
        log.warning("the clock was set back; waits keep their length")
        with self.services.store.writing() as connection:
            kept = "UPDATE timers SET due = ? + (due - made_at), made_at = ? WHERE made_at > ? AND due > made_at"
            connection.exec_driver_sql(kept, (now, now, now))
            connection.exec_driver_sql("UPDATE starts SET next_at = ? WHERE next_at > ?", (now, now))
            on_their_way = "UPDATE pieces SET due_at = ? WHERE state IN ('queued', 'intent', 'accepted', 'unsure') AND due_at > ?"
            connection.exec_driver_sql(on_their_way, (now, now))
        for reset in self.resets:
            reset(now)
