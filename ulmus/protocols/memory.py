"""What is remembered of the outside for a while: the least used goes first, and nothing is kept for ever."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from math import inf
from typing import Generic, TypeVar

from cachetools import TTLCache

K = TypeVar("K")
V = TypeVar("V")


class Memory(Generic[K, V]):
    """At most `most` things by key, each for at most `seconds`. Thread-safe."""

    def __init__(self, most: int, seconds: float = inf) -> None:
        self._kept: TTLCache[K, V] = TTLCache(most, seconds, timer=time.monotonic)
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        """What is remembered under a key."""
        with self._lock:
            return self._kept.get(key)

    def put(self, key: K, value: V) -> V:
        """Remember something; gives it back."""
        with self._lock:
            self._kept[key] = value
        return value

    def get_or(self, key: K, make: Callable[[], V]) -> V:
        """What is remembered, or else what `make` gives (it runs outside the lock, and for several callers perhaps twice)."""
        found = self.get(key)
        return self.put(key, make()) if found is None else found

    def discard(self, key: K) -> None:
        """Forget something, if it is remembered."""
        with self._lock:
            self._kept.pop(key, None)

    def setdefault(self, key: K, value: V) -> V:
        """What is remembered; where there is nothing, `value`, for everybody who asks at once."""
        with self._lock:
            return self._kept.setdefault(key, value)

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._kept.clear()

    def __len__(self) -> int:
        with self._lock:
            return len(self._kept)
