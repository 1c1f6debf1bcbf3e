"""Grids as files: what goes out can be read back, and no spreadsheet runs it."""

from __future__ import annotations

import csv
import io
import unittest

from hypothesis import given
from hypothesis import strategies as st
from openpyxl import load_workbook

from tests.short import examples
from ulmus.protocols import documents
from ulmus.protocols.documents import grids

CELLS = st.text(st.characters(blacklist_characters="\r\x00", blacklist_categories=("Cs",)), max_size=20)
FORMULAS = ("=1+1", "@SUM(A1)", "+cmd", "-2+3=", "\t=x", '=HYPERLINK("http://a.example";"x")')


class Csv(unittest.TestCase):
    def test_cells_cannot_be_formulas_by_accident(self) -> None:
        for cell in (*FORMULAS, "\r=x"):
            self.assertTrue(grids.harmless(cell).startswith("'"), cell)
        hidden = (
            " =1+1",
            "\u200b=1+1",
            "\ufeff@SUM(1)",
            "\uff1d1+1",
            "\u22121+1",
            "\u00a0+x",
            "\x00=x",
            "\n=x",
            "\t=x",
            "'=x",
            ";=x",
            "-2+3",
            "|x",
        )
        for cell in hidden:
            self.assertTrue(grids.harmless(cell).startswith("'"), repr(cell))
        for cell in ("-3.5", "+7", "plain", "", "12%", "1 = 1", "a\n- b", "“=” is a sign"):
            self.assertEqual(grids.harmless(cell), cell)

    def test_a_heading_cannot_be_one_either(self) -> None:
        self.assertIn("'=1+1", grids.to_csv(["=1+1"], []).decode("utf-8-sig"))

    def test_no_cell_begins_inside_another_whatever_the_separator(self) -> None:
        text = grids.to_csv(["A"], [["x;=1+1"], ["x\t=1+1"], ["x\n=1+1"], ["x|=1+1"]]).decode("utf-8-sig")
        for separator in ",;\t|":
            for row in csv.reader(io.StringIO(text, newline=""), delimiter=separator):
                self.assertEqual(len(row), 1, (separator, row))

    @given(st.lists(CELLS, min_size=2, max_size=2))
    def test_what_goes_out_can_be_read_back(self, cells: list[str]) -> None:
        read = list(csv.reader(io.StringIO(grids.to_csv(["A", "B"], [cells]).decode("utf-8-sig"), newline="")))
        self.assertEqual(read[1], [grids.harmless(c) for c in cells])


class Workbooks(unittest.TestCase):
    def test_formulas_are_texts_and_numbers_are_numbers(self) -> None:
        book = load_workbook(io.BytesIO(grids.to_xlsx(["Text", "Number"], [[f, 2.5] for f in FORMULAS])))
        for row, formula in zip(list(book.active.rows)[1:], FORMULAS, strict=True):
            self.assertEqual([(c.value, c.data_type) for c in row], [(formula, "s"), (2.5, "n")])

    def test_a_cell_longer_than_a_workbook_takes_is_cut_and_breaks_nothing(self) -> None:
        book = load_workbook(io.BytesIO(grids.to_xlsx(["A"], [["x" * 50_000]])))
        self.assertEqual(len(book.active["A2"].value), grids.LONGEST_XLSX_CELL)

    @given(st.lists(st.text(max_size=20), min_size=1, max_size=3))
    @examples(40)
    def test_any_text_makes_a_file_that_opens(self, cells: list[str]) -> None:
        cells = [c.encode("utf-8", "replace").decode() for c in cells]
        book = load_workbook(io.BytesIO(grids.to_xlsx(["A"] * len(cells), [cells])))
        self.assertEqual(book.active.max_row, 2)


class OpenDocument(unittest.TestCase):
    def test_what_goes_out_comes_in_again(self) -> None:
        rows = [["Beans & <peas>", "=1+1"], ["two\nlines", "-3"]]
        found = documents.read(grids.to_ods(["Name", "What"], rows), "x.ods").rows
        self.assertEqual([(r["Name"], r["What"]) for r in found], [(rows[0][0], "=1+1"), ("two\nlines", "-3")])

    def test_numbers_are_numbers(self) -> None:
        self.assertEqual(documents.read(grids.to_ods(["N"], [[2.5]]), "x.ods").rows, [{"N": "2.5"}])

    @given(st.text(max_size=20))
    @examples(30)
    def test_any_text_makes_a_file_that_opens(self, cell: str) -> None:
        cell = cell.encode("utf-8", "replace").decode()
        documents.read(grids.to_ods(["A", "B"], [[cell, "x"]]), "x.ods")
