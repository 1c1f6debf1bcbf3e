"""Sheets: grids of typed columns. Cells are kept as they were typed; a type only says how a cell is shown and sorted."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.values import text as valid
from ..protocols import documents, opml
from ..protocols.documents import grids
from ..protocols.errors import OutsideError
from ..store import tables

MOST_ROWS = 100_000
MOST_COLUMNS = 100
LONGEST_CELL = 50_000
TYPES = ("text", "number", "date", "link", "choice")


def create(session: Session, name: str, columns: list[dict[str, str]]) -> tables.Sheet:
    """A new sheet. Raises `ValueError` in plain words."""
    _check_columns(columns)
    base = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:50] or "sheet"
    key, n = base, 2
    while session.get(tables.Sheet, key) is not None:
        key, n = f"{base}_{n}", n + 1
    sheet = tables.Sheet(key=key, name=name, columns=columns)
    session.add(sheet)
    session.flush()
    return sheet


def set_columns(session: Session, sheet: tables.Sheet, columns: list[dict[str, str]], renamed: dict[str, str]) -> None:
    """Change the columns; `renamed` maps old names to new ones, and cells follow. Cells of dropped columns are kept out of sight."""
    _check_columns(columns)
    sheet.columns = columns
    if renamed:
        for row in session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == sheet.key)):
            row.cells = {renamed.get(name, name): value for name, value in row.cells.items()}


def add_rows(session: Session, sheet: tables.Sheet, rows: list[dict[str, str]]) -> int:
    """Add rows at the end; gives how many. Raises `ValueError`."""
    last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet.key)) or 0
    if last + len(rows) > MOST_ROWS:
        raise ValueError(f"A sheet holds at most {MOST_ROWS:,} rows.")
    names = {c["name"] for c in sheet.columns}
    for i, cells in enumerate(rows, start=1):
        kept = {name: check_cell(value) for name, value in cells.items() if name in names}
        session.add(tables.SheetRow(sheet=sheet.key, position=last + i, cells=kept))
    return len(rows)


def check_cell(value: Any) -> str:
    """A cell's text. Raises `ValueError` where it is too long."""
    text = valid(str(value))
    if len(text) > LONGEST_CELL:
        raise ValueError(f"A cell holds at most {LONGEST_CELL:,} characters.")
    return text


def from_file(body: bytes, name: str) -> tuple[list[str], list[dict[str, str]]]:
    """Columns and rows of a file of rows (CSV, XLSX, ODS), or the feeds of a list of feeds (OPML). Raises `ValueError`."""
    try:
        if b"<opml" in body[:2000].lower():
            found = [{"Title": f.title, "Address": f.feed, "Site": f.site, "Folder": f.folder} for f in opml.parse(body)]
            if not found:
                raise ValueError("This list of feeds is empty.")
            return list(found[0]), found
        rows = documents.read(body, name).rows
    except OutsideError as error:
        raise ValueError(error.message) from None
    if not rows:
        raise ValueError("There is no table with a heading line in this file. Bring in CSV, XLSX, ODS or OPML.")
    return list(rows[0]), rows


def widen(sheet: tables.Sheet, names: list[str]) -> None:
    """Give a sheet the columns of these names that it lacks. Raises `ValueError`."""
    known = {c["name"] for c in sheet.columns}
    columns = [*sheet.columns, *({"name": name, "type": "text"} for name in names if name not in known)]
    _check_columns(columns)
    sheet.columns = columns


def to_file(sheet: tables.Sheet, rows: list[tables.SheetRow], kind: str) -> tuple[bytes, str]:
    """The sheet as a file (``csv``, ``xlsx`` or ``ods``), and its media type. Cells of a column of numbers are numbers where
    they can be."""
    write, media = grids.WRITERS[kind]
    columns = [(c["name"], c.get("type") == "number") for c in sheet.columns]
    cells = ([_typed(str(row.cells.get(name, "")), number) for name, number in columns] for row in rows)
    return write([name for name, _ in columns], cells), media


def _typed(cell: str, number: bool) -> str | float:
    plain = cell.strip().replace(",", ".") if number else ""
    return float(plain) if re.fullmatch(r"-?\d{1,15}(?:\.\d{1,12})?", plain) else cell


def _check_columns(columns: list[dict[str, str]]) -> None:
    names = [c.get("name", "").strip() for c in columns]
    if not names or not all(names):
        raise ValueError("Every column needs a name.")
    if len(set(names)) < len(names):
        raise ValueError("Two columns have the same name.")
    if len(names) > MOST_COLUMNS:
        raise ValueError(f"A sheet has at most {MOST_COLUMNS} columns.")
    if any(len(n) > 120 for n in names):
        raise ValueError("A column’s name has at most 120 characters.")
    if any(c.get("type", "text") not in TYPES for c in columns):
        raise ValueError("A column is of type text, number, date, link or choice.")
