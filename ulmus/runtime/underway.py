"""What is being made at this moment, for whoever looks on: texts as they grow, and how far the lines of a block are."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace


@dataclass(frozen=True)
class UnderWay:
    """What is being made: the text so far; for a line inside a block, that of the first address it is at work at."""

    text: str = ""
    done: int = 0
    at: tuple[str, ...] = ()

    def over(self, address: str) -> UnderWay:
        """The same when it is no longer at work at an address."""
        at = tuple(one for one in self.at if one != address)
        return UnderWay("" if self.at[0] == address else self.text, self.done + 1, at)


class Inside:
    """How the lines inside a block get on while it is made. Thread-safe; `tell` hears of every change but of what was
    known already, which is over at once."""

    def __init__(self, tell: Callable[[str, UnderWay], None]) -> None:
        self.tell = tell
        self.told: dict[str, UnderWay] = {}
        self._lock = threading.Lock()

    def known(self, step: str) -> None:
        """A result that was there already."""
        with self._lock:
            before = self.told.get(step, UnderWay())
            self.told[step] = replace(before, done=before.done + 1)

    @contextmanager
    def at_work(self, step: str, address: str) -> Iterator[Callable[[str], None]]:
        """While a line is carried out at an address; gives what is to be called with its text so far."""
        self._now(step, lambda b: replace(b, at=(*b.at, address)))
        try:
            yield lambda text: self._now(step, lambda b: replace(b, text=text) if b.at[0] == address else b)
        finally:
            self._now(step, lambda b: b.over(address))

    def _now(self, step: str, change: Callable[[UnderWay], UnderWay]) -> None:
        with self._lock:
            before = self.told.get(step, UnderWay())
            after = self.told[step] = change(before)
            if after != before:
                self.tell(step, after)
