"""Tries at signing in: counted for each browser, place and account, forgotten after a while."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Sequence

WINDOW = 300.0
"""Seconds after which a try is forgotten."""
MOST_NAMES = 10_000


class Tries:
    """When which names tried, lately."""

    def __init__(self) -> None:
        self._times: dict[str, list[float]] = defaultdict(list)
        self._lock = threading.Lock()

    def used_up(self, names: Sequence[tuple[str, int]], now: float) -> bool:
        """Count a try of all `names`, each with how many it has; gives whether it is one too many."""
        with self._lock:
            if len(self._times) > MOST_NAMES:
                for name in [name for name, times in self._times.items() if not times or times[-1] < now - WINDOW]:
                    del self._times[name]
            for name, _ in names:
                self._times[name] = [t for t in self._times[name] if t > now - WINDOW]
            if any(len(self._times[name]) >= most for name, most in names):
                return True
            for name, _ in names:
                self._times[name].append(now)
        return False

    def forgive(self, names: Sequence[tuple[str, int]], now: float) -> None:
        """The try at `now` was right: it is not counted, and what the first name did wrong before is forgiven; what others do
        meanwhile is not."""
        with self._lock:
            for name, _ in names:
                self._times[name] = [t for t in self._times[name] if t != now]
            self._times.pop(names[0][0], None)
