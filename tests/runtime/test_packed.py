"""Journals packed into files: the same run before and after, taken up again, backed up, and never lost on the way."""

from __future__ import annotations

import gzip
import shutil
import tempfile
from pathlib import Path
from unittest import mock

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.core.flow import write_event
from ulmus.readmodels.journals import Journals
from ulmus.runtime.keeping import DAY, Keeping
from ulmus.store import DataTrouble, Store, copies, packed, tables


class Packed(WithHouse):
    def ended(self) -> int:
        run = self.new_item(self.live())
        self.until(run, "asking")
        self.answer(run, "decline")
        self.until(run, "declined")
        return run

    def entries(self, run: int) -> int:
        with self.services.store.read() as session:
            counted = select(func.count()).where(tables.JournalEntry.run_id == run)
            return session.scalar(counted) or 0

    def state(self, run: int) -> object:
        with self.services.store.read() as session:
            live = self.engine.pages.load(session, run)
        return repr(live.state), live.seq

    def told(self, run: int) -> list[str]:
        return [write_event(event) for event in Journals(self.services.store).of(run)]

    def test_a_run_reads_the_same_from_its_file(self) -> None:
        run = self.ended()
        state, told, kept = self.state(run), self.told(run), Journals(self.services.store)
        kept.of(run)
        self.assertTrue(packed.pack(self.services.store, run))
        self.assertEqual(self.entries(run), 1)
        self.assertEqual(self.state(run), state)
        self.assertEqual(self.told(run), told)
        self.assertEqual([write_event(event) for event in kept.of(run)], told)
        path = packed.path_of(self.services.store.folder, run)
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
        with gzip.open(path, "rt") as file:
            self.assertEqual(len(file.readlines()), len(told) + 1)
        self.assertEqual(packed.ripe(self.services.store, self.services.clock() + 1, 9), [])

    def test_one_that_is_taken_up_again_goes_on_and_is_packed_again(self) -> None:
        run = self.ended()
        before = self.told(run)
        packed.pack(self.services.store, run)
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="post", by=WHO))
        self.until(run, "asking")
        self.assertEqual(self.told(run)[: len(before)], before)
        self.assertFalse(packed.pack(self.services.store, run))  # it is open
        self.answer(run, "approve")
        self.until(run, "done")
        state, told = self.state(run), self.told(run)
        self.assertTrue(packed.pack(self.services.store, run))
        self.assertEqual((self.state(run), self.told(run), self.entries(run)), (state, told, 1))

    def test_killed_in_between_nothing_is_lost(self) -> None:
        run = self.ended()
        told = self.told(run)
        with mock.patch.object(Store, "writing", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            packed.pack(self.services.store, run)
        self.assertEqual(self.told(run), told)
        self.assertEqual(self.entries(run), len(told))
        self.assertTrue(packed.pack(self.services.store, run))
        self.assertEqual(self.told(run), told)

    def test_a_file_that_is_gone_or_broken_says_so(self) -> None:
        run = self.ended()
        packed.pack(self.services.store, run)
        path = packed.path_of(self.services.store.folder, run)
        whole = path.read_bytes()
        path.write_bytes(whole[: len(whole) // 2])
        with self.assertRaisesRegex(DataTrouble, "cannot be read"):
            self.told(run)
        path.unlink()
        with self.assertRaisesRegex(DataTrouble, "Put it back from a backup"):
            self.state(run)

    def test_it_is_backed_up_looked_through_and_restored(self) -> None:
        run = self.ended()
        told = self.told(run)
        packed.pack(self.services.store, run)
        place = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, place, ignore_errors=True)
        folder = self.services.store.folder
        copies.back_up(folder, place / "backup")
        copies.verify(place / "backup")
        copies.restore(place / "backup", place / "again")
        again = Store(place / "again")
        self.addCleanup(again.close)
        self.assertEqual([write_event(event) for event in Journals(again).of(run)], told)
        packed.path_of(place / "backup", run).unlink()
        with self.assertRaises(DataTrouble):
            copies.verify(place / "backup")

    def test_what_was_packed_after_a_copy_was_made_is_not_of_the_copy(self) -> None:
        run = self.ended()
        packed.pack(self.services.store, run)
        told = self.told(run)
        with self.services.store.read() as session:
            copied = session.get_one(tables.Run, run).packed
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="post", by=WHO))
        self.until(run, "asking")
        self.answer(run, "decline")
        self.until(run, "declined")
        packed.pack(self.services.store, run)
        self.assertGreater(len(self.told(run)), len(told))
        # The database as it was, beside the file as it is now.
        with self.services.store.write() as session:
            session.get_one(tables.Run, run).packed = copied
        self.assertEqual(self.told(run), told)

    def test_at_night_and_only_what_is_old(self) -> None:
        run = self.ended()
        keeping, now = Keeping(self.services, self.engine.executor, after=30), self.services.clock()
        self.assertEqual(keeping.bite(now), 0)
        self.assertEqual(keeping.bite(now + 31 * DAY), 1)
        self.assertEqual(keeping.bite(now + 31 * DAY), 0)
        self.assertEqual(self.entries(run), 1)

    def test_files_of_runs_that_are_no_more_are_swept(self) -> None:
        run = self.ended()
        packed.pack(self.services.store, run)
        self.assertEqual(packed.sweep(self.services.store), 0)
        with self.services.store.write() as session:
            session.delete(session.get_one(tables.Run, run))
        self.assertEqual(packed.sweep(self.services.store), 1)
        self.assertFalse(packed.path_of(self.services.store.folder, run).exists())
