"""News inside the process: what changed, for pages that are open. Nothing depends on it being heard."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Literal

MOST_WAITING = 1000
Topic = Literal[
    "approval",
    "bringing",
    "cell",
    "comparison",
    "here",
    "notice",
    "outside",
    "page",
    "piece",
    "proof",
    "run",
    "sheet",
    "workflow",
]
"""What news can be of; the page knows what each makes stale."""


class Bus:
    """Hands every message to every listener; a listener that does not keep up loses messages, not the sender."""

    def __init__(self) -> None:
        self._listeners: set[queue.Queue[dict[str, Any]]] = set()
        self._lock = threading.Lock()

    def publish(self, topic: Topic, **what: Any) -> None:
        """Tell all listeners."""
        with self._lock:
            listeners = list(self._listeners)
        for listener in listeners:
            try:
                listener.put_nowait({"topic": topic, **what})
            except queue.Full:
                continue

    @contextmanager
    def listen(self) -> Iterator[queue.Queue[dict[str, Any]]]:
        """A queue of messages from now on."""
        mine: queue.Queue[dict[str, Any]] = queue.Queue(MOST_WAITING)
        with self._lock:
            self._listeners.add(mine)
        try:
            yield mine
        finally:
            with self._lock:
                self._listeners.discard(mine)
