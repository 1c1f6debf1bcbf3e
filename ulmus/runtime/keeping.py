"""What a house keeps, and for how long: at night, in small bites, journals of runs that ended long ago are packed into a file each."""

from __future__ import annotations

import datetime as dt
import logging

from ..store import DataTrouble, packed
from .services import Services

log = logging.getLogger("ulmus")

NIGHT = range(1, 5)
"""The hours in which it is done, where the house stands."""
BITE, PAUSE = 25, 20.0
"""Journals at once, and seconds between two times."""
DAY = 86_400.0


class Keeping:
    """Packs what is old. `after` is how many days after its end a journal is packed; 0 for never."""

    def __init__(self, services: Services, after: float = 90.0) -> None:
        self.services = services
        self.after = after
        self._next = self._next_sweep = 0.0

    def tick(self, now: float) -> None:
        """A bite, where it is night."""
        if now < self._next or not self.after or dt.datetime.fromtimestamp(now).hour not in NIGHT:
            return
        self._next = now + PAUSE
        self.bite(now)
        if now >= self._next_sweep:
            self._next_sweep = now + DAY / 2
            packed.sweep(self.services.store)

    def bite(self, now: float, most: int = BITE) -> int:
        """Pack some of what is old; gives how many journals were packed."""
        done = 0
        for run in packed.ripe(self.services.store, now - self.after * DAY, most):
            try:
                done += packed.pack(self.services.store, run)
            except (OSError, DataTrouble) as error:
                if not self.services.health.met(error):
                    log.warning("the journal of run %s could not be packed: %s", run, error)
        if done:
            log.info("packed the journals of %s runs", done)
        return done
