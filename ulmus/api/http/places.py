"""Places for pages that listen: each person has a few, the house many."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable

MOST, MOST_EACH = 300, 8


class Places:
    """Who listens, from how many pages."""

    def __init__(self) -> None:
        self._taken: Counter[int] = Counter()
        self._lock = threading.Lock()

    def take(self, person: int, make_room: Callable[[int], None]) -> bool:
        """Take a place, where there is one; `make_room` is told how many are taken then."""
        with self._lock:
            if self._taken[person] >= MOST_EACH or self._taken.total() >= MOST:
                return False
            self._taken[person] += 1
            make_room(self._taken.total())
            return True

    def leave(self, person: int) -> None:
        """Give a place back."""
        with self._lock:
            self._taken[person] -= 1
            if not self._taken[person]:
                del self._taken[person]

    def __len__(self) -> int:
        return self._taken.total()
