"""Sheets that stand in a file elsewhere, over a file store that locks, loses answers, knows no versions, and is written by others."""

from __future__ import annotations

import io
from typing import Any

import openpyxl
from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.protocols import filestore
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import mirrors, records, workflows
from ulmus.store import tables

CSV = "Topic;State;Day\nPeas;new;28.11.2026\nBeans;new;\n"


class Elsewhere(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.store = self.open_files()
        self.put(CSV.encode())

    def put(self, body: bytes, path: str = "Plans/topics.csv") -> None:
        filestore.save(self.services.web, self.store, path, body, "text/csv")

    def there(self, path: str = "Plans/topics.csv") -> str:
        return filestore.fetch(self.services.web, self.store, path).body.decode()

    def sheet(self, every: float = 3600, path: str = "Plans/topics.csv") -> str:
        return mirrors.open_sheet(self.services, "Topics", "files", path, every)

    def rows(self, key: str = "topics") -> list[tables.SheetRow]:
        row = tables.SheetRow
        with self.services.store.read() as session:
            return list(session.scalars(select(row).where(row.sheet == key).order_by(row.position)))

    def topics(self) -> list[str]:
        return [row.cells["Topic"] for row in self.rows()]

    def says(self, key: str = "topics") -> str:
        with self.services.store.read() as session:
            return session.get_one(tables.OutsideSheet, key).says

    def write(self, changes: dict[int, dict[str, str]], add: tuple[dict[str, str], ...] = (), gone: tuple[int, ...] = ()) -> None:
        with self.services.store.write() as session:
            sheet, by = session.get_one(tables.Sheet, "topics"), records.By(1.0, who="Ines")
            records.put_cells(session, sheet, changes.items(), by)
            records.add(session, sheet, add, by)
            records.remove(session, sheet, gone, by)


class BothWays(Elsewhere):
    def test_read_written_and_each_side_s_changes_reach_the_other(self) -> None:
        key = self.sheet()
        first, second = self.rows()
        self.assertEqual((first.cells["Day"], self.topics()), ("2026-11-28", ["Peas", "Beans"]))
        self.assertEqual(self.there(), CSV)  # reading writes nothing
        self.write({first.id: {"State": "used"}}, ({"Topic": "Marrows", "State": "new"},), (second.id,))
        self.put(CSV.replace("Peas", "Garden peas").encode() + b"Leeks;new;\n")
        self.assertIsNone(mirrors.look(self.services, key))
        self.assertEqual(self.there(), "Topic;State;Day\nGarden peas;used;28.11.2026\nLeeks;new;\nMarrows;new;\n")
        self.assertEqual(sorted(self.topics()), ["Garden peas", "Leeks", "Marrows"])
        (change, *_) = self.history(first.id)
        self.assertEqual((change.who, change.before), ("the file", {"Topic": "Peas"}))
        mirrors.look(self.services, key)
        self.assertEqual(self.says(), "Nothing changed.")

    def history(self, row: int) -> list[tables.RowChange]:
        with self.services.store.read() as session:
            return records.history(session, row)

    def test_a_change_here_goes_into_the_file_soon_and_by_itself(self) -> None:
        self.sheet()
        self.write({self.rows()[0].id: {"State": "used"}})
        self.engine.mirrors.tick(self.services.clock() + mirrors.LATER + 1)
        self.wait_for(lambda: "Peas;used" in self.there())
        self.write({}, (), (self.rows()[1].id,))
        self.engine.mirrors.tick(self.services.clock() + mirrors.LATER + 1)
        self.wait_for(lambda: "Beans" not in self.there())

    def test_rows_that_come_into_the_file_start_runs(self) -> None:
        key = self.sheet()
        start = {"id": "row", "kind": "new_row", "settings": {"sheet": key, "every": 1}}
        log = {"id": "log", "kind": "write_row", "settings": {"sheet": key, "cells": {"State": "seen <<row.Topic>>"}}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Watched", "start": start, "steps": [log]})
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        self.put((CSV + "Leeks;new;\n").encode())
        mirrors.look(self.services, key)
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: any(row.cells["State"] == "seen Leeks" for row in self.rows()))
        mirrors.look(self.services, key)
        self.assertEqual(self.there(), CSV + "Leeks;seen Leeks;\n")

    def test_a_workbook_keeps_its_looks(self) -> None:
        book = openpyxl.Workbook()
        book.active.append(["Topic", "Count"])
        book.active.append(["Peas", 1])
        book.active["B2"].number_format = "0.000"
        out = io.BytesIO()
        book.save(out)
        self.put(out.getvalue(), "Plans/t.xlsx")
        self.sheet(path="Plans/t.xlsx")
        self.write({self.rows()[0].id: {"Count": "2"}})
        self.assertIsNone(mirrors.look(self.services, "topics"), self.says())
        body = filestore.fetch(self.services.web, self.store, "Plans/t.xlsx").body
        cell = openpyxl.load_workbook(io.BytesIO(body)).active["B2"]
        self.assertEqual((cell.value, cell.number_format), (2, "0.000"))


class Unkind(Elsewhere):
    def test_what_others_write_between_reading_and_writing_is_not_overwritten(self) -> None:
        key = self.sheet()
        self.write({self.rows()[0].id: {"State": "used"}})
        edited, meanwhile = mirrors.books.edited, [CSV.replace("Beans", "Broad beans")]

        def slow(*arguments: Any) -> bytes:
            if meanwhile:
                self.put(meanwhile.pop().encode())
            return edited(*arguments)

        fetched = mirrors.fetched
        for tagged in (True, False):
            with self.subTest(tagged=tagged):
                if not tagged:
                    # A store that knows no versions is at least looked at once more.
                    mirrors.fetched = lambda *a: mirrors._File(fetched(*a).body, "")
                    self.addCleanup(setattr, mirrors, "fetched", fetched)
                    meanwhile.append(self.there().replace("Broad", "Runner"))
                    self.write({self.rows()[0].id: {"State": "again"}})
                mirrors.books.edited = slow
                self.addCleanup(setattr, mirrors.books, "edited", edited)
                self.assertIsNone(mirrors.look(self.services, key))
                state, beans = ("used", "Broad beans") if tagged else ("again", "Runner beans")
                self.assertEqual(self.there(), f"Topic;State;Day\nPeas;{state};28.11.2026\n{beans};new;\n")
                self.assertEqual(self.topics(), ["Peas", beans])

    def test_an_answer_that_is_lost_after_writing_doubles_nothing(self) -> None:
        key = self.sheet()
        self.write(
            {self.rows()[0].id: {"State": "used"}}, ({"Topic": "Marrows", "State": "=x"}, {"Topic": "Marrows", "State": "=x"})
        )
        replace = filestore.replace

        def lost(*arguments: Any) -> str:
            replace(*arguments)
            filestore.replace = replace
            raise OutsideError("The line broke.", retryable=True, ambiguous=True)

        filestore.replace = lost
        self.addCleanup(setattr, filestore, "replace", replace)
        self.assertIsNotNone(mirrors.look(self.services, key))
        self.assertIn("line broke", self.says())
        self.assertIsNone(mirrors.look(self.services, key))
        self.assertEqual(self.there().count("Marrows"), 2)
        self.assertEqual(self.topics(), ["Peas", "Beans", "Marrows", "Marrows"])

    def test_nothing_a_spreadsheet_would_run_is_written_into_csv_and_it_stays_as_it_is_here(self) -> None:
        key = self.sheet()
        self.write({self.rows()[0].id: {"State": "=cmd()"}}, ({"Topic": "@sum"},))
        for _ in range(3):
            self.assertIsNone(mirrors.look(self.services, key))
            self.assertEqual(self.there(), "Topic;State;Day\nPeas;'=cmd();28.11.2026\nBeans;new;\n'@sum;;\n")
            self.assertEqual((self.rows()[0].cells["State"], self.topics()), ("=cmd()", ["Peas", "Beans", "@sum"]))

    def test_a_fault_of_ours_is_told_and_not_tried_at_every_tick(self) -> None:
        key, opened, met = self.sheet(), mirrors.books.opened, []

        def fails(*arguments: Any) -> Any:
            met.append(arguments)
            raise RuntimeError("a fault of ours")

        mirrors.books.opened = fails
        self.addCleanup(setattr, mirrors.books, "opened", opened)
        self.write({self.rows()[0].id: {"State": "used"}})
        self.engine.mirrors.tick(self.services.clock() + mirrors.LATER + 1)
        self.wait_for(lambda: "fault of its own" in self.says(key))
        for _ in range(3):
            self.engine.mirrors.tick(self.services.clock() + mirrors.LATER + 1)
        self.assertEqual(len(met), 1)

    def test_a_file_that_went_or_broke_is_told_and_nothing_is_lost(self) -> None:
        key = self.sheet()
        for body, words in ((b"", "no heading line"), (b"PK\x03\x04" + b"x" * 50, "unpacked")):
            self.put(body)
            self.assertIsNotNone(mirrors.look(self.services, key))
            self.assertIn(words, self.says())
            self.assertEqual(self.topics(), ["Peas", "Beans"])
        with self.services.store.write() as session:
            session.get_one(tables.OutsideSheet, key).place = "Plans/gone.csv"
        self.assertIsNotNone(mirrors.look(self.services, key))
        self.assertIn("no file", self.says())

    def test_a_published_table_is_read_and_takes_nothing(self) -> None:
        address = f"{self.town.url}/published/topics.csv"
        body = [CSV]
        fetch = self.services.web.fetch

        def published(url: str, **more: Any) -> Any:
            got = fetch(f"{self.town.url}/sites/furrow-letter/feed.rss") if url == address else fetch(url, **more)
            return got if url != address else type(got)(**{**vars(got), "body": body[0].encode(), "status": 200})

        self.services.web.fetch = published  # type: ignore[method-assign]
        key = mirrors.open_sheet(self.services, "Topics", "", address, 60)
        body[0] = CSV + "Leeks;;\n"
        mirrors.look(self.services, key)
        self.assertEqual(self.topics(), ["Peas", "Beans", "Leeks"])
        with self.assertRaisesRegex(ValueError, "only read"):
            self.write({self.rows()[0].id: {"State": "used"}})
        with self.services.store.write() as session:
            # What the house notes there itself, that a row was used, stays here and hinders nothing.
            row = session.get_one(tables.SheetRow, self.rows()[0].id)
            row.cells = {**row.cells, "State": "2026-11-28"}
        body[0] += "Marrows;;\n"
        for _ in range(2):
            self.assertIsNone(mirrors.look(self.services, key))
        self.assertEqual((self.rows()[0].cells["State"], self.topics()[-1]), ("2026-11-28", "Marrows"))
        with self.services.store.write() as session:
            _, left = records.undo(session, records.history(session, self.rows()[-1].id), records.By(1.0, who="Ines"))
        self.assertIn("only read", left[0])
        start = {"id": "start", "kind": "by_hand", "settings": {}}
        add = {"id": "add", "kind": "add_row", "settings": {"sheet": key, "cells": {"Topic": "x"}}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Add", "start": start, "steps": [add]})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.assertIn("only read", self.until(run, "failed").message)
