"""Who holds which lock while a house is at work: only downwards in the list of docs/locks.md, and never while something outside is asked."""

from __future__ import annotations

import threading
import unittest
from typing import Any

from tests.runtime.house import WithHouse

#: From the outermost to the innermost; those of one row are never held together.
ORDER = (
    {"letting_go", "closing"},
    {"writer"},
    {"store"},
    {"published"},
    {"outsides"},
    {"polling", "ticker", "outbox", "replies", "dispatcher", "proofs", "budgets", "health"},
    {"bus"},
)
RANK = {name: rank for rank, names in enumerate(ORDER) for name in names}


class Watched:
    """A lock that tells who takes it, and what they hold."""

    def __init__(self, name: str, lock: Any, seen: Seen) -> None:
        self.name, self.lock, self.seen = name, lock, seen

    def acquire(self, *arguments: Any, **more: Any) -> Any:
        self.seen.takes(self.name)
        got = self.lock.acquire(*arguments, **more)
        if got:
            self.seen.held().append(self.name)
        return got

    def release(self) -> None:
        held = self.seen.held()
        held.reverse()
        held.remove(self.name)
        held.reverse()
        self.lock.release()

    def __enter__(self) -> Any:
        return self.acquire()

    def __exit__(self, *_: object) -> None:
        self.release()

    def __getattr__(self, name: str) -> Any:
        return getattr(self.lock, name)


class Seen:
    """What was held when something was taken."""

    def __init__(self) -> None:
        self._mine = threading.local()
        self.wrong: set[tuple[str, str]] = set()
        self.pairs: set[tuple[str, str]] = set()

    def held(self) -> list[str]:
        if not hasattr(self._mine, "held"):
            self._mine.held = []
        found: list[str] = self._mine.held
        return found

    def takes(self, name: str) -> None:
        for other in self.held():
            self.pairs.add((other, name))
            if other != name and RANK[other] >= RANK[name]:
                self.wrong.add((other, name))


class Locks(WithHouse):
    def open(self) -> None:
        super().open()
        self.seen = Seen()
        engine, services = self.engine, self.services
        for name, part, attribute in (
            ("writer", engine.writer, "_lock"),
            ("closing", engine.writer, "_closing"),
            ("store", services.store, "_writing"),
            ("published", services, "published_lock"),
            ("outsides", engine.outsides, "_lock"),
            ("polling", engine.polling, "_lock"),
            ("outbox", engine.outbox, "_lock"),
            ("replies", engine.replies, "_lock"),
            ("dispatcher", engine.dispatcher, "_lock"),
            ("budgets", engine.budgets, "_lock"),
            ("health", services.health, "_lock"),
            ("proofs", self.proofs, "_lock"),
            ("bus", services.bus, "_lock"),
        ):
            setattr(part, attribute, Watched(name, getattr(part, attribute), self.seen))
        # What asks the outside, at the level of bytes, must not be waited for under a lock.
        fetch = services.web.fetch
        self.asked_under: set[str] = set()

        def watched(*arguments: Any, **more: Any) -> Any:
            self.asked_under.update(self.seen.held())
            return fetch(*arguments, **more)

        services.web.fetch = watched  # type: ignore[method-assign]

    def test_only_downwards_and_never_while_the_outside_is_asked(self) -> None:
        workflow = self.live()
        runs = [self.new_item(workflow)]
        for run in runs:
            self.answer(run, "back", note="Shorter.")
            self.until(run, "asking")
            self.answer(run)
            self.until(run, "done")
        self.assertEqual(self.seen.wrong, set(), "taken upwards, or beside one another")
        self.assertEqual(self.asked_under, set(), "the outside was asked while a lock was held")
        self.assertIn(("writer", "store"), self.seen.pairs, "and the watching saw something")


class Watching(unittest.TestCase):
    def test_a_lock_taken_upwards_is_seen(self) -> None:
        seen = Seen()
        writer, bus = Watched("writer", threading.RLock(), seen), Watched("bus", threading.Lock(), seen)
        with writer, bus:
            pass
        self.assertEqual(seen.wrong, set())
        with bus, writer:
            pass
        self.assertEqual(seen.wrong, {("bus", "writer")})
