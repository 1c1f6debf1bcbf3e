"""What comes from outside while somebody looks at a page: fetched by a few threads of its own, waited for a short while only."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures import TimeoutError as TooLong
from contextvars import copy_context
from typing import Generic, TypeVar

T = TypeVar("T")


class Waited(Generic[T]):
    """Things by name, each brought once for all who ask. At most `at_once` are brought at a time and `most` altogether; who asks
    waits `patience` seconds (no more than `at_once` do so together), and a thing that has come stays for `kept` seconds."""

    def __init__(self, at_once: int = 8, most: int = 64, patience: float = 2.5, kept: float = 60.0) -> None:
        self.patience, self.kept, self.most = patience, kept, most
        self._pool = ThreadPoolExecutor(at_once, "ulmus-waited")
        self._lock = threading.Lock()
        self._waiting = threading.BoundedSemaphore(at_once)
        self._coming: dict[str, tuple[float, Future[T]]] = {}

    def get(self, name: str, bring: Callable[[], T]) -> T | None:
        """What is called `name`; ``None`` where it has not come in time, or too much is being brought. Raises what `bring` did."""
        now = time.monotonic()
        with self._lock:
            self._coming = {n: one for n, one in self._coming.items() if not one[1].done() or one[0] > now - self.kept}
            known = self._coming.get(name)
            if known is None:
                if len(self._coming) >= self.most:
                    done = [n for n, (_, one) in self._coming.items() if one.done()]
                    if not done:
                        return None
                    del self._coming[done[0]]
                known = self._coming[name] = (now, self._pool.submit(copy_context().run, bring))
        if known[1].done():
            return known[1].result()
        if not self._waiting.acquire(blocking=False):
            return None
        try:
            return known[1].result(self.patience)
        except TooLong:
            if known[1].done():
                raise
            return None
        finally:
            self._waiting.release()
