"""Files of every kind, and every way a file can be wrong."""

from __future__ import annotations

import io
import unittest
import zipfile

from fpdf import FPDF
from hypothesis import given
from hypothesis import strategies as st

from practice_town import reports
from tests.short import examples
from ulmus.protocols.documents import MOST_ROWS, kind_of, read
from ulmus.protocols.errors import OutsideError


def packed(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as box:
        for name, content in files.items():
            box.writestr(name, content)
    return out.getvalue()


class Pdf(unittest.TestCase):
    def test_text_in_order_with_headings_pages_and_tables(self) -> None:
        found = read(reports.pdf("seed-year.pdf"), "x.pdf")
        self.assertEqual(
            (found.kind, found.title, found.author), ("pdf", "The seed year: a report of the Wend valley", "Hedge Lane Press")
        )
        self.assertLess(found.text.index("borrow seed"), found.text.index("Trial of forty"))
        self.assertEqual(found.pages[0]["number"], 1)
        self.assertGreater(len(found.pages), 3)
        heads = [h["words"] for h in found.headings]
        self.assertEqual(heads[0], "The seed year: a report of the Wend valley")
        self.assertIn("What was saved", heads)
        self.assertIn("Trial of forty drought beans ends with three clear winners", heads)
        self.assertEqual(found.tables[0][1], ["Drought bean", "14", "61.5", "93"])

    def drawn(self, *rows: tuple[str, ...], align: str = "L", at: tuple[float, ...] = (20, 80, 140)) -> list[list[list[str]]]:
        """The tables found on a page with these rows set at these places, with a paragraph above."""
        page = FPDF()
        page.add_page()
        page.set_font("helvetica", size=11)
        page.multi_cell(0, 6, "The year in figures. What the members sowed, and what came of it, is told below. " * 3)
        for n, row in enumerate(rows):
            for x, cell in zip(at, row, strict=False):
                if cell:
                    page.set_xy(x, 60 + 7 * n)
                    page.cell(40, 6, cell, align=align)  # type: ignore[arg-type]
        return read(bytes(page.output()), "x.pdf").tables

    def test_a_table_is_told_by_where_its_cells_stand(self) -> None:
        rows = (("Month", "Guests", "Boats"), ("May", "210", "12"), ("June", "1,340", "114"), ("July", "512", "15"))
        self.assertEqual(self.drawn(*rows), [[list(row) for row in rows]])
        self.assertEqual(self.drawn(*rows, align="R"), [[list(row) for row in rows]], "set to the right")
        gap = (*rows[:2], ("June", "", "114"), rows[3])
        self.assertEqual(self.drawn(*gap)[0][2], ["June", "", "114"], "an empty cell stays empty")

    def test_what_only_stands_side_by_side_is_no_table(self) -> None:
        self.assertEqual(self.drawn(("Month", "Guests"), ("May", "210")), [], "two lines are too few")
        prose = tuple(("The seed was sown on the terraces in March", "and stood two dry summers without water") for _ in range(5))
        self.assertEqual(self.drawn(*prose, at=(10, 110)), [], "lines of prose in two columns")

    def test_scanned_locked_cut_and_false_ones_are_told_apart(self) -> None:
        whole = reports.pdf("seed-year.pdf")
        for body, words in (
            (reports.pdf("scanned.pdf"), "scanned"),
            (reports.pdf("locked.pdf"), "password"),
            (b"%PDF-1.7\nnothing more", "damaged"),
            (whole[:300], "damaged"),
        ):
            with self.subTest(words), self.assertRaisesRegex(OutsideError, words):
                read(body, "report.pdf")

    def test_of_a_cut_one_as_much_as_can_be_had(self) -> None:
        whole = reports.pdf("seed-year.pdf")
        try:
            self.assertTrue(read(whole[: len(whole) - 2000]).text)
        except OutsideError as error:
            self.assertIn("damaged", error.message)


class Office(unittest.TestCase):
    def test_docx_with_headings_and_tables(self) -> None:
        found = read(reports.seed_files()["briefs/spring-letter.docx"], "brief.docx")
        self.assertEqual((found.kind, found.title, found.author), ("docx", "Brief for the spring letter", "Ines Varga"))
        self.assertEqual([h["level"] for h in found.headings], [1, 2])
        self.assertEqual(found.tables[0][2], ["Sea kale", "120"])
        self.assertLess(found.text.index("three new varieties"), found.text.index("Drought bean"))

    def test_odt_and_ods(self) -> None:
        from odf.opendocument import OpenDocumentSpreadsheet, OpenDocumentText
        from odf.table import Table, TableCell, TableRow
        from odf.text import H, P

        text = OpenDocumentText()
        text.text.addElement(H(outlinelevel=1, text="Brief"))
        text.text.addElement(P(text="Say what is new."))
        out = io.BytesIO()
        text.save(out)
        found = read(out.getvalue(), "brief.odt")
        self.assertEqual((found.kind, found.title, found.headings[0]["words"]), ("odt", "Brief", "Brief"))
        self.assertIn("Say what is new.", found.text)
        book = OpenDocumentSpreadsheet()
        sheet = Table(name="Leads")
        for line in (("Name", "Town"), ("Bram", "Tillerby")):
            row = TableRow()
            for value in line:
                cell = TableCell(valuetype="string")
                cell.addElement(P(text=value))
                row.addElement(cell)
            row.addElement(TableCell(numbercolumnsrepeated=16000))
            sheet.addElement(row)
        book.spreadsheet.addElement(sheet)
        out = io.BytesIO()
        book.save(out)
        self.assertEqual(read(out.getvalue(), "x.ods").rows, [{"Name": "Bram", "Town": "Tillerby"}])

    def test_xlsx_with_numbers_dates_and_a_second_sheet(self) -> None:
        import datetime as dt

        import openpyxl

        book = openpyxl.Workbook()
        book.active.append(["Name", "Seeds", "Sown"])
        book.active.append(["Bean", 40.0, dt.date(2026, 3, 1)])
        book.create_sheet("More").append(["x", "y"])
        out = io.BytesIO()
        book.save(out)
        found = read(out.getvalue(), "x.xlsx")
        self.assertEqual(found.rows[0]["Name"], "Bean")
        self.assertEqual(found.rows[0]["Seeds"], "40")
        self.assertTrue(found.rows[0]["Sown"].startswith("2026-03-01"))
        self.assertEqual(found.tables, [[["x", "y"]]])


class Plain(unittest.TestCase):
    def test_csv_markdown_html_and_text(self) -> None:
        self.assertEqual(read(b"Name;Town\nBram;Tillerby\n", "x.csv").rows, [{"Name": "Bram", "Town": "Tillerby"}])
        self.assertEqual(read("Näme,Town\r\nBräm,\r\n".encode("cp1252"), "x.csv").rows, [{"Näme": "Bräm", "Town": ""}])
        self.assertEqual(read(b"# How we write\n\nPlain.\n", "x.md").headings[0]["words"], "How we write")
        page = read(
            b"<html><body><article><h1>Gates</h1><p>The new gates are of green oak, as the old ones were.</p></article></body></html>"
        )
        self.assertIn("green oak", page.text)
        self.assertEqual(read(b"One line.\nAnother.", "x.txt").title, "One line.")

    def test_a_long_table_is_cut_and_says_so(self) -> None:
        found = read(b"a,b\n" + b"1,2\n" * (MOST_ROWS + 10), "x.csv")
        self.assertEqual(len(found.rows), MOST_ROWS)
        self.assertIn("Only the first", found.notes[0])


class Wrong(unittest.TestCase):
    def test_each_is_refused_with_words(self) -> None:
        bomb = packed({"word/document.xml": b"0" * 400_000_000})
        for body, name, words in (
            (b"", "x.pdf", "empty"),
            (b"  \n", "x.txt", "empty"),
            (b"PK\x03\x04 nothing", "x.docx", "damaged"),
            (packed({"readme": b"x"}), "x.docx", "no document or table"),
            (packed({"word/document.xml": b"<broken"}), "x.docx", "damaged"),
            (packed({"xl/workbook.xml": b"<broken"}), "x.xlsx", "damaged"),
            (packed({"mimetype": b"application/vnd.oasis.opendocument.text", "content.xml": b"<"}), "x.odt", "damaged"),
            (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"x" * 600, "x.doc", "old office program"),
            (b"\x7fELF\x00\x00\x01", "x.txt", "no file with text"),
            (bomb, "x.docx", "unpacked"),
        ):
            with self.subTest(words, name=name), self.assertRaisesRegex(OutsideError, words):
                read(body, name)

    def test_what_it_is_goes_by_its_content_first(self) -> None:
        self.assertEqual(kind_of(b"%PDF-1.4 ...", "notes.txt", "text/plain"), "pdf")
        self.assertEqual(kind_of(b"<!doctype html><p>", "report.pdf", "application/pdf"), "html")

    def test_entities_do_not_grow(self) -> None:
        entities = (
            b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "%s">]><w:document xmlns:w="urn:x"><w:body>%s</w:body></w:document>'
            % (
                b"ha" * 1000,
                b"&a;" * 20_000,
            )
        )
        with self.assertRaises(OutsideError):
            read(packed({"word/document.xml": entities, "[Content_Types].xml": b"<Types/>"}), "x.docx")

    @given(st.binary(max_size=300), st.sampled_from(["x.csv", "x.txt", "x.md", "x.xyz", ""]))
    @examples(60)
    def test_no_bytes_break_it(self, body: bytes, name: str) -> None:
        try:
            self.assertIsInstance(read(body, name).text, str)
        except OutsideError as error:
            self.assertTrue(error.message)


if __name__ == "__main__":
    unittest.main()
