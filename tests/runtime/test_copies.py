"""Backups made while the house works, copies that are held until a person lets them go, and data that cannot be opened."""

from __future__ import annotations

import json
import shutil
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.runtime import files, holding, workflows
from ulmus.runtime.services import Services
from ulmus.store import DataTrouble, Sealer, Store, copies, place, tables


class Copies(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.town.state.network.keeps_doubles = True
        self.room = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.room, ignore_errors=True)

    def restored(self) -> None:
        """Stop this house for good, and open the one restored from its backup."""
        self._close(self.engine, self.services)
        copies.restore(self.room / "backup", self.room / "again")
        self.folder = self.room / "again"
        self.open()

    def count(self, table: Any, *where: Any) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).select_from(table).where(*where)) or 0

    # -- backups ------------------------------------------------------------------------------------

    def test_a_backup_made_while_everything_is_written_is_whole(self) -> None:
        stop, written = threading.Event(), []

        def write() -> None:
            while not stop.is_set():
                content = f"file {len(written)}".encode() * 500
                with self.services.store.write() as session:
                    position = len(written)
                    session.add(tables.SheetRow(sheet="log", position=position, cells={"Post": "x" * 2000}))
                    session.add(tables.SheetRow(sheet="log", position=position + 1_000_000, cells={"Post": "y"}))
                written.append(files.keep(self.services, "a.txt", "text/plain", content))

        writer = threading.Thread(target=write)
        writer.start()
        try:
            for n in range(3):
                before = len(written)
                while len(written) < before + 20:
                    pass
                made = copies.back_up(self.folder, self.room / f"backup{n}")
                self.assertGreaterEqual(made.files, before)
        finally:
            stop.set()
            writer.join()
        for n in range(3):
            about = copies.verify(self.room / f"backup{n}")
            assert about is not None
            store = Store(self.room / f"backup{n}")
            with store.read() as session:
                rows = session.scalar(select(func.count()).select_from(tables.SheetRow))
            store.close()
            self.assertEqual((rows or 0) % 2, 0, "half of a transaction was copied")
        for path in (self.room / "backup0").rglob("*"):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_what_is_wrong_with_a_backup_is_said(self) -> None:
        kept = files.keep(self.services, "a.txt", "text/plain", b"kept")
        sha = kept["link"].rpartition("/")[2]
        copies.back_up(self.folder, self.room / "backup")

        def spoiled(name: str, content: bytes | None) -> Path:
            folder = self.room / "spoiled"
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(self.room / "backup", folder)
            (folder / name).unlink() if content is None else (folder / name).write_bytes(content)
            return folder

        for name, content, words in (
            ("ulmus.db", b"x" * 9000, "damaged"),
            ("ulmus.db", None, "no data"),
            ("secret.key", None, "missing"),
            (f"files/{sha[:2]}/{sha}", b"changed", "damaged"),
            (f"files/{sha[:2]}/{sha}", None, "not complete"),
            ("backup.json", b"{", "cannot be read"),
            ("backup.json", None, "no backup"),
            ("backup.json", json.dumps({"ulmus_backup": 1, "made_at": 1, "files": {"../secret": "x"}}).encode(), "cannot be read"),
            ("backup.json", json.dumps({"ulmus_backup": 99, "made_at": 1, "files": {}}).encode(), "newer"),
        ):
            with self.subTest(name=name, words=words), self.assertRaisesRegex(DataTrouble, words):
                copies.restore(spoiled(name, content), self.room / "again")
            self.assertFalse((self.room / "again").exists())
        with self.assertRaisesRegex(DataTrouble, "already"):
            copies.restore(self.room / "backup", self.folder)
        with self.assertRaisesRegex(DataTrouble, "there already"):
            copies.back_up(self.folder, self.room / "backup")
        (self.folder / "files" / sha[:2] / sha).write_bytes(b"rotten")
        with self.assertRaisesRegex(DataTrouble, "1 kept files are missing or changed"):
            copies.verify(self.folder)

    # -- restored copies ----------------------------------------------------------------------------

    def test_what_the_original_sent_since_is_found_and_not_sent_again(self) -> None:
        workflow = self.live()
        sent, waits = self.new_item(workflow), self.new_item(workflow)
        for run in (sent, waits):
            self.question(run)
        copies.back_up(self.folder, self.room / "backup")
        # The original goes on: one is approved and goes out, and another item is handed out.
        self.answer(sent)
        self.until(sent, "done")
        self.new_item(workflow)
        self.assertEqual(len(self.posts()), 1)
        self.restored()
        assert self.engine.hold is not None
        self.assertEqual(self.engine.hold.why, "restored")
        told = holding.overview(self.engine)
        self.assertEqual([(c.runs, h.items) for c, h in zip(told.carries, told.hands_out, strict=True)], [(2, 1)])
        holding.let_go(self.engine, WHO, is_copy=True)
        self.engine.polling.look_at(workflow)
        self.assertEqual(self.count(tables.Run), 2, "what the original handed out was handed out again")
        self.answer(sent)
        self.until(sent, "done")
        self.assertEqual(len(self.posts()), 1, "the copy sent what the original had sent")
        self.answer(waits)
        self.until(waits, "done")
        self.assertEqual(len(self.posts()), 2)
        # What begins here has keys of this house's own, and is not looked for.
        newer = self.new_item(workflow)
        self.answer(newer)
        self.until(newer, "done")
        self.assertEqual(len(self.posts()), 3)
        self.assertEqual(len({p["uid"] for p in self.town.state.posts}), 3)

    def test_a_piece_that_waited_in_the_outbox_is_asked_for_first(self) -> None:
        workflow = self.live()
        run = self.new_item(workflow)
        self.question(run)
        self.engine.ticker.stop()  # what is queued stays queued
        self.answer(run)
        self.wait_for(lambda: self.count(tables.Piece, tables.Piece.run_id == run) == 1)
        copies.back_up(self.folder, self.room / "backup")
        self.reopen()
        self.until(run, "done")
        self.restored()
        told = holding.overview(self.engine)
        self.assertEqual([(s.run, s.channel, s.can_be_asked) for s in told.sends], [(run, "Pondside", True)])
        holding.let_go(self.engine, WHO, is_copy=True)
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_where_the_channel_cannot_be_asked_a_person_decides(self) -> None:
        workflow = self.live()
        run = self.new_item(workflow)
        self.question(run)
        copies.back_up(self.folder, self.room / "backup")
        self.restored()
        holding.let_go(self.engine, WHO, is_copy=True)
        self.town.state.network.keys = False
        self.town.state.posts.append({"id": 1, "content": "Somebody’s", "uid": "x", "at": time.time(), "by": "x", "photo": ""})
        self.answer(run)
        self.assertIn("the house this one is a copy of", self.until(run, "unsure").message)
        self.assertEqual(len(self.posts()), 1)
        self.engine.outbox.decide(self.piece(run).id, "again", "Mara")
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 2)

    def test_chosen_workflows_run_for_what_is_new(self) -> None:
        workflow = self.live()
        copies.back_up(self.folder, self.room / "backup")
        self.new_item(workflow)
        self.restored()
        self.assertEqual(self.count(tables.Run), 0)
        holding.let_go(self.engine, WHO, is_copy=True, run_for=[workflow])
        self.engine.polling.look_at(workflow)
        self.assertEqual(self.count(tables.Run), 1)

    def test_what_was_left_to_run_for_so_many_a_day_is_handed_out_again_only_where_it_is_wanted(self) -> None:
        for wanted in (False, True):
            id_ = self.made(page(self.town.url))
            workflows.go_live(self.engine, id_, WHO, a_day=1)
            self.engine.polling.look_at(id_)
            left = self.count(tables.Backlog, tables.Backlog.workflow_id == id_)
            self.assertGreater(left, 3)
            shutil.rmtree(self.room / "backup", ignore_errors=True)
            copies.back_up(self.folder, self.room / "backup")
            self._close(self.engine, self.services)
            shutil.rmtree(self.room / "again", ignore_errors=True)
            copies.restore(self.room / "backup", self.room / f"again{wanted}")
            self.folder = self.room / f"again{wanted}"
            self.open()
            told = {one.workflow: one.items for one in holding.overview(self.engine).hands_out}
            self.assertEqual(told[id_], left)
            holding.let_go(self.engine, WHO, is_copy=True, run_for=[id_] if wanted else [])
            self.assertEqual(self.count(tables.Backlog, tables.Backlog.workflow_id == id_), left if wanted else 0)

    def test_it_is_let_go_once_however_many_press(self) -> None:
        self.live()
        copies.back_up(self.folder, self.room / "backup")
        self.restored()
        refused: list[str] = []

        def press() -> None:
            try:
                holding.let_go(self.engine, WHO, is_copy=True)
            except ValueError as error:
                refused.append(str(error))

        people = [threading.Thread(target=press) for _ in range(5)]
        for one in people:
            one.start()
        for one in people:
            one.join()
        self.assertEqual(len(refused), 4)
        self.assertTrue(self.engine.ticker._thread.is_alive())

    def test_held_it_does_nothing_and_stays_held_over_a_restart(self) -> None:
        workflow = self.live()
        run = self.new_item(workflow)
        self.question(run)
        copies.back_up(self.folder, self.room / "backup")
        self.polling = True
        self.restored()
        self.town.state.release("furrow-letter")
        self.reopen()
        assert self.engine.hold is not None
        self.assertFalse(self.engine.ticker._thread.is_alive())
        self.assertEqual((self.count(tables.Run), self.posts()), (1, []))
        holding.let_go(self.engine, WHO, is_copy=True)
        self.reopen()
        self.assertIsNone(self.engine.hold)

    # -- folders that were moved --------------------------------------------------------------------

    def test_a_folder_copied_by_hand_is_held_and_a_renamed_one_is_not(self) -> None:
        self._close(self.engine, self.services)
        moved = self.room / "moved"
        self.folder.rename(moved)
        self.folder = moved
        self.open()
        self.assertIsNone(self.engine.hold)
        own = self.services.store.identity
        self._close(self.engine, self.services)
        for is_copy in (False, True):
            copied = self.room / f"copied{is_copy}"
            shutil.copytree(moved, copied)
            self.folder = copied
            self.open()
            assert self.engine.hold is not None
            self.assertEqual(self.engine.hold.why, "moved")
            holding.let_go(self.engine, WHO, is_copy=is_copy)
            self.assertEqual(self.services.store.identity == own, not is_copy)
            self.reopen()
            self.assertIsNone(self.engine.hold)
            self._close(self.engine, self.services)

    def test_a_copy_that_was_given_the_inode_of_its_removed_original_is_held(self) -> None:
        stands = self.services.store.fact(place.PLACE) or ""
        before, _, born = stands.rpartition(" ")
        if born == "0":
            self.skipTest("this file system keeps no births")
        self.services.store.note(place.PLACE, before)  # as older versions noted it
        self.reopen()
        self.assertEqual((self.engine.hold, self.services.store.fact(place.PLACE)), (None, stands))
        self.services.store.note(place.PLACE, f"{before} {int(born) - 1}")
        self.reopen()
        self.assertIsNotNone(self.engine.hold)

    # -- the key ------------------------------------------------------------------------------------

    def test_without_its_key_or_with_another_nothing_starts(self) -> None:
        self._close(self.engine, self.services)
        key = (self.folder / "secret.key").read_bytes()
        (self.folder / "secret.key").unlink()
        with self.assertRaisesRegex(DataTrouble, r"no secret\.key"):
            Services.open(self.folder)
        self.assertFalse((self.folder / "secret.key").exists())
        with tempfile.TemporaryDirectory() as other:
            (self.folder / "secret.key").write_bytes(Sealer(Path(other)).key)
        with self.assertRaisesRegex(DataTrouble, "not the one"):
            Services.open(self.folder)
        (self.folder / "secret.key").write_bytes(b"no key at all")
        with self.assertRaisesRegex(DataTrouble, "not the one"):
            Services.open(self.folder)
        store = Store(self.folder)
        Sealer.anew(store)
        store.close()
        Services.open(self.folder).close()
        (self.folder / "secret.key").write_bytes(key)
        with self.assertRaisesRegex(DataTrouble, "not the one"):
            Services.open(self.folder)

    def test_a_second_copy_of_a_copy_keeps_each_run_with_the_house_it_began_in(self) -> None:
        workflow = self.live()
        first = self.new_item(workflow)
        one = self.services.store.identity
        for n in range(2):
            shutil.rmtree(self.room / "backup", ignore_errors=True)
            copies.back_up(self.folder, self.room / "backup")
            self._close(self.engine, self.services)
            copies.restore(self.room / "backup", self.room / f"again{n}")
            self.folder = self.room / f"again{n}"
            self.open()
            holding.let_go(self.engine, WHO, is_copy=True)
            if n == 0:
                second, two = self.new_item(workflow), self.services.store.identity
        houses = [self.services.effect_house(run) for run in (first, second, second + 1)]
        self.assertEqual(houses, [one, two, self.services.store.identity])
        self.assertEqual(len(set(houses)), 3)
        self.assertEqual([o.runs for o in place.origins(self.services.store)], [first, second])
