"""A run's journal as it is read: each event once, in pages."""

from __future__ import annotations

import unittest
from unittest import mock

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.readmodels import journals
from ulmus.readmodels.journals import Journals, journal_page
from ulmus.runtime import workflows


def events(count: int) -> list[flow.Event]:
    return [flow.Failed(at=float(n), address="s", message=f"no. {n}") for n in range(count)]


class Pages(unittest.TestCase):
    def test_the_latest_page_comes_first_and_leads_to_earlier_ones(self) -> None:
        every = events(450)
        read: list[int] = []
        before = None
        while True:
            found = journal_page(every, before, 200)
            read = [entry.number for entry in found.entries] + read
            if found.earlier is None:
                break
            before = found.earlier
        self.assertEqual(read, list(range(450)), "every entry once, in order")

    def test_the_ends(self) -> None:
        self.assertEqual(journal_page([], None, 200).entries, [])
        self.assertIsNone(journal_page(events(200), None, 200).earlier, "a page that is just full is all there is")
        self.assertEqual(journal_page(events(201), None, 200).earlier, 1)
        for before in (-5, 0, 10_000):
            self.assertLessEqual(len(journal_page(events(3), before, 200).entries), 3)


class Reading(WithHouse):
    def test_an_event_is_read_once_and_what_comes_after_is_added(self) -> None:
        run = self.started()
        kept = Journals(self.services.store)
        first = kept.of(run)
        self.assertIsInstance(first[0], flow.Begun)
        with mock.patch.object(flow, "load_event", side_effect=AssertionError("read again")):
            self.assertEqual(kept.of(run), first)
        self.engine.record(run, flow.Held(at=self.services.clock(), reason="person", message="Paused."))
        after = kept.of(run)
        self.assertEqual(after[: len(first)], first)
        self.assertIsInstance(after[-1], flow.Held)
        self.assertNotIsInstance(first[-1], flow.Held, "what was read before is not changed")

    def test_what_is_kept_is_bounded(self) -> None:
        kept = Journals(self.services.store)
        runs = [self.started() for _ in range(3)]
        with mock.patch.object(journals, "MOST_EVENTS", 1):
            for run in runs:
                self.assertTrue(kept.of(run))
            self.assertEqual(list(kept._kept), runs[-1:])

    def started(self) -> int:
        """A run that rests at its first line."""
        id_ = self.made(RESTING)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.until(run, "resting")
        return run


RESTING = {
    "format": "ulmus-workflow",
    "version": 1,
    "name": "W",
    "start": {"id": "start", "kind": "by_hand"},
    "steps": [{"id": "later", "kind": "wait", "settings": {"how": "for", "seconds": 3600}}],
}
