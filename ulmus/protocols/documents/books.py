"""A table in a file, opened so that single cells of it can be written: CSV, XLSX and ODS. What is not written stays as it is, its look
too, as far as the libraries keep it (charts and pictures in a workbook they do not)."""

from __future__ import annotations

import copy
import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..errors import BadAnswer, TooLarge
from ..text import decode
from ..workers import apart
from . import kind_of
from .grids import harmless
from .model import names_of, row_of
from .office import cell_text, odf_all, odf_body, odf_row_texts
from .plain import dialect_of

MOST_ROWS = 20_000
MOST_COLUMNS = 300


@dataclass(frozen=True)
class Book:
    """A table as it stands in a file: its columns, its rows, and the line of the file in which each stands."""

    kind: str
    heads: list[str]
    rows: list[dict[str, str]]
    lines: list[int]


def opened(body: bytes, name: str) -> Book:
    """Open a table. Raises `OutsideError`."""
    kind = kind_of(body, name, "")
    if kind not in _READ:
        raise BadAnswer("This is no table: CSV, XLSX and ODS can be opened as a sheet.")
    found: list[tuple[int, list[str]]] = apart(_READ[kind], body)
    if not found:
        raise BadAnswer("There is no heading line in this table yet. Name its columns in the first line.")
    if len(found) > MOST_ROWS + 1:
        raise TooLarge(f"A table elsewhere can have {MOST_ROWS:,} rows; bring this one in instead.")
    heads = names_of(found[0][1])
    return Book(kind, heads, [row_of(heads, cells) for _, cells in found[1:]], [line for line, _ in found[1:]])


def written(kind: str, text: str) -> str:
    """How a text stands in a file of a kind: in CSV a cell is only what it looks like, and none is to be run by a spreadsheet."""
    return harmless(text).strip() if kind == "csv" else text


def edited(
    body: bytes,
    book: Book,
    cells: Sequence[tuple[int, str, str]],
    gone: Sequence[int],
    added: Sequence[dict[str, str]],
    numbers: frozenset[str] = frozenset(),
) -> bytes:
    """The file with cells written (the row's index, the column, the text), rows taken out (by index) and rows added at the end.
    Columns it does not have come at its right. What is a number in a column of `numbers` is written as one. Raises `OutsideError`."""
    names = list(book.heads)
    for name in [name for _, name, _ in cells] + [name for row in added for name, text in row.items() if text]:
        if name not in names:
            names.append(name)
    if len(names) > MOST_COLUMNS:
        raise TooLarge(f"A table elsewhere can have {MOST_COLUMNS} columns.")
    column = {name: i for i, name in enumerate(names)}
    writes = [(book.lines[at], column[name], written(book.kind, text), name in numbers) for at, name, text in cells]
    heads = [(len(book.heads) + i, name) for i, name in enumerate(names[len(book.heads) :])]
    fresh = [[(written(book.kind, row.get(name, "")), name in numbers) for name in names] for row in added]
    return bytes(apart(_EDIT[book.kind], body, writes, heads, sorted(book.lines[at] for at in gone), fresh))


Writes = list[tuple[int, int, str, bool]]
Heads = list[tuple[int, str]]
Fresh = list[list[tuple[str, bool]]]


def _number(text: str, is_number: bool) -> float | str:
    if is_number and text.strip():
        plain = text.strip().replace(",", ".")
        try:
            value = float(plain)
        except ValueError:
            return text
        return int(value) if value.is_integer() and abs(value) < 1e15 else value
    return text


# -- CSV --------------------------------------------------------------------------------------------------


def _csv_lines(body: bytes) -> tuple[list[list[str]], Any]:
    text = decode(body)
    csv.field_size_limit(1_000_000)
    dialect = dialect_of(text[:8000])
    return [list(line) for line in csv.reader(io.StringIO(text, newline=""), dialect)], dialect


def _read_csv(body: bytes) -> list[tuple[int, list[str]]]:
    lines, _ = _csv_lines(body)
    return [(n, [cell.strip() for cell in line]) for n, line in enumerate(lines) if any(cell.strip() for cell in line)]


def _edit_csv(body: bytes, writes: Writes, heads: Heads, gone: list[int], fresh: Fresh) -> bytes:
    lines, dialect = _csv_lines(body)
    first = next(n for n, line in enumerate(lines) if any(cell.strip() for cell in line))
    for line, column, text, _ in [*writes, *((first, column, name, False) for column, name in heads)]:
        lines[line] += [""] * (column + 1 - len(lines[line]))
        lines[line][column] = text
    lines = [line for n, line in enumerate(lines) if n not in set(gone)] + [[text for text, _ in row] for row in fresh]
    out = io.StringIO()
    ends = "\r\n" if b"\r\n" in body else "\n"
    csv.writer(out, delimiter=dialect.delimiter, quoting=csv.QUOTE_MINIMAL, lineterminator=ends).writerows(lines)
    if body.startswith((b"\xff\xfe", b"\xfe\xff")):
        return out.getvalue().encode("utf-16")
    mark = b"\xef\xbb\xbf" if body.startswith(b"\xef\xbb\xbf") else b""
    try:
        body.decode()
        return mark + out.getvalue().encode()
    except UnicodeDecodeError:
        try:
            return out.getvalue().encode("windows-1252")
        except UnicodeEncodeError:
            return b"\xef\xbb\xbf" + out.getvalue().encode()


# -- XLSX -------------------------------------------------------------------------------------------------


def _first_xlsx(book: Any) -> Any:
    """The first sheet with anything in it."""
    for sheet in book.worksheets:
        most = min(200, sheet.max_row or 200)
        if any(value is not None for row in sheet.iter_rows(max_row=most, values_only=True) for value in row):
            return sheet
    raise BadAnswer("The table is empty.")


def _loaded_xlsx(body: bytes, **how: Any) -> Any:
    import openpyxl

    try:
        return openpyxl.load_workbook(io.BytesIO(body), **how)
    except Exception as error:
        raise BadAnswer(f"This XLSX is damaged and cannot be read ({type(error).__name__}).") from None


def _read_xlsx(body: bytes) -> list[tuple[int, list[str]]]:
    sheet = _first_xlsx(_loaded_xlsx(body, data_only=True, read_only=True))
    out: list[tuple[int, list[str]]] = []
    for n, row in enumerate(sheet.iter_rows(values_only=True), start=1):
        if len(out) > MOST_ROWS + 1:
            break
        cells = [cell_text(value) for value in row[:MOST_COLUMNS]]
        while cells and not cells[-1]:
            cells.pop()
        if cells:
            out.append((n, cells))
    return out


def _edit_xlsx(body: bytes, writes: Writes, heads: Heads, gone: list[int], fresh: Fresh) -> bytes:
    read = _read_xlsx(body)
    book = _loaded_xlsx(body)
    sheet = book[_first_xlsx(_loaded_xlsx(body, data_only=True, read_only=True)).title]
    first, last = read[0][0], read[-1][0]
    for column, name in heads:
        _put_xlsx(sheet, first, column, name, False, first, max(0, column - 1))
    for line, column, text, number in writes:
        _put_xlsx(sheet, line, column, text, number, None, column)
    for n, row in enumerate(fresh, start=1):
        for column, (text, number) in enumerate(row):
            if text:
                _put_xlsx(sheet, last + n, column, text, number, last if last > first else None, column)
    for line in reversed(gone):
        sheet.delete_rows(line)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _put_xlsx(sheet: Any, line: int, column: int, text: str, number: bool, like: int | None, like_column: int) -> None:
    cell = sheet.cell(line, column + 1)
    if like is not None:
        model = sheet.cell(like, like_column + 1)
        if model.has_style:
            cell._style = copy.copy(model._style)
    value = _number(text, number)
    cell.value = value if text else None
    if isinstance(value, str) and text:
        cell.data_type = "s"  # also what begins with “=”


# -- ODS --------------------------------------------------------------------------------------------------


def _loaded_ods(body: bytes) -> tuple[Any, Any]:
    from odf.opendocument import load

    try:
        book = load(io.BytesIO(body))
        for table in odf_all(odf_body(book, "spreadsheet"), "table"):
            if any(odf_row_texts(row) for row in _rows(table)[:200]):
                return book, table
    except Exception as error:
        raise BadAnswer(f"This ODS is damaged and cannot be read ({type(error).__name__}).") from None
    raise BadAnswer("The table is empty.")


def _rows(table: Any) -> list[Any]:
    return list(odf_all(table, "table-row"))


def _repeats(node: Any, what: str) -> int:
    try:
        return max(1, int(node.getAttribute(what) or 1))
    except ValueError:
        return 1


def _read_ods(body: bytes) -> list[tuple[int, list[str]]]:
    _, table = _loaded_ods(body)
    out, line = [], 0
    for row in _rows(table):
        cells, times = odf_row_texts(row), _repeats(row, "numberrowsrepeated")
        if cells:
            for n in range(min(times, MOST_ROWS + 2)):
                out.append((line + n, list(cells)))
        line += times
    return out


def _edit_ods(body: bytes, writes: Writes, heads: Heads, gone: list[int], fresh: Fresh) -> bytes:
    from odf.table import TableRow

    read = _read_ods(body)
    book, table = _loaded_ods(body)
    wanted = {line for line, *_ in writes} | {read[0][0]} | set(gone)
    rows = _single(table, wanted)
    for line, column, text, number in [*writes, *((read[0][0], column, name, False) for column, name in heads)]:
        _put_ods(rows[line], column, text, number)
    end = _row_at(table, read[-1][0])
    for row in fresh:
        made = TableRow(stylename=end.getAttribute("stylename")) if end is not None else TableRow()
        for column, (text, number) in enumerate(row):
            _put_ods(made, column, text, number)
        _after(table, end, made)
        end = made
    for line in gone:
        rows[line].parentNode.removeChild(rows[line])
    # The library takes the spaces of an indented file for elements there.
    book.meta.childNodes = [node for node in book.meta.childNodes if getattr(node, "qname", None) is not None]
    out = io.BytesIO()
    book.write(out)
    return out.getvalue()


def _single(table: Any, wanted: set[int]) -> dict[int, Any]:
    """The rows of these lines, each by itself; one that stands for several is parted."""
    found: dict[int, Any] = {}
    line = 0
    for row in _rows(table):
        times = _repeats(row, "numberrowsrepeated")
        mine = sorted(n for n in wanted if line <= n < line + times)
        if mine and times > 1:
            at, before = line, row
            parts: list[tuple[int, int]] = []
            for n in mine:
                parts += [(at, n - at)] if n > at else []
                parts.append((n, 1))
                at = n + 1
            parts += [(at, line + times - at)] if at < line + times else []
            for start, count in parts:
                made = _copied(row)
                _set_repeats(made, "numberrowsrepeated", count)
                _after(table, before, made)
                before = made
                if count == 1 and start in mine:
                    found[start] = made
            row.parentNode.removeChild(row)
        elif mine:
            found[line] = row
        line += times
    return found


def _row_at(table: Any, wanted: int) -> Any:
    """The row in which a line stands, with others like it."""
    line = 0
    for row in _rows(table):
        line += _repeats(row, "numberrowsrepeated")
        if wanted < line:
            return row
    return None


def _after(table: Any, row: Any, made: Any) -> None:
    if row is None:
        table.addElement(made)
        return
    parent = row.parentNode
    following = row.nextSibling
    if following is None:
        parent.addElement(made)
    else:
        parent.insertBefore(made, following)


def _copied(node: Any) -> Any:
    from odf.element import Element, Text

    if node.nodeType in (Element.TEXT_NODE, Element.CDATA_SECTION_NODE):
        return Text(node.data)
    made = Element(qname=node.qname, check_grammar=False)
    made.attributes = dict(node.attributes)
    for child in node.childNodes:
        made.appendChild(_copied(child))
    return made


def _set_repeats(node: Any, what: str, count: int) -> None:
    from odf.namespaces import TABLENS

    name = (TABLENS, "number-rows-repeated" if what == "numberrowsrepeated" else "number-columns-repeated")
    if count > 1:
        node.attributes[name] = str(count)
    else:
        node.attributes.pop(name, None)


def _put_ods(row: Any, column: int, text: str, number: bool) -> None:
    """Write a cell of a row; one that stands for several is parted, cells up to it are made."""
    from odf.namespaces import OFFICENS
    from odf.table import TableCell
    from odf.text import P

    at = 0
    for cell in list(odf_all(row, "table-cell", "covered-table-cell")):
        times = _repeats(cell, "numbercolumnsrepeated")
        if column >= at + times:
            at += times
            continue
        if times > 1:
            for count in (column - at, 1, at + times - column - 1):
                if count:
                    made = _copied(cell)
                    _set_repeats(made, "numbercolumnsrepeated", count)
                    row.insertBefore(made, cell)
                    target = made if count == 1 and made is not None else None
                    if target is not None and _place_of(row, made) == column:
                        chosen = made
            row.removeChild(cell)
            cell = chosen
        break
    else:
        if column > at:
            gap = TableCell()
            _set_repeats(gap, "numbercolumnsrepeated", column - at)
            row.addElement(gap)
        cell = TableCell()
        row.addElement(cell)
    for child in list(cell.childNodes):
        cell.removeChild(child)
    for name in [name for name in cell.attributes if name[0] == OFFICENS or name[1] == "formula"]:
        del cell.attributes[name]
    if not text:
        return
    value = _number(text, number)
    if isinstance(value, str):
        cell.attributes[(OFFICENS, "value-type")] = "string"
    else:
        cell.attributes[(OFFICENS, "value-type")] = "float"
        cell.attributes[(OFFICENS, "value")] = str(value)
    for part in text.split("\n"):
        cell.addElement(P(text=part), check_grammar=False)


def _place_of(row: Any, wanted: Any) -> int:
    at = 0
    for cell in odf_all(row, "table-cell", "covered-table-cell"):
        if cell is wanted:
            return at
        at += _repeats(cell, "numbercolumnsrepeated")
    return at


_READ = {"csv": _read_csv, "xlsx": _read_xlsx, "ods": _read_ods}
_EDIT = {"csv": _edit_csv, "xlsx": _edit_xlsx, "ods": _edit_ods}
