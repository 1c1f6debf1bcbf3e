"""Sheets: what comes in by files, what goes out, and what is refused."""

from __future__ import annotations

import io
import tempfile
import unittest
from pathlib import Path

from openpyxl import Workbook, load_workbook
from sqlalchemy import select

from ulmus.protocols import opml
from ulmus.runtime import links, sheets
from ulmus.store import Sealer, Store, tables


class Sheets(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = Store(Path(folder.name))
        self.addCleanup(self.store.close)

    def new(self, *names: str) -> tables.Sheet:
        with self.store.write() as session:
            return sheets.create(session, "My sheet", [{"name": n, "type": "text"} for n in names])

    def test_keys_are_made_from_names_and_differ(self) -> None:
        self.assertEqual(self.new("A").key, "my_sheet")
        self.assertEqual(self.new("A").key, "my_sheet_2")

    def test_columns_that_cannot_be(self) -> None:
        for columns, words in (
            ([], "needs a name"),
            ([{"name": " "}], "needs a name"),
            ([{"name": "A"}, {"name": "A"}], "same name"),
            ([{"name": "A", "type": "colour"}], "of type"),
            ([{"name": "x" * 200}], "120"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(ValueError, words), self.store.write() as session:
                sheets.create(session, "S", columns)  # type: ignore[arg-type]

    def test_renaming_a_column_takes_its_cells_along(self) -> None:
        key = self.new("Old", "Kept").key
        with self.store.write() as session:
            sheet = session.get_one(tables.Sheet, key)
            sheets.add_rows(session, sheet, [{"Old": "1", "Kept": "2", "Unknown": "3"}])
        with self.store.write() as session:
            sheet = session.get_one(tables.Sheet, key)
            sheets.set_columns(session, sheet, [{"name": "New"}, {"name": "Kept"}], {"Old": "New"})
        with self.store.read() as session:
            self.assertEqual(session.scalars(select(tables.SheetRow)).one().cells, {"New": "1", "Kept": "2"})

    def test_rows_are_numbered_on(self) -> None:
        key = self.new("A").key
        for n in (2, 3):
            with self.store.write() as session:
                sheets.add_rows(session, session.get_one(tables.Sheet, key), [{"A": "x"}] * n)
        with self.store.read() as session:
            self.assertEqual(list(session.scalars(select(tables.SheetRow.position))), [1, 2, 3, 4, 5])

    def test_a_cell_too_long(self) -> None:
        with self.assertRaisesRegex(ValueError, "at most 50,000"):
            sheets.check_cell("x" * 50_001)

    def test_csv_in_with_other_separators(self) -> None:
        for text in ("A,B\n1,2\n", "A;B\n1;2\n", "A\tB\n1\t2\n", "A,B\r\n\r\n1,2"):
            with self.subTest(text=text):
                heads, rows, _ = sheets.from_file(io.BytesIO(text.encode()), "x.csv")
                self.assertEqual((heads, list(rows)), (["A", "B"], [{"A": "1", "B": "2"}]))

    def test_csv_in_an_old_encoding(self) -> None:
        text = "Name;Ort\nMüller;Öd am Bach\nGrün;Überfähre\n"
        self.assertEqual(
            next(sheets.from_file(io.BytesIO(text.encode("cp1252")), "x.csv")[1]), {"Name": "Müller", "Ort": "Öd am Bach"}
        )

    def test_a_workbook_in(self) -> None:
        book = Workbook()
        for line in (["Name", "Count"], ["Wyle", 10], ["Amblin", 9.5]):
            book.active.append(line)
        out = io.BytesIO()
        book.save(out)
        wanted = [{"Name": "Wyle", "Count": "10"}, {"Name": "Amblin", "Count": "9.5"}]
        heads, each, _ = sheets.from_file(io.BytesIO(out.getvalue()), "leads.xlsx")
        self.assertEqual((heads, list(each)), (["Name", "Count"], wanted))

    def test_a_list_of_feeds_in(self) -> None:
        feeds = [
            opml.Outline("Furrow", "http://a.example/feed", "http://a.example", "Growing"),
            opml.Outline("Tow", "http://b.example/f"),
        ]
        heads, each, _ = sheets.from_file(io.BytesIO(opml.write(feeds, "Feeds")), "feeds.opml")
        rows = list(each)
        self.assertEqual(heads, ["Title", "Address", "Site", "Folder"])
        self.assertEqual(
            [list(r.values()) for r in rows],
            [["Furrow", "http://a.example/feed", "http://a.example", "Growing"], ["Tow", "http://b.example/f", "", ""]],
        )

    def test_files_without_rows(self) -> None:
        for name, body in (
            ("x.csv", b""),
            ("x.csv", b"\n\n"),
            ("x.csv", b"A,B\n"),
            ("x.txt", b"Just words."),
            ("x.opml", b"<opml version='2.0'><body/></opml>"),
            ("x.xlsx", b"PK\x03\x04broken"),
        ):
            with self.subTest(name=name, body=body), self.assertRaises(ValueError):
                sheets.from_file(io.BytesIO(body), name)

    def test_a_file_with_more_columns_widens_the_sheet(self) -> None:
        sheet = tables.Sheet(key="s", name="S", columns=[{"name": "A", "type": "number"}])
        sheets.widen(sheet, [{"name": "B", "type": "text"}, {"name": "A", "type": "text"}])
        self.assertEqual(sheet.columns, [{"name": "A", "type": "number"}, {"name": "B", "type": "text"}])
        with self.assertRaisesRegex(ValueError, "columns"):
            sheets.widen(sheet, [{"name": f"C{n}", "type": "text"} for n in range(100)])

    def test_numbers_go_out_as_numbers_where_they_are(self) -> None:
        sheet = tables.Sheet(key="s", name="S", columns=[{"name": "A", "type": "number"}, {"name": "B", "type": "text"}])
        rows = [tables.SheetRow(cells=cells) for cells in ({"A": "2,5", "B": "7"}, {"A": "about 3", "B": ""}, {"B": "=1"})]
        body, media = sheets.to_file(sheet, rows, "xlsx")
        found = load_workbook(io.BytesIO(body)).active
        self.assertEqual([[c.value for c in row] for row in found.rows], [["A", "B"], [2.5, "7"], ["about 3", None], [None, "=1"]])
        self.assertIn("spreadsheetml", media)


class Signing(unittest.TestCase):
    def test_links_are_ours_whole_and_not_too_old(self) -> None:
        token = links.sign(b"key", 7, "ines@a.example")
        self.assertEqual(links.check(b"key", token), (7, "ines@a.example"))
        for wrong in (token[:-2], token + "x", "", "abc.def.ghi"):
            with self.subTest(wrong=wrong), self.assertRaises(links.LinkError):
                links.check(b"key", wrong)
        with self.assertRaises(links.LinkError):
            links.check(b"other", token)
        from unittest import mock

        with (
            mock.patch("itsdangerous.timed.time.time", return_value=4e9),
            self.assertRaisesRegex(links.LinkError, "older than 14 days"),
        ):
            links.check(b"key", token)

    def test_sealed_secrets_open_with_their_own_key_only(self) -> None:
        with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
            sealed = Sealer(Path(one)).seal({"token": "hush"})
            self.assertNotIn("hush", sealed)
            self.assertEqual(Sealer(Path(one)).open(sealed), {"token": "hush"})
            self.assertEqual(Sealer(Path(two)).open(sealed), {})
