"""What a worker keeps for a while of what is large: contents by their SHA-256, so that each is fetched once for many tasks."""

from __future__ import annotations

import hashlib
import threading
import time
from collections import OrderedDict
from collections.abc import Callable

from ..protocols.errors import BadAnswer

ROOM = 256_000_000
"""Bytes kept at most; what was used longest ago goes first."""
WHILE = 600.0
"""Seconds for which what nobody uses is kept."""


class Shelf:
    """Contents by their digests. Thread-safe."""

    def __init__(self, room: int = ROOM, clock: Callable[[], float] = time.monotonic) -> None:
        self._room = room
        self._clock = clock
        self._kept: OrderedDict[str, tuple[float, bytes]] = OrderedDict()
        self._size = 0
        self._lock = threading.Lock()

    def get(self, sha: str, fetch: Callable[[], bytes]) -> bytes:
        """The content of a digest (hex), fetched where it is not kept. Raises `BadAnswer` where what is fetched is something else."""
        with self._lock:
            self._forget()
            kept = self._kept.pop(sha, None)
            if kept is not None:
                self._kept[sha] = (self._clock(), kept[1])
                return kept[1]
        content = fetch()
        if hashlib.sha256(content).hexdigest() != sha:
            raise BadAnswer("What the house gave is not what it told of.", retryable=True)
        with self._lock:
            if sha not in self._kept and len(content) <= self._room:
                self._kept[sha] = (self._clock(), content)
                self._size += len(content)
                self._forget()
        return content

    def _forget(self) -> None:
        while self._kept:
            sha, (used, content) = next(iter(self._kept.items()))
            if self._size <= self._room and self._clock() - used <= WHILE:
                return
            del self._kept[sha]
            self._size -= len(content)
