"""Where steps are carried out. The engine needs no more than `Executor`."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Protocol


class Executor(Protocol):
    """Carries out jobs, some time soon, each once."""

    def submit(self, job: Callable[..., Any], *arguments: Any) -> None:
        """Have `job` carried out."""

    def stop(self) -> None:
        """Take no more jobs."""


class Threads:
    """Jobs in threads of this process."""

    def __init__(self, count: int = 160) -> None:
        self._pool = ThreadPoolExecutor(count, thread_name_prefix="ulmus")

    def submit(self, job: Callable[..., Any], *arguments: Any) -> None:
        self._pool.submit(job, *arguments)

    def stop(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)
