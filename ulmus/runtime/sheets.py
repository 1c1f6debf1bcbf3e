"""Sheets: grids of typed columns. Cells are kept as they were written, or put as their type is where that can only be meant one way."""

from __future__ import annotations

import itertools
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from functools import lru_cache
from typing import Any, BinaryIO

from sqlalchemy import Integer, cast, func, literal_column, select
from sqlalchemy.orm import Session

from ..core import columns as typed
from ..core.values import text as valid
from ..protocols import documents, opml
from ..protocols.documents import grids
from ..protocols.errors import OutsideError
from ..steps.api import Row
from ..store import sight, tables, write_json
from . import sheetcells, sheetquery

MOST_ROWS = 1_000_000
MOST_COLUMNS = 100
LONGEST_CELL = 50_000
BLOCK = 2000


def create(session: Session, name: str, columns: list[dict[str, Any]], brand: str | None = None) -> tables.Sheet:
    """A new sheet, of a brand or the house's. Raises `ValueError` in plain words."""
    _check_columns(columns)
    base = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:50] or "sheet"
    key, n = base, 2
    with sight.everything():
        while session.get(tables.Sheet, key) is not None:
            key, n = f"{base}_{n}", n + 1
    sheet = tables.Sheet(key=key, name=name, columns=columns, brand=brand)
    session.add(sheet)
    session.flush()
    return sheet


def set_columns(session: Session, sheet: tables.Sheet, columns: list[dict[str, Any]], renamed: dict[str, str]) -> None:
    """Change the columns; `renamed` maps old names to new ones, and cells follow. Cells of dropped columns are kept out of sight."""
    _check_columns(columns)
    check_links(session, sheet.key, columns)
    if renamed and session.get(tables.OutsideSheet, sheet.key) is not None:
        raise ValueError("The columns of this sheet are named in its file; name them there.")
    sheet.columns = columns
    sheetquery.drop_indexes(session.connection(), sheet.key)
    if renamed:
        for row in session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == sheet.key)):
            row.cells = {renamed.get(name, name): value for name, value in row.cells.items()}
        _rename_elsewhere(session, sheet.key, renamed)


def remove(session: Session, sheet: tables.Sheet) -> None:
    """Delete a sheet with its rows and all that is told of them."""
    sheetquery.drop_indexes(session.connection(), sheet.key)
    session.delete(sheet)


def _rename_elsewhere(session: Session, sheet: str, renamed: dict[str, str]) -> None:
    """Names of columns in views, and in columns of other sheets that find rows here, follow."""

    def new(name: str) -> str:
        return renamed.get(name, name)

    for view in session.scalars(select(tables.SheetView).where(tables.SheetView.sheet == sheet)):
        shows = dict(view.shows)
        for one in ("sort", "group"):
            shows[one] = new(shows.get(one) or "")
        for one in ("hidden", "order"):
            shows[one] = [new(name) for name in shows.get(one) or []]
        for one in ("widths", "sums"):
            shows[one] = {new(name): value for name, value in (shows.get(one) or {}).items()}
        view.shows = {**shows, "where": [{**one, "column": new(one["column"])} for one in shows.get("where") or []]}
    for other in session.scalars(select(tables.Sheet).where(tables.Sheet.key != sheet)):
        if any((c.get("finds") or {}).get("sheet") == sheet for c in other.columns):
            other.columns = [
                {**c, "finds": {**c["finds"], "by": new(c["finds"]["by"])}} if (c.get("finds") or {}).get("sheet") == sheet else c
                for c in other.columns
            ]


def new_rows(session: Session, sheet: tables.Sheet, cells: list[dict[str, str]]) -> list[tables.SheetRow]:
    """Rows for the end of a sheet, not yet added. Raises `ValueError` where there is no room."""
    last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet.key)) or 0
    if held(session, sheet.key) + len(cells) > MOST_ROWS:
        raise ValueError(f"A sheet holds at most {MOST_ROWS:,} rows; “{sheet.name}” is full.")
    return [tables.SheetRow(sheet=sheet.key, position=last + n, cells=one) for n, one in enumerate(cells, start=1)]


def check_writable(session: Session, sheet: tables.Sheet) -> None:
    """Raises `ValueError` where a sheet is only read: it stands in a file that is published elsewhere."""
    outside = session.get(tables.OutsideSheet, sheet.key)
    if outside is not None and not outside.connection:
        raise ValueError(f"“{sheet.name}” is only read: it stands in a file that others publish.")


def held(session: Session, sheet: str) -> int:
    """How many rows a sheet has."""
    tally = tables.Tally
    return session.scalar(select(tally.n).where(tally.what == "rows", tally.of == sheet)) or 0


def add_rows(session: Session, sheet: tables.Sheet, rows: Iterable[Mapping[str, Any]]) -> int:
    """Add many rows at the end; gives how many. Raises `ValueError`."""
    puts = putter(sheet)
    return _insert(session, sheet, (write_json(puts(cells)) for cells in rows))


@contextmanager
def staged(sheet: tables.Sheet, rows: Iterable[Mapping[str, Any]], told: Callable[[int], None]) -> Iterator[Iterable[str]]:
    """Make many rows ready to be added, outside of the write lock and not in memory; says now and then how many are. Raises
    `ValueError`."""
    puts = putter(sheet)
    with tempfile.TemporaryFile("w+", encoding="utf-8") as file:
        for n, cells in enumerate(rows, start=1):
            if n > MOST_ROWS:
                raise ValueError(f"A sheet holds at most {MOST_ROWS:,} rows.")
            file.write(write_json(puts(cells)) + "\n")
            if n % BLOCK == 0:
                told(n)
        file.seek(0)
        yield file


def add_staged(session: Session, sheet: tables.Sheet, encoded: Iterable[str]) -> int:
    """Add rows that were made ready (see `staged`); gives how many. Raises `ValueError` where there is no room."""
    return _insert(session, sheet, encoded)


def _insert(session: Session, sheet: tables.Sheet, encoded: Iterable[str]) -> int:
    """Rows that come many at once are counted once for all; indexes are made anew when they are asked for."""
    check_writable(session, sheet)
    session.flush()
    connection = session.connection()
    first = (session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet.key)) or 0) + 1
    room = MOST_ROWS - held(session, sheet.key)
    change = connection.exec_driver_sql(
        "INSERT INTO tallies (what, of, state, n) VALUES ('row changes', '', '', 1) ON CONFLICT DO UPDATE SET n = n + 1 RETURNING n"
    ).scalar_one()
    each, count = iter(encoded), 0
    while block := tuple(itertools.islice(each, BLOCK)):
        if count + len(block) > room:
            raise ValueError(f"A sheet holds at most {MOST_ROWS:,} rows; “{sheet.name}” is full.")
        if count == 0 and len(block) == BLOCK:
            sheetquery.drop_indexes(connection, sheet.key)
        connection.exec_driver_sql(
            "INSERT INTO sheet_rows (sheet, position, cells, touched) VALUES (?, ?, ?, ?)",
            [(sheet.key, first + count + n, line.rstrip("\n"), change) for n, line in enumerate(block)],
        )
        count += len(block)
    connection.exec_driver_sql(
        "INSERT INTO tallies (what, of, state, n) VALUES ('rows', ?, '', ?) ON CONFLICT DO UPDATE SET n = n + excluded.n",
        (sheet.key, count),
    )
    return count


def putter(sheet: tables.Sheet) -> Callable[[Mapping[str, Any]], dict[str, str]]:
    """`put` for many rows."""
    kinds = {c["name"]: (str(c.get("type", "text")), tuple(c.get("choices") or ())) for c in sheet.columns}
    again = lru_cache(maxsize=4096)(typed.put)  # Dates and choices are short, and come again and again.

    def one(name: str, value: Any) -> str:
        (kind, choices), text = kinds[name], check_cell(value)
        if kind not in typed.PUT:
            return text
        return again(kind, text, choices) if len(text) < 40 else typed.put(kind, text, choices)

    def puts(cells: Mapping[str, Any]) -> dict[str, str]:
        return {name: one(name, value) for name, value in cells.items() if name in kinds}

    return puts


def put(sheet: tables.Sheet, cells: Mapping[str, Any]) -> dict[str, str]:
    """Cells as they are kept, those of columns the sheet has. Raises `ValueError` where one is too long."""
    return putter(sheet)(cells)


def wrong(sheet: tables.Sheet, cells: Mapping[str, Any]) -> dict[str, str]:
    """What is wrong with the cells of a row, by column."""
    found = {
        c["name"]: typed.wrong(str(c.get("type", "text")), str(cells.get(c["name"], "") or ""), c.get("choices") or ())
        for c in sheet.columns
    }
    return {name: words for name, words in found.items() if words}


def guessed(heads: list[str], rows: list[dict[str, str]]) -> list[dict[str, Any]]:
    """Columns with the types they seem to be of, by some rows."""
    out: list[dict[str, Any]] = []
    for head in heads:
        kind, choices = typed.guess([str(cells.get(head, "")) for cells in rows])
        out.append({"name": head, "type": kind} | ({"choices": choices} if choices else {}))
    return out


def check_cell(value: Any) -> str:
    """A cell's text. Raises `ValueError` where it is too long."""
    text = value if isinstance(value, str) and value.isascii() else valid(str(value))
    if len(text) > LONGEST_CELL:
        raise ValueError(f"A cell holds at most {LONGEST_CELL:,} characters.")
    return text


def from_file(file: BinaryIO, name: str) -> tuple[list[str], Iterator[dict[str, str]], list[str]]:
    """Columns and rows of a file of rows (CSV, XLSX, ODS), or the feeds of a list of feeds (OPML), and what could not be read of it.
    Raises `ValueError`."""
    try:
        opening = file.read(2000)
        file.seek(0)
        if b"<opml" in opening.lower():
            body = file.read(documents.LARGEST)
            found = [{"Title": f.title, "Address": f.feed, "Site": f.site, "Folder": f.folder} for f in opml.parse(body)]
            if not found:
                raise ValueError("This list of feeds is empty.")
            return list(found[0]), iter(found), []
        heads, rows, notes = documents.table(file, name)
    except OutsideError as error:
        raise ValueError(error.message) from None
    first = next(rows, None)
    if first is None:
        raise ValueError("There is no table with a heading line in this file. Bring in CSV, XLSX, ODS or OPML.")
    return heads, _plainly(itertools.chain([first], rows)), notes


def unused(session: Session, sheet: str, used: str, workflow_id: int, most: int) -> tuple[list[Row], int]:
    """The first rows of a sheet with nothing in the column `used`, that are not empty and no run of a workflow has in hand; and how
    many there are in all."""
    row, seen = tables.SheetRow, tables.Seen
    each = func.json_each(row.cells).table_valued("value")
    anything = select(each.c.value).where(func.trim(each.c.value) != "").correlate(row).exists()
    taken = select(cast(func.substr(seen.identity, 5), Integer)).where(
        seen.workflow_id == workflow_id, seen.identity.startswith("row:")
    )
    free = (
        row.sheet == sheet,
        literal_column(f"trim(coalesce({sheetcells.raw(used)}, ''))") == "",
        anything,
        row.id.not_in(taken),
    )
    first = select(row.id, row.position, row.cells).where(*free).order_by(row.position).limit(most)
    rows = [Row(id_, place, dict(cells)) for id_, place, cells in session.execute(first)]
    return rows, session.scalar(select(func.count()).select_from(row).where(*free)) or 0


def _plainly(rows: Iterator[dict[str, str]]) -> Iterator[dict[str, str]]:
    try:
        yield from rows
    except OutsideError as error:
        raise ValueError(error.message) from None


def widen(sheet: tables.Sheet, more: Iterable[Mapping[str, Any]]) -> None:
    """Give a sheet the columns that it lacks. Raises `ValueError`."""
    known = {c["name"] for c in sheet.columns}
    columns = [*sheet.columns, *(dict(one) for one in more if one["name"] not in known)]
    _check_columns(columns)
    sheet.columns = columns


def each_row(session: Session, sheet: str) -> Iterator[tables.SheetRow]:
    """The rows of a sheet as they stand, one by one."""
    row = tables.SheetRow
    wanted = select(row).where(row.sheet == sheet).order_by(row.position).execution_options(yield_per=BLOCK)
    for one in session.scalars(wanted):
        yield one
        session.expunge(one)


def to_file(sheet: tables.Sheet, rows: Iterable[tables.SheetRow], kind: str) -> tuple[bytes, str]:
    """The sheet as a file (``csv``, ``xlsx`` or ``ods``), and its media type. Cells of a column of numbers are numbers where
    they can be."""
    write, media = grids.WRITERS[kind]
    # In CSV a cell is what it looks like.
    columns = [(c["name"], c.get("type") == "number" and kind != "csv") for c in sheet.columns]
    cells = ([_typed(str(row.cells.get(name, "")), number) for name, number in columns] for row in rows)
    return write([name for name, _ in columns], cells), media


def _typed(cell: str, number: bool) -> str | float:
    plain = cell.strip().replace(",", ".") if number else ""
    return float(plain) if re.fullmatch(r"-?\d{1,15}(?:\.\d{1,12})?", plain) else cell


def check_links(session: Session, sheet: str, columns: list[dict[str, Any]]) -> None:
    """Raises `ValueError` where a column is to find a row of a sheet or by a column that is not there."""
    for name, finds in ((c["name"], c["finds"]) for c in columns if c.get("finds")):
        other = session.get(tables.Sheet, finds["sheet"])
        if other is None or other.key == sheet:
            raise ValueError(f"“{name}” is to find rows of another sheet; choose which.")
        if finds["by"] not in {c["name"] for c in other.columns}:
            raise ValueError(f"“{other.name}” has no column “{finds['by']}” to find its rows by.")


def _check_columns(columns: list[dict[str, Any]]) -> None:
    names = [c.get("name", "").strip() for c in columns]
    if not names or not all(names):
        raise ValueError("Every column needs a name.")
    if len(set(names)) < len(names):
        raise ValueError("Two columns have the same name.")
    if len(names) > MOST_COLUMNS:
        raise ValueError(f"A sheet has at most {MOST_COLUMNS} columns.")
    if any(len(n) > 120 for n in names):
        raise ValueError("A column’s name has at most 120 characters.")
    if any(c.get("type", "text") not in typed.TYPES for c in columns):
        raise ValueError(f"A column is of type {', '.join(typed.TYPES[:-1])} or {typed.TYPES[-1]}.")
    if any(len(c.get("choices") or ()) > 200 or any(len(one) > 120 for one in c.get("choices") or ()) for c in columns):
        raise ValueError("A column has at most 200 choices of at most 120 characters.")
