"""Data folders kept from earlier versions: each is opened by this one, nothing in it is lost, and what was under way goes on.

Each folder of `tests/kept` was written by the version whose last migration it is named after: one run has ended and its post is out,
another waits for an answer. Its addresses are led to a town of today, and its clock goes on from when it was made.
``python -m tests.runtime.test_upgrades`` keeps one of this version.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import tempfile
import time
import unittest
import zipfile
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from practice_town.app import Town
from tests.runtime.house import WHO, WithHouse, reachable
from tests.short import some
from ulmus.readmodels.journals import Journals
from ulmus.readmodels.record import run_record
from ulmus.runtime import holding
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import place, tables
from ulmus.store.db import DATABASE

KEPT = sorted((Path(__file__).parent.parent / "kept").glob("*.zip"))


class FromEarlierVersions(WithHouse):
    def setUp(self) -> None:
        pass  # each folder is opened by itself

    def opened(self, kept: Path) -> dict[str, Any]:
        """Unpack a folder and open the house on it, as an upgrade does; gives what was made in it."""
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        with zipfile.ZipFile(kept) as file:
            made: dict[str, Any] = json.loads(file.read("made.json"))
            for name in (DATABASE, "secret.key"):
                file.extract(name, self.folder)
        self.town = Town().start()
        self.addCleanup(self.town.stop)
        ports = {
            f"127.0.0.1:{made['port']}": f"127.0.0.1:{self.town.port}",
            f'"port": {made["smtp"]}': f'"port": {self.town.smtp_port}',
        }
        with sqlite3.connect(self.folder / DATABASE) as connection:
            for table, column in (
                ("connections", "settings"),
                ("workflows", "document"),
                ("revisions", "document"),
                ("journal", "event"),
            ):
                for before, after in ports.items():
                    connection.execute(f"UPDATE {table} SET {column} = replace({column}, ?, ?)", (before, after))
        connection.close()
        since = time.time() - made["at"]
        self.services = Services.open(
            self.folder, reachable(self.town), public_url="http://ulmus.example", clock=lambda: time.time() - since
        )
        self.engine = Engine(self.services)
        self.engine.outbox.settle = 0.3
        self.engine.start(polling=self.polling)
        self.addCleanup(self._close, self.engine, self.services)
        return made

    def test_each_is_opened_read_and_goes_on(self) -> None:
        self.assertGreaterEqual(len(KEPT), 8)
        for kept in some(KEPT, 3):  # the wheel opens them all
            with self.subTest(kept.stem):
                made = self.opened(kept)
                if place.held(self.services.store) is not None:
                    holding.let_go(self.engine, WHO, is_copy=False)
                self.assertEqual(self.run_of(made["done"]).state, "done")
                record = run_record(self.services, self.engine, Journals(self.services.store), made["done"])
                self.assertEqual([(answer.by, answer.verdict) for answer in record.answers], [("Ines", "approve")])
                self.assertEqual([piece.state for piece in record.pieces], ["sent"])
                self.assertEqual(len(self.rows()), 1)
                self.answer(made["asking"])
                self.until(made["asking"], "done")
                self.assertEqual(len(self.posts()), 1, "what had gone out before is not sent again")
                self.assertEqual(len(self.rows()), 2)
                with self.services.store.read() as session:
                    (workflow,) = session.scalars(select(tables.WorkflowRecord.id))
                    runs = session.scalar(select(func.count()).select_from(tables.Run)) or 0
                self.assertEqual(runs, 2, "no item is taken for a new one")
                # A new item runs the whole of the page as it stood then.
                while self.new_item(workflow) == made["asking"]:
                    pass
                later = self.new_item(workflow)
                self.answer(later)
                self.until(later, "done")
                self._close(self.engine, self.services)


class Keep(WithHouse):
    """Not a test: writes the folder of this version."""

    def runTest(self) -> None:
        workflow = self.live()
        first = self.new_item(workflow)
        self.answer(first)
        self.until(first, "done")
        second = self.new_item(workflow)
        self.question(second)
        at = self.services.clock()
        self._close(self.engine, self.services)
        with sqlite3.connect(self.folder / DATABASE) as connection:
            (revision,) = connection.execute("SELECT version_num FROM alembic_version").fetchone()
            connection.execute("VACUUM")
        connection.close()
        made = {"port": self.town.port, "smtp": self.town.smtp_port, "done": first, "asking": second, "at": at}
        with zipfile.ZipFile(KEPT[0].parent / f"{revision}.zip", "w", zipfile.ZIP_DEFLATED, compresslevel=9) as file:
            file.writestr("made.json", json.dumps(made))
            for name in (DATABASE, "secret.key"):
                file.write(self.folder / name, name)


def load_tests(loader: unittest.TestLoader, tests: unittest.TestSuite, pattern: str | None) -> unittest.TestSuite:
    """Only what is a test."""
    return loader.loadTestsFromTestCase(FromEarlierVersions)


if __name__ == "__main__":
    unittest.TextTestRunner().run(Keep())
