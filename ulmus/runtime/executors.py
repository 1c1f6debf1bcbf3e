"""Where steps are carried out. The engine needs no more than `Executor`."""

from __future__ import annotations

import logging
import queue
import threading
import time
from collections.abc import Callable
from typing import Any, Protocol

log = logging.getLogger("ulmus")


class Executor(Protocol):
    """Carries out jobs, some time soon, each once."""

    def ready(self) -> None:
        """Be ready for many jobs at once."""

    def submit(self, job: Callable[..., Any], *arguments: Any) -> None:
        """Have `job` carried out."""

    def stop(self) -> None:
        """Take no more jobs; those not begun are left undone, those under way have a moment to end."""


class Threads:
    """Jobs in up to `count` threads of this process, begun as they are needed. They end with the process."""

    READY = 64
    LAST_SECONDS = 1.0

    def __init__(self, count: int = 160) -> None:
        self._most = count
        self._jobs: queue.SimpleQueue[tuple[Callable[..., Any], tuple[Any, ...]] | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._threads: list[threading.Thread] = []
        self._open = 0  # jobs taken on that have not ended
        self._stopped = False

    def ready(self) -> None:
        """Begin some threads ahead of the jobs: while others are at work, each takes a while to begin."""
        for _ in range(min(self.READY, self._most) - len(self._threads)):
            self._another()

    def submit(self, job: Callable[..., Any], *arguments: Any) -> None:
        with self._lock:
            if self._stopped:
                return
            self._jobs.put((job, arguments))
            self._open += 1
            wanted = self._open > len(self._threads)
        if wanted:
            self._another()

    def stop(self) -> None:
        with self._lock:
            self._stopped = True
            while not self._jobs.empty():
                self._jobs.get_nowait()
            for _ in self._threads:
                self._jobs.put(None)
        late = time.monotonic() + self.LAST_SECONDS
        for thread in self._threads:
            thread.join(max(0.0, late - time.monotonic()))

    def _another(self) -> None:
        thread = threading.Thread(target=self._work, name="ulmus-steps", daemon=True)
        with self._lock:
            if self._stopped or len(self._threads) >= self._most:
                return
            self._threads.append(thread)
            thread.start()

    def _work(self) -> None:
        while True:
            task = self._jobs.get()
            if task is None:
                return
            job, arguments = task
            try:
                job(*arguments)
            except Exception:
                log.exception("a job met a fault")
            finally:
                with self._lock:
                    self._open -= 1
            del task, job, arguments  # nothing is kept alive by a thread that waits
