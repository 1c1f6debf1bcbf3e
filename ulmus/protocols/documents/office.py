"""Office files: texts and tables in Office Open XML (ISO/IEC 29500) and OpenDocument (ISO/IEC 26300)."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from typing import Any

from ..errors import OutsideError
from .model import LONGEST_TEXT, MOST_HEADINGS, MOST_ROWS, MOST_TABLES, UNPACKED, Document, table_document


def packed_kind(body: bytes) -> str:
    """Which office file a ZIP is. Raises `OutsideError` for a damaged, locked or monstrous one."""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as packed:
            infos = packed.infolist()
            names = {info.filename for info in infos}
            size = sum(info.file_size for info in infos)
            if size > UNPACKED or len(infos) > 20_000:
                raise OutsideError(f"This file is more than {UNPACKED // 1_000_000} MB when unpacked.")
            if any(info.flag_bits & 1 for info in infos):
                raise OutsideError("This file is locked with a password.")
            kind = packed.read("mimetype")[:100].decode("ascii", "replace").strip() if "mimetype" in names else ""
            if "META-INF/manifest.xml" in names and b"encryption-data" in packed.read("META-INF/manifest.xml")[:2_000_000]:
                raise OutsideError("This file is locked with a password.")
    except (zipfile.BadZipFile, EOFError, OSError, ValueError, RuntimeError, NotImplementedError):
        raise OutsideError("This file is damaged: it cannot be unpacked.") from None
    if "word/document.xml" in names:
        return "docx"
    if "xl/workbook.xml" in names:
        return "xlsx"
    for ending, word in (("text", "odt"), ("spreadsheet", "ods")):
        if kind.startswith(f"application/vnd.oasis.opendocument.{ending}"):
            return word
    raise OutsideError("This is a packed file, but no document or table that can be read here.")


def read_docx(body: bytes) -> Document:
    """A text in Office Open XML. Raises `OutsideError`."""
    import docx
    from docx.table import Table

    try:
        found = docx.Document(io.BytesIO(body))
        parts, headings, tables = [], [], []
        for one in found.iter_inner_content():
            if isinstance(one, Table):
                cells = [[cell.text.strip() for cell in row.cells] for row in one.rows]
                tables.append(cells)
                parts.append("\n".join("\t".join(row) for row in cells))
                continue
            words = one.text.strip()
            style = (one.style.name or "") if one.style is not None else ""
            level = re.fullmatch(r"Heading (\d)|Title", style)
            if words and level:
                headings.append({"level": int(level.group(1) or 1), "words": words, "page": 0})
            parts.append(words)
        about = found.core_properties
        title, author = str(about.title or ""), str(about.author or "")
    except Exception as error:
        raise OutsideError(f"This DOCX is damaged and cannot be read ({type(error).__name__}).") from None
    return _written("docx", title, author, parts, headings, tables)


def read_odt(body: bytes) -> Document:
    """A text in OpenDocument. Raises `OutsideError`."""
    from odf import teletype
    from odf.opendocument import load as load_odf

    try:
        found = load_odf(io.BytesIO(body))
        parts, headings, tables = [], [], []
        for one in _odf_blocks(found.text):
            kind = one.qname[1]
            if kind == "table":
                cells = [list(_odf_row(row, teletype)) for row in _odf_all(one, "table-row")]
                tables.append(cells)
                parts.append("\n".join("\t".join(row) for row in cells))
                continue
            words = teletype.extractText(one).strip()
            if kind == "h" and words:
                level = one.getAttribute("outlinelevel")
                headings.append({"level": int(level or 1), "words": words, "page": 0})
            parts.append(words)
        title = next((teletype.extractText(one) for one in found.meta.childNodes if one.qname[1] == "title"), "")
    except Exception as error:
        raise OutsideError(f"This ODT is damaged and cannot be read ({type(error).__name__}).") from None
    return _written("odt", title, "", parts, headings, tables)


def _odf_blocks(node: Any) -> Iterator[Any]:
    for child in node.childNodes:
        name = getattr(child, "qname", ("", ""))[1]
        if name in ("h", "p", "table"):
            yield child
        elif getattr(child, "childNodes", None):
            yield from _odf_blocks(child)


def _odf_all(node: Any, name: str) -> Iterator[Any]:
    for child in getattr(node, "childNodes", []):
        if getattr(child, "qname", ("", ""))[1] == name:
            yield child
        else:
            yield from _odf_all(child, name)


def _odf_row(row: Any, teletype: Any, most: int = 400) -> Iterator[str]:
    count = 0
    for cell in _odf_all(row, "table-cell"):
        times = min(int(cell.getAttribute("numbercolumnsrepeated") or 1), most - count)
        words = "\n".join(teletype.extractText(part) for part in cell.childNodes).strip()
        for _ in range(times if words else min(times, 1)):
            yield words
        count += times
        if count >= most:
            return


def _written(kind: str, title: str, author: str, parts: list[str], headings: list[Any], tables: list[Any]) -> Document:
    text = re.sub(r"\n{3,}", "\n\n", "\n\n".join(part for part in parts if part)).strip()
    if not text:
        raise OutsideError("The file holds no text.")
    first = title.strip() or (headings[0]["words"] if headings else text.splitlines()[0])
    return Document(
        kind, first[:300], text[:LONGEST_TEXT], author.strip()[:300], [], headings[:MOST_HEADINGS], tables[:MOST_TABLES]
    )


def read_xlsx(body: bytes) -> Document:
    """A table in Office Open XML. Raises `OutsideError`."""
    import openpyxl

    try:
        book = openpyxl.load_workbook(io.BytesIO(body), read_only=True, data_only=True)
        sheets = {}
        left = MOST_ROWS + 1
        for sheet in book.worksheets[:MOST_TABLES]:
            lines = []
            for row in sheet.iter_rows(max_row=left, max_col=400, values_only=True):
                cells = [_cell(value) for value in row]
                while cells and not cells[-1]:
                    cells.pop()
                if cells:
                    lines.append(cells)
            sheets[sheet.title] = lines
    except Exception as error:
        raise OutsideError(f"This XLSX is damaged and cannot be read ({type(error).__name__}).") from None
    return _book("xlsx", sheets)


def read_ods(body: bytes) -> Document:
    """A table in OpenDocument. Raises `OutsideError`."""
    from odf import teletype
    from odf.opendocument import load as load_odf

    try:
        found = load_odf(io.BytesIO(body))
        sheets = {}
        for table in _odf_all(found.spreadsheet, "table"):
            lines = []
            for row in _odf_all(table, "table-row"):
                cells = list(_odf_row(row, teletype))
                while cells and not cells[-1]:
                    cells.pop()
                if cells:
                    lines.append(cells)
                if len(lines) > MOST_ROWS:
                    break
            sheets[table.getAttribute("name") or f"Sheet {len(sheets) + 1}"] = lines
    except Exception as error:
        raise OutsideError(f"This ODS is damaged and cannot be read ({type(error).__name__}).") from None
    return _book("ods", sheets)


def _book(kind: str, sheets: dict[str, list[list[str]]]) -> Document:
    """The first sheet with anything in it as rows; the others as tables."""
    filled = {name: lines for name, lines in sheets.items() if lines}
    if not filled:
        raise OutsideError("The table is empty.")
    name, lines = next(iter(filled.items()))
    return table_document(kind, name, lines, [one for other, one in filled.items() if other != name])


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return value.isoformat() if hasattr(value, "isoformat") else str(value).strip()
