"""Sheets as real spreadsheet programs write and read them: cell by cell, both ways, and cells written into their files."""

from __future__ import annotations

import csv
import io
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from ulmus.protocols.documents import books, grids, read, table

HEADS = ["Name", "Staff", "Note", "Day", "Formula-like"]
ROWS: list[list[str | float]] = [
    ["Müller & Söhne", 12, "two\nlines", "2026-11-28", "=1+1"],
    ["Зерно", 7.5, 'said "yes", twice', "2026-01-02 09:30", "+49 30 1234"],
    ["種", -3, "  space around ", "", "@home"],
    ["", 1000000, "tab\tinside", "2026-02-29", "-"],
]


def program() -> list[str]:
    return [name for name in ("soffice", "ssconvert") if shutil.which(name)]


def converted(by: str, body: bytes, kind: str, to: str) -> bytes:
    """A file as a spreadsheet program reads it and writes it again."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source = folder / f"in.{kind}"
        source.write_bytes(body)
        out = folder / "out" / f"in.{to}"
        out.parent.mkdir()
        if by == "soffice":
            form = 'csv:"Text - txt - csv (StarCalc)":44,34,76,1,,0,false,true,false' if to == "csv" else to
            given = ["--infilter=CSV:44,34,76,1"] if kind == "csv" else []
            command = ["soffice", f"-env:UserInstallation=file://{folder}/profile", "--headless", *given]
            command += ["--convert-to", form.replace('"', ""), "--outdir", str(out.parent), str(source)]
        else:
            command = ["ssconvert", str(source), str(out)]
        subprocess.run(
            command, check=True, capture_output=True, timeout=180, env={"HOME": name, "PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"}
        )
        return out.read_bytes()


def as_text(rows: list[list[str | float]]) -> list[list[str]]:
    return [[str(int(c)) if isinstance(c, float) and c.is_integer() else str(c) for c in row] for row in rows]


@unittest.skipUnless(program(), "no spreadsheet program is installed here")
class Office(unittest.TestCase):
    def test_what_is_taken_out_is_read_by_them_cell_by_cell(self) -> None:
        for by in program():
            for kind in ("xlsx", "ods", "csv"):
                with self.subTest(by=by, kind=kind):
                    body = grids.WRITERS[kind][0](HEADS, ROWS)
                    text = converted(by, body, kind, "csv").decode("utf-8-sig")
                    told = [line for line in csv.reader(io.StringIO(text, newline="")) if any(line)]
                    self.assertEqual(told[0], HEADS)
                    for had, row in zip(told[1:], as_text(ROWS), strict=True):
                        for name, cell, wanted in zip(HEADS, had, row, strict=True):
                            with self.subTest(cell=wanted):
                                self.assertEqual(self.plain(cell), self.plain(wanted), name)

    def plain(self, cell: str) -> str:
        """What a cell says: CSV keeps a leading apostrophe before what looks like a formula; space at its ends does not count."""
        plain = cell.removeprefix("'").replace("\t", " ").strip()
        # A date in CSV is one to them as well, and is shown in their way.
        return re.sub(r"^(\d{4})/(\d\d)/(\d\d)", r"\1-\2-\3", plain).removesuffix(":00")

    def test_what_they_write_is_brought_in_cell_by_cell(self) -> None:
        for by in program():
            for kind in ("xlsx", "ods"):
                with self.subTest(by=by, kind=kind):
                    theirs = converted(by, grids.to_xlsx(HEADS, ROWS), "xlsx", kind)
                    heads, rows, _ = table(io.BytesIO(theirs), f"a.{kind}")
                    self.assertEqual(heads, HEADS)
                    for had, wanted in zip(rows, as_text(ROWS), strict=True):
                        self.assertEqual([self.plain(had[name]) for name in HEADS], [self.plain(cell) for cell in wanted])

    def test_cells_written_into_their_files_are_read_by_them(self) -> None:
        for by in program():
            for kind in ("xlsx", "ods", "csv"):
                with self.subTest(by=by, kind=kind):
                    first = grids.to_xlsx(HEADS, ROWS)
                    theirs = converted(by, first, "xlsx", kind)
                    book = books.opened(theirs, f"a.{kind}")
                    new = books.edited(
                        theirs,
                        book,
                        [(0, "Staff", "13"), (1, "Note", "=cmd"), (2, "State", "done")],
                        [3],
                        [{"Name": "New", "Staff": "5"}],
                        frozenset(["Staff"]),
                    )
                    back = converted(by, new, kind, "xlsx")
                    rows = read(back, "a.xlsx").rows
                    self.assertEqual([row["Name"] for row in rows], ["Müller & Söhne", "Зерно", "種", "New"])
                    self.assertEqual((rows[0]["Staff"], rows[3]["Staff"], rows[2]["State"]), ("13", "5", "done"))
                    self.assertEqual((rows[1]["Day"][:10], rows[0]["Note"]), ("2026-01-02", "two\nlines"))
                    if kind != "csv":
                        self.assertEqual(rows[1]["Note"], "=cmd")
