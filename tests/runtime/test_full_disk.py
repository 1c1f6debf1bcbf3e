"""A disk that is full: nothing is lost, it is said, and everything goes on by itself when there is room."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WithHouse
from ulmus.runtime import health, outbox
from ulmus.store import DataTrouble, Store, tables


class FullDisk(WithHouse):
    polling = True

    def test_a_run_under_way_goes_on_when_there_is_room(self) -> None:
        run = self.new_item(self.live())
        self.question(run)
        with self.full_disk():
            for n in range(200):
                try:
                    with self.services.store.write() as session:
                        session.add(tables.SheetRow(sheet="log", position=n, cells={"Post": "x" * 900}))
                except Exception as error:
                    self.assertTrue(self.services.health.met(error), error)
                    break
            else:
                self.fail("the disk was never full")
            self.assertIn("disk is full", self.services.health.troubles()[0])
            # What a step gave meanwhile is brought again; a new item waits to be handed out.
            self.town.state.release("furrow-letter")
            self.wait_for(lambda: self.services.health.rests(self.services.clock()))
        self.wait_for(lambda: not self.services.health.troubles(), seconds=20)
        self.answer(run)
        self.until(run, "done")
        self.wait_for(lambda: self._runs() == 2, seconds=20)

    def _runs(self) -> int:
        with self.services.store.read() as session:
            return len(session.scalars(select(tables.Run.id)).all())

    def test_a_piece_that_was_in_flight_needs_no_asking(self) -> None:
        """What went out while nothing could be written is known all the same: nobody is asked, and no second one goes out."""
        self.town.state.network.keeps_doubles = True
        self.town.state.network.keys = False  # it could not be asked
        run = self.new_item(self.live())
        self.question(run)
        real = outbox.Outbox._send
        full = self.full_disk()

        def send(this: outbox.Outbox, piece: tables.Piece) -> object:
            receipt: Any = real(this, piece)
            if piece.run_id is None:
                return receipt  # the mail that asks
            full.__enter__()
            with mock.patch.object(health, "LITTLE", 0):
                self.fill_up()
            return {**receipt, "note": "x" * 9000}  # more than fits into the pages there are

        with mock.patch.object(outbox.Outbox, "_send", send):
            self.answer(run)
            self.wait_for(lambda: bool(self.engine.outbox._unwritten), seconds=10)
        self.assertEqual(self.piece(run).state, "intent")
        full.__exit__(None, None, None)
        self.until(run, "done", seconds=20)
        self.assertEqual((len(self.posts()), self.piece(run).state, self.piece(run).attempt), (1, "sent", 1))

    def fill_up(self) -> None:
        for n in range(300):
            try:
                with self.services.store.write() as session:
                    session.add(tables.SheetRow(sheet="log", position=n, cells={"Post": "x" * 200}))
            except Exception:
                return
        self.fail("the disk was never full")


class Watched(WithHouse):
    def test_what_is_wrong_while_it_runs_is_said(self) -> None:
        watch = self.services.health
        key = self.folder / "secret.key"
        kept, now = key.read_bytes(), self.services.clock()
        watch.tick(now)
        self.assertEqual(watch.troubles(), [])
        key.unlink()
        watch.tick(now + 60)
        self.assertIn("has gone", watch.troubles()[0])
        key.write_bytes(b"another")
        watch.tick(now + 120)
        self.assertIn("was changed", watch.troubles()[0])
        key.write_bytes(kept)
        with mock.patch.object(shutil, "disk_usage", return_value=shutil._ntuple_diskusage(10**9, 10**9 - 5_000_000, 5_000_000)):
            watch.tick(now + 180)
        self.assertEqual(watch.troubles(), ["Only 5 MB are left on the disk. Make room soon."])
        watch.tick(now + 240)
        self.assertEqual(watch.troubles(), [])

    def test_a_database_that_rots_while_it_runs_is_noticed(self) -> None:
        with self.services.store.write() as session:
            for n in range(300):
                session.add(tables.SheetRow(sheet="log", position=n, cells={"Post": "x" * 500}))
        with self.services.store.engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
        base = bytearray((self.folder / "ulmus.db").read_bytes())
        base[-40960:-4096] = b"\x07" * 36864
        (self.folder / "ulmus.db").write_bytes(base)
        self.services.health._check()
        self.assertIn("damaged", self.services.health.troubles()[0])

    def test_a_place_that_is_no_folder(self) -> None:
        with tempfile.NamedTemporaryFile() as file, self.assertRaisesRegex(DataTrouble, "is a file"):
            Store(Path(file.name))
