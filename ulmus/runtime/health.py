"""What is wrong with the data folder while the house runs, in words; and a rest for everything while the disk takes nothing.

Whoever meets an error of the disk tells it here. While it lasts, looks at starts and pieces pause for some seconds at a time
instead of failing over and over; what waits to be written goes on by itself when there is room.
"""

from __future__ import annotations

import logging
import shutil
import sqlite3
import threading
from collections.abc import Callable

from sqlalchemy.exc import DBAPIError

from ..store import KEY, DataTrouble, Sealer, Store, functions, upgrade, words_for

log = logging.getLogger("ulmus")
LOOK_EVERY = 30.0
CHECK_EVERY = 86_400.0
LITTLE = 200_000_000
"""Bytes of room on the disk below which that is said."""
REST = 2.0
"""Seconds for which nothing new is begun after the disk refused a write."""
NO_KEY = "The secret.key has gone from the data folder. Put it back before the house is stopped: without it no secret can be read."
OTHER_KEY = "The secret.key in the data folder was changed. Put the right one back before the house is stopped."


class Health:
    """Troubles of one data folder. Thread-safe."""

    def __init__(self, store: Store, sealer: Sealer, clock: Callable[[], float]) -> None:
        self.store = store
        self.sealer = sealer
        self.clock = clock
        self._disk = self._key = self._room = self._damage = ""
        self._rests_until = 0.0
        self._looked_at = self._checked_at = float("-inf")
        self._lock = threading.Lock()

    def troubles(self) -> list[str]:
        """What is wrong, in words; nothing where all is well."""
        return [words for words in (self._damage, self._disk or self._room, self._key) if words]

    def met(self, error: BaseException) -> bool:
        """Take notice of an error; gives whether it is the disk's."""
        if not isinstance(error, OSError | DBAPIError | sqlite3.Error):
            return False
        words = words_for(error, self.store.folder)
        if words is None:
            return False
        with self._lock:
            if words != self._disk:
                log.error("%s", words)
            self._disk, self._rests_until = words, self.clock() + REST
        return True

    def well(self) -> None:
        """Something was written."""
        if self._disk:
            with self._lock:
                self._disk, self._rests_until = "", 0.0
            log.warning("the disk takes what is written again")

    def rests(self, now: float) -> bool:
        """Whether nothing new is to be begun for now."""
        return bool(self._disk) and 0 < self._rests_until - now <= REST

    def tick(self, now: float) -> None:
        """Look at the key and the room there is, and once a day at the database itself."""
        if 0 <= now - self._looked_at < LOOK_EVERY:
            return
        self._looked_at = now
        try:
            kept = (self.store.folder / KEY).read_bytes().strip()
            self._key = "" if kept == self.sealer.key else OTHER_KEY
        except OSError:
            self._key = NO_KEY
        try:
            free = shutil.disk_usage(self.store.folder).free
            self._room = f"Only {free // 1_000_000} MB are left on the disk. Make room soon." if free < LITTLE else ""
        except OSError as error:
            self.met(error)
        if not 0 <= now - self._checked_at < CHECK_EVERY:
            self._checked_at = now
            threading.Thread(target=self._check, name="ulmus-check", daemon=True).start()

    def _check(self) -> None:
        base = None
        try:
            base = sqlite3.connect(f"file:{self.store.path}?mode=ro", uri=True)
            functions.register(base)
            upgrade.check(base)
            self._damage = ""
        except DataTrouble as error:
            self._damage = str(error)
        except sqlite3.Error as error:
            self._damage = words_for(error, self.store.folder) or ""
        finally:
            if base is not None:
                base.close()
