"""Office files: texts and tables in Office Open XML (ISO/IEC 29500) and OpenDocument (ISO/IEC 26300)."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from typing import Any

from ..errors import BadAnswer, Refused, TooLarge
from .model import LONGEST_TEXT, MOST_HEADINGS, MOST_ROWS, MOST_TABLES, UNPACKED, Document, table_document


def packed_kind(body: bytes) -> str:
    """Which office file a ZIP is. Raises `OutsideError` for a damaged, locked or monstrous one."""
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as packed:
            infos = packed.infolist()
            names = {info.filename for info in infos}
            size = sum(info.file_size for info in infos)
            if size > UNPACKED or len(infos) > 20_000:
                raise TooLarge(f"This file is more than {UNPACKED // 1_000_000} MB when unpacked.")
            if any(info.flag_bits & 1 for info in infos):
                raise Refused("This file is locked with a password.")
            kind = packed.read("mimetype")[:100].decode("ascii", "replace").strip() if "mimetype" in names else ""
            if "META-INF/manifest.xml" in names and b"encryption-data" in packed.read("META-INF/manifest.xml")[:2_000_000]:
                raise Refused("This file is locked with a password.")
    except (zipfile.BadZipFile, EOFError, OSError, ValueError, RuntimeError, NotImplementedError):
        raise BadAnswer("This file is damaged: it cannot be unpacked.") from None
    if "word/document.xml" in names:
        return "docx"
    if "xl/workbook.xml" in names:
        return "xlsx"
    for ending, word in (("text", "odt"), ("spreadsheet", "ods")):
        if kind.startswith(f"application/vnd.oasis.opendocument.{ending}"):
            return word
    raise BadAnswer("This is a packed file, but no document or table that can be read here.")


def read_docx(body: bytes) -> Document:
    """A text in Office Open XML. Raises `OutsideError`."""
    import docx
    from docx.table import Table

    try:
        document = docx.Document(io.BytesIO(body))
        parts, headings, tables = [], [], []
        for one in document.iter_inner_content():
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
        about = document.core_properties
        title, author = str(about.title or ""), str(about.author or "")
    except Exception as error:
        raise BadAnswer(f"This DOCX is damaged and cannot be read ({type(error).__name__}).") from None
    return _written("docx", title, author, parts, headings, tables)


def read_odt(body: bytes) -> Document:
    """A text in OpenDocument. Raises `OutsideError`."""
    from odf import teletype
    from odf.opendocument import load as load_odf

    try:
        found = load_odf(io.BytesIO(body))
        parts, headings, tables = [], [], []
        for block in _odf_blocks(odf_body(found, "text")):
            kind = _local(block)
            if kind == "table":
                cells = _odf_rows(block, teletype, MOST_ROWS)
                tables.append(cells)
                parts.append("\n".join("\t".join(row) for row in cells))
                continue
            words = teletype.extractText(block).strip()
            if kind == "h" and words:
                level = block.getAttribute("outlinelevel")
                headings.append({"level": int(level or 1), "words": words, "page": 0})
            parts.append(words)
        title = next((teletype.extractText(childNode) for childNode in found.meta.childNodes if _local(childNode) == "title"), "")
    except Exception as error:
        raise BadAnswer(f"This ODT is damaged and cannot be read ({type(error).__name__}).") from None
    return _written("odt", title, "", parts, headings, tables)


def odf_body(found: Any, name: str) -> Any:
    """What a file holds; an indented file has spaces before it, which the library takes for it."""
    return next(odf_all(found.body, name))


def _odf_blocks(node: Any) -> Iterator[Any]:
    for child in node.childNodes:
        name = _local(child)
        if name in ("h", "p", "table"):
            yield child
        elif getattr(child, "childNodes", None):
            yield from _odf_blocks(child)


def odf_all(node: Any, *names: str) -> Iterator[Any]:
    """The elements of these names under a node, not those within them."""
    for child in getattr(node, "childNodes", []):
        if _local(child) in names:
            yield child
        else:
            yield from odf_all(child, *names)


def _local(node: Any) -> str:
    """A node's name without its namespace; empty for text, as of the spaces an indented file is full of."""
    return str((getattr(node, "qname", None) or ("", ""))[1])


def _odf_row(row: Any, teletype: Any, most: int = 400) -> list[str]:
    """The cells of a row, each where it stands: repeated ones as often as they are repeated, covered ones empty."""
    cells: list[str] = []
    for cell in odf_all(row, "table-cell", "covered-table-cell"):
        times = _times(cell, "number-columns-repeated")
        covered = _local(cell) == "covered-table-cell"
        words = (
            ""
            if covered
            else _odf_value(cell)
            or "\n".join(teletype.extractText(part) for part in cell.childNodes if _local(part) == "p").strip()
        )
        cells += [words] * min(times, most - len(cells))
        if len(cells) >= most:
            break
    while cells and not cells[-1]:
        cells.pop()
    return cells


def _odf_value(cell: Any) -> str:
    """What a cell holds that is no text, however it is shown (ODF 1.3 part 3, section 19.389); empty for a text."""
    held = {name: str(value) for (_, name), value in cell.attributes.items()}
    match held.get("value-type"):
        case "float" | "currency":
            number = held.get("value", "")
            return number.removesuffix(".0")
        case "date":
            return held.get("date-value", "").replace("T", " ").removesuffix(" 00:00:00")
        case "boolean":
            return {"true": "yes", "false": "no"}.get(held.get("boolean-value", ""), "")
    return ""


def odf_row_texts(row: Any) -> list[str]:
    """The cells of a row of an OpenDocument table as text."""
    from odf import teletype

    return _odf_row(row, teletype)


def _odf_rows(table: Any, teletype: Any, most: int) -> list[list[str]]:
    """The rows of a table; a repeated one as often as it is repeated, those without anything at the end left out."""
    lines: list[list[str]] = []
    for row in odf_all(table, "table-row"):
        cells = _odf_row(row, teletype)
        lines += [list(cells) for _ in range(min(_times(row, "number-rows-repeated") if cells else 1, most - len(lines)))]
        if len(lines) >= most:
            break
    while lines and not lines[-1]:
        lines.pop()
    return lines


def _times(node: Any, attribute: str) -> int:
    """How often a cell or row is repeated (ODF 1.3 part 3, section 19.675)."""
    found = next((value for (_, name), value in node.attributes.items() if name == attribute), 1)
    try:
        return max(1, int(found))
    except ValueError:
        return 1


def _written(kind: str, title: str, author: str, parts: list[str], headings: list[Any], tables: list[Any]) -> Document:
    text = re.sub(r"\n{3,}", "\n\n", "\n\n".join(part for part in parts if part)).strip()
    if not text:
        raise BadAnswer("The file holds no text.")
    first = title.strip() or (headings[0]["words"] if headings else text.splitlines()[0])
    return Document(
        kind, first[:300], text[:LONGEST_TEXT], author.strip()[:300], [], headings[:MOST_HEADINGS], tables[:MOST_TABLES]
    )


def read_xlsx(body: bytes) -> Document:
    """A table in Office Open XML. Raises `OutsideError`."""
    import openpyxl

    try:
        book = openpyxl.load_workbook(io.BytesIO(body), read_only=True, data_only=True)
        sheets: dict[str, Any] = {}
        left = MOST_ROWS + 1
        for sheet in book.worksheets[:MOST_TABLES]:
            lines = []
            for row in sheet.iter_rows(max_row=left, max_col=400, values_only=True):
                cells = [cell_text(value) for value in row]
                while cells and not cells[-1]:
                    cells.pop()
                if cells:
                    lines.append(cells)
            sheets[sheet.title] = lines
    except Exception as error:
        raise BadAnswer(f"This XLSX is damaged and cannot be read ({type(error).__name__}).") from None
    return _book("xlsx", sheets)


def read_ods(body: bytes) -> Document:
    """A table in OpenDocument. Raises `OutsideError`."""
    from odf import teletype
    from odf.opendocument import load as load_odf

    try:
        found = load_odf(io.BytesIO(body))
        sheets: dict[str, Any] = {}
        for table in odf_all(odf_body(found, "spreadsheet"), "table"):
            lines = [cells for cells in _odf_rows(table, teletype, MOST_ROWS + 1) if cells]
            sheets[table.getAttribute("name") or f"Sheet {len(sheets) + 1}"] = lines
    except Exception as error:
        raise BadAnswer(f"This ODS is damaged and cannot be read ({type(error).__name__}).") from None
    return _book("ods", sheets)


def _book(kind: str, sheets: dict[str, list[list[str]]]) -> Document:
    """The first sheet with anything in it as rows; the others as tables."""
    filled = {name: lines for name, lines in sheets.items() if lines}
    if not filled:
        raise BadAnswer("The table is empty.")
    name, lines = next(iter(filled.items()))
    return table_document(kind, name, lines, [one for other, one in filled.items() if other != name])


def cell_text(value: Any) -> str:
    """A cell of a workbook as text."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return value.isoformat() if hasattr(value, "isoformat") else str(value).strip()
