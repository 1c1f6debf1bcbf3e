"""Files: the text of PDF, DOCX, ODT, HTML, Markdown and plain text; CSV, XLSX and ODS as rows.

What a file is follows from its content first and its name second. Reading happens apart, in a process with limits, since
files may be made to do harm.
"""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from .aside import apart
from .errors import OutsideError
from .text import decode

LARGEST = 60_000_000
UNPACKED = 300_000_000
MOST_PAGES = 200
MOST_ROWS = 50_000
MOST_TABLES = 100
MOST_HEADINGS = 500
LONGEST_TEXT = 3_000_000
KINDS = {
    "pdf": "PDF",
    "docx": "DOCX",
    "odt": "ODT",
    "html": "HTML",
    "md": "Markdown",
    "txt": "text",
    "csv": "CSV",
    "xlsx": "XLSX",
    "ods": "ODS",
}


@dataclass(frozen=True)
class Document:
    """A file as read. `pages` are (number, text) of a PDF; `headings` (level, words, page); `tables` lists of rows of cells;
    `rows` the first table of a sheet by its heading line; `notes` say what could not be had."""

    kind: str
    title: str
    text: str
    author: str = ""
    pages: list[dict[str, Any]] = field(default_factory=list)
    headings: list[dict[str, Any]] = field(default_factory=list)
    tables: list[list[list[str]]] = field(default_factory=list)
    rows: list[dict[str, str]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def read(body: bytes, name: str = "", content_type: str = "", charset: str | None = None) -> Document:
    """The document in `body`. Raises `OutsideError` with a reason in words."""
    if not body.strip():
        raise OutsideError("The file is empty.")
    if len(body) > LARGEST:
        raise OutsideError(f"The file is larger than {LARGEST // 1_000_000} MB.")
    kind = kind_of(body, name, content_type)
    if kind in ("txt", "md"):
        return _text(kind, body, charset)
    return apart(_read, kind, body, charset)


def kind_of(body: bytes, name: str, content_type: str) -> str:
    """What a file is: by how it begins, then by its type, then by its name. Raises `OutsideError` for other kinds."""
    ending = name.rsplit(".", 1)[-1].lower() if "." in name else ""
    head = body[:2048].lstrip()
    if body[:1024].find(b"%PDF-") >= 0:
        return "pdf"
    if body[:4] == b"PK\x03\x04":
        return _packed_kind(body)
    if body[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        raise OutsideError(
            "This is a file of an old office program, or one locked with a password. Save it as DOCX or XLSX without one."
        )
    if head[:5].lower() in (b"<!doc", b"<html") or content_type in ("text/html", "application/xhtml+xml"):
        return "html"
    if b"\x00" in body[:2048] and body[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        raise OutsideError(
            "This is no file with text that can be read here. It reads PDF, DOCX, ODT, HTML, Markdown, text, CSV, XLSX and ODS."
        )
    if ending in ("csv", "tsv") or content_type in ("text/csv", "text/tab-separated-values"):
        return "csv"
    if ending in ("md", "markdown") or content_type == "text/markdown":
        return "md"
    return "html" if ending in ("html", "htm") else "txt"


def load() -> None:
    """Load what reading files needs."""
    import pypdf  # noqa: F401


def _read(kind: str, body: bytes, charset: str | None) -> Document:
    return (
        {"pdf": _pdf, "docx": _docx, "odt": _odt, "xlsx": _xlsx, "ods": _ods}[kind](body)
        if kind in _BINARY
        else (_html(body, charset) if kind == "html" else _csv(body, charset))
    )


_BINARY = frozenset(("pdf", "docx", "odt", "xlsx", "ods"))


# -- text ---------------------------------------------------------------------------------------------


def _text(kind: str, body: bytes, charset: str | None) -> Document:
    text = decode(body, charset).strip()
    headings = []
    if kind == "md":
        for found in re.finditer(r"^(#{1,6})\s+(.+?)\s*#*$", text, re.MULTILINE):
            headings.append({"level": len(found.group(1)), "words": found.group(2), "page": 0})
    first = headings[0]["words"] if headings else (text.splitlines() or [""])[0]
    return Document(kind, str(first)[:200], text[:LONGEST_TEXT], headings=headings[:MOST_HEADINGS])


def _html(body: bytes, charset: str | None) -> Document:
    from . import pages

    source = decode(body, charset)
    page = pages.from_html(source)
    tree = pages._tree(source)
    headings = [
        {"level": int(one.tag[1]), "words": words, "page": 0}
        for one in tree.iter("h1", "h2", "h3", "h4", "h5", "h6")
        if (words := " ".join("".join(one.itertext()).split()))
    ]
    tables = [
        [[" ".join("".join(cell.itertext()).split()) for cell in row.iter("td", "th")] for row in table.iter("tr")]
        for table in list(tree.iter("table"))[:MOST_TABLES]
    ]
    return Document("html", page.title, page.text, page.author, headings=headings[:MOST_HEADINGS], tables=tables)


def _csv(body: bytes, charset: str | None) -> Document:
    text = decode(body, charset)
    csv.field_size_limit(1_000_000)
    try:
        dialect: Any = csv.Sniffer().sniff(text[:8000], ",;\t|")
    except csv.Error:
        dialect = csv.excel
    lines = []
    try:
        for line in csv.reader(io.StringIO(text), dialect):
            if any(cell.strip() for cell in line):
                lines.append([cell.strip() for cell in line])
            if len(lines) > MOST_ROWS:
                break
    except csv.Error as error:
        raise OutsideError(f"This is not a table that can be read ({error}).") from None
    return _table_document("csv", "", lines)


def _table_document(kind: str, title: str, lines: list[list[str]], more: list[list[list[str]]] | None = None) -> Document:
    """Rows by the names in the first line; a name used twice gets a number."""
    if not lines:
        raise OutsideError("The table is empty.")
    notes = [f"Only the first {MOST_ROWS:,} rows were read."] if len(lines) > MOST_ROWS else []
    names: list[str] = []
    for i, head in enumerate(lines[0], start=1):
        base = head.strip() or f"Column {i}"
        names.append(base if base not in names else f"{base} {i}")
    rows = [dict(zip(names, [*line, *[""] * (len(names) - len(line))], strict=False)) for line in lines[1 : MOST_ROWS + 1]]
    text = "\n".join("\t".join(line) for line in lines[:5000])
    return Document(kind, title, text[:LONGEST_TEXT], tables=(more or [])[:MOST_TABLES], rows=rows, notes=notes)


# -- PDF ----------------------------------------------------------------------------------------------


def _pdf(body: bytes) -> Document:
    import logging

    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    try:
        reader = PdfReader(io.BytesIO(body), strict=False)
        if reader.is_encrypted and not reader.decrypt(""):
            raise OutsideError("This PDF is locked with a password.")
        count = len(reader.pages)
        about = reader.metadata
    except OutsideError:
        raise
    except Exception as error:
        raise OutsideError(f"This PDF is damaged and cannot be read ({type(error).__name__}).") from None
    pages, lines, failed, empty = [], [], 0, 0
    for number in range(1, min(count, MOST_PAGES) + 1):
        sized: list[tuple[float, str]] = []
        try:
            text = reader.pages[number - 1].extract_text(visitor_text=_sizes(sized)) or ""
        except (PyPdfError, Exception):
            failed += 1
            continue
        text = _tidy(text)
        empty += not text
        pages.append({"number": number, "text": text})
        lines += [(number, size, words) for size, words in _lines(sized)]
    if not any(page["text"] for page in pages):
        if failed:
            raise OutsideError("This PDF is damaged: none of its pages can be read.")
        raise OutsideError("This PDF holds pictures of pages and no text. It was scanned; have its text recognised first.")
    notes = []
    if count > MOST_PAGES:
        notes.append(f"Only the first {MOST_PAGES} of {count} pages were read.")
    if failed:
        notes.append(f"{failed} page{'s' if failed > 1 else ''} could not be read.")
    if empty:
        notes.append(f"{empty} page{'s hold' if empty > 1 else ' holds'} no text; scanned, perhaps.")
    headings = _headings(lines)
    title = str(getattr(about, "title", "") or "").strip() or (headings[0]["words"] if headings else "")
    text = "\n\n".join(page["text"] for page in pages if page["text"])
    tables = [table for page in pages for table in _tables(page["text"])]
    return Document(
        "pdf",
        title[:300],
        text[:LONGEST_TEXT],
        str(getattr(about, "author", "") or "").strip()[:300],
        pages,
        headings,
        tables[:MOST_TABLES],
        notes=notes,
    )


def _sizes(out: list[tuple[float, str]]) -> Any:
    """A visitor that notes each piece of text with the size it is set in."""
    note = out.append

    def visit(text: str, cm: Any, tm: Any, font: Any, size: Any) -> None:
        if text:
            note(((size or 0.0) * (tm[3] or tm[0]) * (cm[3] or 1.0), text))

    return visit


def _lines(sized: list[tuple[float, str]]) -> Iterator[tuple[float, str]]:
    """Pieces put together to lines, each with the size most of it is set in."""
    line: list[tuple[float, str]] = []
    for size, text in [*sized, (0.0, "\n")]:
        parts = text.split("\n")
        for i, part in enumerate(parts):
            if i and line:
                words = " ".join("".join(t for _, t in line).split())
                if words:
                    yield abs(round(max(line, key=lambda one: len(one[1]))[0], 1)), words
                line = []
            if part:
                line.append((size, part))


def _headings(lines: list[tuple[int, float, str]]) -> list[dict[str, Any]]:
    """Short lines set larger than the running text; the largest are of level 1."""
    held: Counter[float] = Counter()
    for _, size, words in lines:
        held[size] += len(words)
    if not held:
        return []
    body = held.most_common(1)[0][0]
    large = sorted({s for _, s, w in lines if s > body * 1.12 and len(w) <= 160}, reverse=True)
    level = {size: min(6, i + 1) for i, size in enumerate(large)}
    out: list[dict[str, Any]] = []
    before: tuple[int, float] | None = None
    for number, size, words in lines:
        if size not in level or len(words) > 160 or not re.search(r"\w", words):
            before = None
        elif before == (number, size):
            # A heading that runs over the end of its line.
            out[-1]["words"] += f" {words}"
        else:
            out.append({"level": level[size], "words": words, "page": number})
            before = (number, size)
    return out[:MOST_HEADINGS]


def _tables(text: str) -> Iterator[list[list[str]]]:
    """Lines that stand in columns: three or more in a row with the same number of wide gaps."""
    block: list[list[str]] = []
    for line in [*text.split("\n"), ""]:
        cells = [cell.strip() for cell in re.split(r"\s{3,}|\t", line.strip())]
        if len(cells) > 1 and (not block or len(cells) == len(block[0])):
            block.append(cells)
            continue
        if len(block) > 2:
            yield block
        block = [cells] if len(cells) > 1 else []


def _tidy(text: str) -> str:
    """Lines put together to paragraphs where they only end because the page does; runs of empty lines made one."""
    text = re.sub(r"(?<=[a-z])-\n(?=[a-z])", "", text.replace("\x00", ""))
    lines = [line.rstrip() for line in text.split("\n")]
    full = 0.72 * max((len(line) for line in lines), default=0)
    out: list[str] = []
    for line in lines:
        runs_on = (
            bool(out)
            and len(out[-1].rpartition("\n")[2]) >= full
            and line
            and not _COLUMNS.search(line)
            and not _COLUMNS.search(out[-1])
        )
        if (runs_on and not _ENDED.search(out[-1])) or (runs_on and line[:1].islower()):
            out[-1] += f" {line}"
        else:
            out.append(line)
    return re.sub(r"\n{3,}", "\n\n", "\n".join(out)).strip()


_COLUMNS = re.compile(r"\S\s{3,}\S|\t")
_ENDED = re.compile(r"[.!?:][”\"’)]*$")


# -- office files -------------------------------------------------------------------------------------


def _packed_kind(body: bytes) -> str:
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


def _docx(body: bytes) -> Document:
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


def _odt(body: bytes) -> Document:
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


def _xlsx(body: bytes) -> Document:
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


def _ods(body: bytes) -> Document:
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
    return _table_document(kind, name, lines, [one for other, one in filled.items() if other != name])


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return value.isoformat() if hasattr(value, "isoformat") else str(value).strip()
