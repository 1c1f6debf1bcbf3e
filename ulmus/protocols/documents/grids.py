"""Grids written as files: CSV (RFC 4180), Office Open XML (ISO/IEC 29500) and OpenDocument (ISO/IEC 26300).

Nothing in them is run by a spreadsheet: in CSV, where a cell is only what it looks like, what looks like a formula gets a
leading apostrophe; the others say of each cell that it is text or a number.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Sequence

_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")
_NUMBER = re.compile(r"[+-]?\d[\d.,\u00a0\u202f ]*%?")
_UNSEEN = r"[\s\u200b-\u200f\u2028-\u202e\u2060-\u2064\ufeff\u00ad\x00-\x1f\x7f-\x9f\"';,|]*"
_FORMULA = re.compile(rf"{_UNSEEN}[=+\-@\uff1d\uff0b\uff0d\uff20\u2212\ufe62\ufe63\ufe66\ufe6b]|[\t\r|]|DDE\b", re.IGNORECASE)
LONGEST_XLSX_CELL = 32_767
Rows = Iterable[Sequence[str | float]]


def to_csv(heads: Sequence[str], rows: Rows) -> bytes:
    """As CSV in UTF-8 with a byte order mark, by which spreadsheets know it."""
    out = io.StringIO()
    # All in quotes, so that whatever separator a spreadsheet guesses, no cell begins inside another.
    writer = csv.writer(out, quoting=csv.QUOTE_ALL)
    writer.writerow(map(harmless, heads))
    writer.writerows([harmless(str(cell)) for cell in row] for row in rows)
    return ("\ufeff" + out.getvalue()).encode()


def harmless(cell: str) -> str:
    """`cell` so that no spreadsheet runs it; plain negative and signed numbers stay as they are.

    Spreadsheets pass over white and unseen characters before a formula, and take full-width signs for plain ones.
    """
    return f"'{cell}" if _FORMULA.match(cell) and not _NUMBER.fullmatch(cell) else cell


def to_xlsx(heads: Sequence[str], rows: Rows) -> bytes:
    """As a workbook of one sheet; numbers are numbers, all else is text."""
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell

    book = Workbook(write_only=True)
    sheet = book.create_sheet("Sheet")
    sheet.freeze_panes = "A2"

    def cell(value: str | float) -> WriteOnlyCell:
        made = WriteOnlyCell(sheet, _clean(value)[:LONGEST_XLSX_CELL] if isinstance(value, str) else value)
        if isinstance(value, str):
            made.data_type = "s"  # also what begins with “=”
        return made

    for row in (heads, *rows):
        sheet.append([cell(value) for value in row])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def to_ods(heads: Sequence[str], rows: Rows) -> bytes:
    """As an OpenDocument spreadsheet of one table; numbers are numbers, all else is text."""
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.table import Table, TableCell, TableRow
    from odf.text import P

    book = OpenDocumentSpreadsheet()
    table = Table(name="Sheet")
    for row in (heads, *rows):
        line = TableRow()
        for value in row:
            cell = TableCell(valuetype="string") if isinstance(value, str) else TableCell(valuetype="float", value=str(value))
            for text in _clean(str(value)).split("\n"):
                cell.addElement(P(text=text))
            line.addElement(cell)
        table.addElement(line)
    book.spreadsheet.addElement(table)
    out = io.BytesIO()
    book.write(out)
    return out.getvalue()


def _clean(text: str) -> str:
    """Without what XML cannot hold."""
    return _CONTROL.sub("", text)


#: How a grid is written, and its media type, by the ending of the file.
WRITERS: dict[str, tuple[Callable[[Sequence[str], Rows], bytes], str]] = {
    "csv": (to_csv, "text/csv"),
    "xlsx": (to_xlsx, "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"),
    "ods": (to_ods, "application/vnd.oasis.opendocument.spreadsheet"),
}
