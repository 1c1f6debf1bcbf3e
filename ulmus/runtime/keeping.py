"""What a house keeps, and for how long: at night, in small bites, what is over its term is removed, and journals of runs that ended long
ago are packed into a file each."""

from __future__ import annotations

import datetime as dt
import logging

from ..store import DataTrouble, packed
from . import elsewhere, terms
from .executors import Executor
from .services import Services

log = logging.getLogger("ulmus")

NIGHT = range(1, 5)
"""The hours in which it is done, where the house stands."""
BITE, PAUSE = 25, 20.0
"""Journals at once, and seconds between two times."""
DAY = 86_400.0


class Keeping:
    """Removes and packs what is old, beside everything else. `after` is how many days after its end a journal is packed; 0 for never."""

    def __init__(self, services: Services, executor: Executor, after: float = 90.0) -> None:
        self.services = services
        self.executor = executor
        self.after = after
        self._next = self._next_sweep = 0.0
        self._at_work = False
        self._left: set[int] = set()
        """Runs whose journals could not be packed: the next ones have their turn."""

    def tick(self, now: float) -> None:
        """Have a bite taken, where it is night."""
        if self._at_work or now < self._next or dt.datetime.fromtimestamp(now).hour not in NIGHT:
            return
        self._next, self._at_work = now + PAUSE, True
        self.executor.submit(self._round, now)

    def _round(self, now: float) -> None:
        try:
            self.thin(now)
            if self.after:
                self.bite(now)
            if now >= self._next_sweep:
                self._next_sweep = now + DAY / 2
                packed.sweep(self.services.store)
                elsewhere.forget(self.services, now - DAY)
        except Exception as error:
            if not self.services.health.met(error):
                log.exception("what is old could not be removed or packed")
        finally:
            self._at_work = False

    def thin(self, now: float, most: int = BITE) -> int:
        """Remove some of what is over its term; gives of how many runs."""
        store = self.services.store
        with store.read() as session:
            ripe = [one for one in terms.ripe(session, now, most + len(self._left)) if one.run not in self._left][:most]
        for one in ripe:
            try:
                terms.carry_out(store, one, now)
            except (OSError, DataTrouble) as error:
                self._left.add(one.run)
                if not self.services.health.met(error):
                    log.warning("run %s could not be removed: %s", one.run, error)
        proofs = terms.forget_proofs(store, now, most * 20)
        if ripe or proofs:
            log.info("removed %s runs or journals and %s proofs whose term was over", len(ripe), proofs)
        return len(ripe)

    def bite(self, now: float, most: int = BITE) -> int:
        """Pack some of what is old; gives how many journals were packed."""
        done = 0
        ripe = packed.ripe(self.services.store, now - self.after * DAY, most + len(self._left))
        for run in [run for run in ripe if run not in self._left][:most]:
            try:
                done += packed.pack(self.services.store, run)
            except (OSError, DataTrouble) as error:
                self._left.add(run)
                if not self.services.health.met(error):
                    log.warning("the journal of run %s could not be packed: %s", run, error)
        if done:
            log.info("packed the journals of %s runs", done)
        return done
