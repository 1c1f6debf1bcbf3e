"""Files: the text of PDF, DOCX, ODT, HTML, Markdown and plain text; CSV, XLSX and ODS as rows.

What a file is follows from its content first and its name second. Reading happens apart, in a process with limits, since
files may be made to do harm.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import BinaryIO

from ..errors import BadAnswer, OutsideError, TooLarge
from ..text import encoding_of
from ..workers import apart
from .model import LARGEST, MOST_ROWS, Document, names_of, row_of
from .office import packed_kind, read_docx, read_ods, read_odt, read_xlsx
from .pdf import read_pdf
from .plain import lines_of, read_csv, read_html, read_text

__all__ = ["LARGEST", "MOST_ROWS", "Document", "kind_of", "read", "table"]
_PACKED = {"pdf": read_pdf, "docx": read_docx, "odt": read_odt, "xlsx": read_xlsx, "ods": read_ods}
_WRITTEN = {"html": read_html, "csv": read_csv}


def read(body: bytes, name: str = "", content_type: str = "", charset: str | None = None) -> Document:
    """The document in `body`. Raises `OutsideError` with a reason in words."""
    if not body.strip():
        raise BadAnswer("The file is empty.")
    if len(body) > LARGEST:
        raise TooLarge(f"The file is larger than {LARGEST // 1_000_000} MB.")
    kind = kind_of(body, name, content_type)
    if kind in ("txt", "md"):
        return read_text(kind, body, charset)
    # Handed over by its name: the process it runs in loads what it needs.
    return apart(_PACKED[kind], body) if kind in _PACKED else apart(_WRITTEN[kind], body, charset)


def table(file: BinaryIO, name: str = "") -> tuple[list[str], Iterator[dict[str, str]], list[str]]:
    """The first table of a file with rows: its columns, its rows one by one, and what could not be had. A table as text is read as it
    goes; the others are read whole. Raises `OutsideError`."""
    head = file.read(4096)
    file.seek(0)
    if not head.strip():
        raise BadAnswer("The file is empty.")
    if not head.startswith(b"PK") and kind_of(head, name, "") == "csv":
        lines = lines_of(io.TextIOWrapper(file, encoding_of(file), errors="replace", newline=""))
        names = names_of(next(lines, []))
        return names, (row_of(names, line) for line in lines), []
    document = read(file.read(LARGEST + 1), name)
    return list(document.rows[0]) if document.rows else [], iter(document.rows), document.notes


def kind_of(body: bytes, name: str, content_type: str) -> str:
    """What a file is: by how it begins, then by its type, then by its name. Raises `OutsideError` for other kinds."""
    ending = name.rsplit(".", 1)[-1].lower() if "." in name else ""
    head = body[:2048].lstrip()
    if body[:1024].find(b"%PDF-") >= 0:
        return "pdf"
    if body[:4] == b"PK\x03\x04":
        return packed_kind(body)
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
