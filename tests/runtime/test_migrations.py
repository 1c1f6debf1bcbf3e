"""A database of every earlier revision, with data in it, is brought up to date and loses none of it."""

from __future__ import annotations

import json
import shutil
import tempfile
import unittest
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, select

from ulmus.store import Store, tables
from ulmus.store.db import MIGRATIONS

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
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
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

    def test_a_house_has_one_identity_for_good(self) -> None:
        folder = self.database("0004")
        first = Store(folder)
        first.close()
        second = Store(folder)
        self.addCleanup(second.close)
        self.assertEqual(first.identity, second.identity)


if __name__ == "__main__":
    unittest.main()
