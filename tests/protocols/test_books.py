"""Single cells written into tables that others made: what is not written stays as it is, its look too."""

from __future__ import annotations

import io
import unittest
from typing import Any

import openpyxl
from openpyxl.styles import Font, PatternFill

from ulmus.protocols.documents import books, grids
from ulmus.protocols.errors import OutsideError


def xlsx() -> bytes:
    book = openpyxl.Workbook()
    book.active.title = "Empty"
    sheet = book.create_sheet("Leads")
    sheet["B2"], sheet["C2"], sheet["D2"] = "Name", "Staff", "Sum"
    sheet["B2"].font = Font(bold=True, color="FF0000")
    for n, (name, staff) in enumerate((("Varley", 12), ("Lock House", 7)), start=4):
        sheet.cell(n, 2, name).fill = PatternFill("solid", fgColor="FFEE00")
        sheet.cell(n, 3, staff).number_format = "0.00"
        sheet.cell(n, 4, f"=C{n}*2")
    sheet.column_dimensions["B"].width = 40
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


class Csv(unittest.TestCase):
    def test_signs_between_cells_line_ends_mark_and_blank_lines_stay(self) -> None:
        body = '\ufeffName;Note\r\n\r\nMüller;"a;b"\r\nLock;x\r\n'.encode()
        book = books.opened(body, "a.csv")
        self.assertEqual((book.heads, book.rows[0], book.lines), (["Name", "Note"], {"Name": "Müller", "Note": "a;b"}, [2, 3]))
        new = books.edited(body, book, [(1, "Note", 'said "y"'), (0, "State", "done")], [], [{"Name": "New", "State": "a"}])
        text = new.decode()
        self.assertEqual(
            text,
            '\ufeffName;Note;State\r\n\r\nMüller;"a;b";done\r\nLock;"said ""y"""\r\nNew;;a\r\n',
        )
        gone = books.edited(new, books.opened(new, "a.csv"), [], [0], [])
        self.assertEqual([row["Name"] for row in books.opened(gone, "a.csv").rows], ["Lock", "New"])

    def test_an_old_encoding_stays_as_long_as_it_can_say_it(self) -> None:
        body = "Name,Ort\nMüller,Öd am Bach\nJäger,Köln üö\n".encode("cp1252")
        book = books.opened(body, "a.csv")
        self.assertIn("Ü".encode("cp1252"), books.edited(body, book, [(0, "Ort", "Über")], [], []))
        self.assertEqual(books.opened(books.edited(body, book, [(0, "Ort", "種")], [], []), "a.csv").rows[0]["Ort"], "種")

    def test_what_is_no_table_is_told(self) -> None:
        for body, name in ((b"", "a.csv"), (b"\n\n", "a.csv"), (b"%PDF-1.4", "a.pdf"), (b"PK\x03\x04broken", "a.xlsx")):
            with self.subTest(name=name, body=body), self.assertRaises(OutsideError):
                books.opened(body, name)


class Xlsx(unittest.TestCase):
    def test_looks_formulas_and_places_stay(self) -> None:
        body = xlsx()
        book = books.opened(body, "leads.xlsx")
        self.assertEqual((book.heads[1:3], book.lines), (["Name", "Staff"], [4, 5]))
        new = books.edited(
            body,
            book,
            [(0, "Staff", "12,5"), (1, "Name", "=cmd()"), (0, "State", "done")],
            [],
            [{"Name": "New", "Staff": "3"}],
            frozenset(["Staff"]),
        )
        sheet = openpyxl.load_workbook(io.BytesIO(new))["Leads"]
        self.assertEqual((sheet["C4"].value, sheet["C4"].number_format, sheet["D4"].value), (12.5, "0.00", "=C4*2"))
        self.assertEqual((sheet["B5"].value, sheet["B5"].data_type), ("=cmd()", "s"))
        self.assertEqual(
            (sheet["B2"].font.b, sheet["B4"].fill.fgColor.rgb, sheet.column_dimensions["B"].width), (True, "00FFEE00", 40)
        )
        self.assertEqual((sheet["E2"].value, sheet["E4"].value), ("State", "done"))
        self.assertEqual((sheet["B6"].value, sheet["C6"].value, sheet["C6"].number_format), ("New", 3, "0.00"))
        self.assertEqual(sheet["B6"].fill.fgColor.rgb, "00FFEE00")
        again = books.opened(books.edited(new, books.opened(new, "a.xlsx"), [], [0], []), "a.xlsx")
        self.assertEqual([row["Name"] for row in again.rows], ["=cmd()", "New"])


class Ods(unittest.TestCase):
    def opened(self, body: bytes) -> list[dict[str, str]]:
        return books.opened(body, "a.ods").rows

    def test_cells_and_rows_that_stand_for_several_are_parted(self) -> None:
        body = grids.to_ods(["A", "B", "C"], [["x", "x", "x"], ["", "", ""], ["y", "", "z"], ["y", "", "z"], ["y", "", "z"]])
        body = self.repeated(body)
        book = books.opened(body, "a.ods")
        self.assertEqual([row["A"] for row in book.rows], ["x", "y", "y", "y"])
        new = books.edited(
            body, book, [(0, "B", "mid"), (2, "B", "only\nthis"), (3, "D", "4,5")], [1], [{"A": "new"}], frozenset(["D"])
        )
        told = [[row.get(name, "") for name in "ABCD"] for row in self.opened(new)]
        self.assertEqual(told, [["x", "mid", "x", ""], ["y", "only\nthis", "z", ""], ["y", "", "z", "4.5"], ["new", "", "", ""]])

    def repeated(self, body: bytes) -> bytes:
        """As office programs write it: like cells and like rows once, with a number."""
        from odf.opendocument import load
        from odf.table import Table, TableCell, TableRow

        book = load(io.BytesIO(body))
        table: Any = book.spreadsheet.getElementsByType(Table)[0]
        rows = table.getElementsByType(TableRow)
        first = rows[1].getElementsByType(TableCell)
        first[0].setAttribute("numbercolumnsrepeated", 3)
        for cell in first[1:]:
            rows[1].removeChild(cell)
        rows[3].setAttribute("numberrowsrepeated", 3)
        for row in rows[4:]:
            table.removeChild(row)
        out = io.BytesIO()
        book.write(out)
        return out.getvalue()
