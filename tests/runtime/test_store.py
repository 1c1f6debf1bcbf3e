"""The store: what has changed is known table by table, and what was read of connections holds until then."""

from __future__ import annotations

from unittest import mock

from sqlalchemy import update

from tests.runtime.house import WithHouse
from ulmus.protocols.errors import OutsideError
from ulmus.runtime.services import Services
from ulmus.store import tables


class Changes(WithHouse):
    def written(self) -> dict[str, int]:
        return {name: self.services.store.written(name) for name in ("connections", "sheet_rows", "audit", "brands")}

    def test_each_transaction_counts_for_the_tables_it_changed(self) -> None:
        before = self.written()
        with self.services.store.write() as session:
            session.add(tables.SheetRow(sheet="log", position=1, cells={"Post": "x"}))
            session.add(tables.SheetRow(sheet="log", position=2, cells={"Post": "y"}))
        after = self.written()
        self.assertEqual({n for n in before if after[n] != before[n]}, {"sheet_rows"})
        with self.services.store.read() as session:
            session.get(tables.Connection, "pond")
        self.assertEqual(self.written(), after, "reading changes nothing")

    def test_however_a_table_is_changed(self) -> None:
        count = self.services.store.written
        for change in (
            lambda session: session.execute(update(tables.Connection).where(tables.Connection.key == "pond").values(name="A")),
            lambda session: setattr(session.get_one(tables.Connection, "pond"), "name", "B"),
            lambda session: session.connection().exec_driver_sql("UPDATE connections SET name = 'C' WHERE key = 'pond'"),
            lambda session: session.delete(session.get_one(tables.Connection, "pond")),
        ):
            before = count("connections")
            with self.services.store.write() as session:
                change(session)
            self.assertEqual(count("connections"), before + 1)

    def test_a_transaction_that_fails_counts_too(self) -> None:
        before = self.services.store.written("connections")
        with self.assertRaises(ZeroDivisionError), self.services.store.write() as session:
            session.get_one(tables.Connection, "pond").name = "half done"
            session.flush()
            raise ZeroDivisionError
        self.assertGreater(self.services.store.written("connections"), before)
        self.assertEqual(self.services.connect("pond", "posting").name, "Pondside")


class Opened(WithHouse):
    def test_a_connection_is_opened_once_until_it_is_changed(self) -> None:
        with mock.patch.object(Services, "open_connection", autospec=True, side_effect=Services.open_connection) as opening:
            for _ in range(5):
                self.assertEqual(self.services.connect("pond", "posting").settings.limit, 300)
            with self.services.store.write() as session:
                session.add(tables.SheetRow(sheet="log", position=1, cells={"Post": "x"}))
            self.services.connect("pond", "posting")
            self.assertLessEqual(opening.call_count, 1)
            with self.services.store.write() as session:
                record = session.get_one(tables.Connection, "pond")
                record.settings = {**record.settings, "limit": 200}
            self.assertEqual(self.services.connect("pond", "posting").settings.limit, 200, "what was saved holds at once")

    def test_one_that_is_gone_is_missed(self) -> None:
        self.services.connect("pond", "posting")
        with self.services.store.write() as session:
            session.delete(session.get_one(tables.Connection, "pond"))
        with self.assertRaisesRegex(OutsideError, "“pond” is missing"):
            self.services.connect("pond", "posting")

    def test_one_of_another_kind_is_none(self) -> None:
        for _ in range(2):
            with self.assertRaisesRegex(OutsideError, "is missing"):
                self.services.connect("pond", "model")
            self.services.connect("pond", "posting")
