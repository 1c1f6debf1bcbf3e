"""A database of every earlier revision, with data in it, is brought up to date and loses none of it."""

from __future__ import annotations

import json
import shutil
import sqlite3
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from alembic import command
from sqlalchemy import create_engine, event, select

from tests.short import some
from ulmus.store import DataTrouble, Store, tables, upgrade

PAGE = {"name": "W", "start": {"id": "s", "kind": "by_hand"}, "steps": []}
ROWS = {
    "workflows": {"id": 1, "name": "W", "document": json.dumps(PAGE), "version": 1, "state": "live", "revision_id": 1, "updated_at": 1.0},
    "revisions": {"id": 1, "workflow_id": 1, "number": 1, "document": json.dumps(PAGE), "created_at": 1.0, "created_by": "x"},
    "runs": {"id": 1, "workflow_id": 1, "revision_id": 1, "title": "R", "state": "asking", "step": "", "message": "", "started_at": 1.0},
    "journal": {"run_id": 1, "seq": 0, "event": json.dumps({"event": "begun", "at": 1.0, "item": {"x": "\ud83d"}})},
    "approvals": {"id": 1, "run_id": 1, "address": "a", "round": 1, "last": 0, "draft": "d", "who": "w", "text": "t", "state": "open"},
    "pieces": {"id": 1, "key": "k", "run_id": 1, "address": "out", "connection": "pond", "kind": "publish_post", "content": "{}", "state": "unsure"},
    "samples": {"id": 1, "workflow_id": 1, "label": "S", "item": "{}", "source": "start", "shown": 1, "created_at": 1.0},
}  # fmt: skip


class FromEarlier(unittest.TestCase):
    def database(self, revision: str) -> Path:
        """A folder with a database of that revision, with a row in every table that counts."""
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        engine = create_engine(f"sqlite:///{folder / 'ulmus.db'}")
        config = upgrade.configuration()
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, revision)
        with engine.begin() as connection:
            for table, row in ROWS.items():
                columns = connection.exec_driver_sql(f"PRAGMA table_info({table})").all()
                filled = dict(row)
                for _, name, kind, needed, default, key in columns:
                    if name not in filled and needed and default is None and not key:
                        filled[name] = 0 if kind in ("INTEGER", "FLOAT", "BOOLEAN", "DOUBLE") else ""
                known = {name: value for name, value in filled.items() if name in {c[1] for c in columns}}
                marks = ", ".join("?" * len(known))
                connection.exec_driver_sql(f"INSERT INTO {table} ({', '.join(known)}) VALUES ({marks})", tuple(known.values()))
        engine.dispose()
        return folder

    def test_every_earlier_revision(self) -> None:
        for revision in ("0001", "0002", "0003", "0004"):
            with self.subTest(revision):
                store = Store(self.database(revision))
                self.addCleanup(store.close)
                with store.read() as session:
                    run, piece = session.get_one(tables.Run, 1), session.get_one(tables.Piece, 1)
                    approval, sample = session.get_one(tables.Approval, 1), session.get_one(tables.Sample, 1)
                    event = session.scalars(select(tables.JournalEntry.event)).one()
                self.assertEqual((run.title, piece.key, approval.text, sample.label), ("R", "k", "t", "S"))
                self.assertEqual((piece.generation, approval.broken, approval.despite, sample.identity), (None, [], [], ""))
                self.assertEqual(event["item"], {"x": "\ufffd"})
                self.assertRegex(store.identity, r"^[0-9a-f]{32}$")

    def test_what_the_pages_of_one_brand_alone_name_becomes_its_own(self) -> None:
        folder = self.database("0014")
        with sqlite3.connect(folder / "ulmus.db") as connection:
            connection.execute("DELETE FROM workflows")
            for n, (brand, sheet, channel) in enumerate(
                (("a", "own", "pond"), ("a", "own", "both"), ("b", "other", "both"), (None, "house", "pond2"))
            ):
                document = json.dumps({"steps": [{"settings": {"sheet": sheet, "out": [{"channel": channel}]}}]})
                connection.execute(
                    "INSERT INTO workflows (id, name, brand, document, version, state, updated_at) VALUES (?, 'W', ?, ?, 1, 'draft', 1)",
                    (n + 1, brand, document),
                )
            for key in ("own", "other", "house", "unused"):
                connection.execute("INSERT INTO sheets (key, name, columns) VALUES (?, ?, '[]')", (key, key))
            for key, kind in (("pond", "posting"), ("both", "posting"), ("pond2", "posting"), ("own", "model")):
                connection.execute(
                    "INSERT INTO connections (key, kind, name, settings, sealed, test_says) VALUES (?, ?, ?, '{}', '', '')",
                    (key, kind, key),
                )
        store = Store(folder)
        self.addCleanup(store.close)
        with store.read() as session:
            sheets = {one.key: one.brand for one in session.scalars(select(tables.Sheet))}
            channels = {one.key: one.brand for one in session.scalars(select(tables.Connection))}
        self.assertEqual(sheets, {"own": "a", "other": "b", "house": None, "unused": None})
        self.assertEqual(channels, {"pond": "a", "both": None, "pond2": None, "own": None})

    def looks_whole(self, folder: Path) -> None:
        """The database in a folder opens, is up to date, sound, and holds what it held."""
        store = Store(folder)
        try:
            with store.engine.connect() as connection:
                self.assertEqual(upgrade.revision_of(connection), upgrade.newest())
                self.assertEqual(connection.exec_driver_sql("PRAGMA integrity_check").scalar(), "ok")
                for table, row in ROWS.items():
                    self.assertEqual(connection.exec_driver_sql(f"SELECT count(*) FROM {table}").scalar(), 1, (table, row))
        finally:
            store.close()

    def test_cut_off_anywhere_the_next_start_goes_on(self) -> None:
        # What lies on the disk at each statement is what a kill would leave there.
        snapshots: list[Path] = []
        folder = self.database("0001")

        def copied(*_: object) -> None:
            snapshot = Path(tempfile.mkdtemp())
            self.addCleanup(shutil.rmtree, snapshot, ignore_errors=True)
            for path in folder.iterdir():
                shutil.copy(path, snapshot)
            (snapshot / "ulmus.db-shm").unlink(missing_ok=True)
            snapshots.append(snapshot)

        making = upgrade._engine

        def watched(path: Path) -> Any:
            engine = making(path)
            event.listen(engine, "after_cursor_execute", copied)
            event.listen(engine, "commit", copied)
            return engine

        with mock.patch.object(upgrade, "_engine", watched):
            Store(folder).close()
        self.assertGreater(len(snapshots), 40)
        for snapshot in some(snapshots, 4):
            self.looks_whole(snapshot)

    def test_a_migration_that_fails_changes_nothing_and_a_copy_was_made_first(self) -> None:
        folder = self.database("0003")
        (folder / "files").mkdir()
        with mock.patch("alembic.op.create_index", side_effect=ZeroDivisionError), self.assertRaises(ZeroDivisionError):
            Store(folder)
        base = sqlite3.connect(folder / "ulmus.db")
        self.addCleanup(base.close)
        names = {name for (name,) in base.execute("SELECT name FROM sqlite_master")}
        self.assertFalse({"house", "timers"} & names, "half of a migration stands")
        self.assertEqual(base.execute("SELECT version_num FROM alembic_version").fetchall(), [("0004",)])
        kept = sqlite3.connect(folder / "before-upgrade-0003.db")
        self.addCleanup(kept.close)
        self.assertEqual(kept.execute("SELECT version_num FROM alembic_version").fetchall(), [("0003",)])
        self.assertEqual(kept.execute("SELECT title FROM runs").fetchall(), [("R",)])
        self.looks_whole(folder)

    def test_what_cannot_be_opened_says_why(self) -> None:
        newer = self.database("0004")
        base = sqlite3.connect(newer / "ulmus.db")
        base.execute("UPDATE alembic_version SET version_num = '9999'")
        base.commit()
        base.close()
        none = Path(tempfile.mkdtemp())
        (none / "ulmus.db").write_bytes(b"This is no database. " * 500)
        torn = self.database("0004")
        whole = bytearray((torn / "ulmus.db").read_bytes())
        whole[4096:12288] = b"\x07" * 8192
        (torn / "ulmus.db").write_bytes(whole)
        for folder, words in ((newer, "newer version"), (none, "damaged"), (torn, "damaged")):
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
            with self.subTest(words), self.assertRaisesRegex(DataTrouble, words):
                Store(folder)

    def test_nobody_else_can_look_in(self) -> None:
        folder = self.database("0004")
        folder.chmod(0o755)
        store = Store(folder)
        self.addCleanup(store.close)
        self.assertEqual(folder.stat().st_mode & 0o777, 0o700)
        for path in folder.iterdir():
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_a_house_has_one_identity_for_good(self) -> None:
        folder = self.database("0004")
        first = Store(folder)
        first.close()
        second = Store(folder)
        self.addCleanup(second.close)
        self.assertEqual(first.identity, second.identity)


if __name__ == "__main__":
    unittest.main()
