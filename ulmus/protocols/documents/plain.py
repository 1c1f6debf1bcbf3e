"""Plain text, Markdown, HTML and CSV."""

from __future__ import annotations

import csv
import io
import re
from typing import Any

from .. import pages
from ..errors import BadAnswer, TooLarge
from ..text import decode
from .model import LONGEST_TEXT, MOST_COLUMNS, MOST_HEADINGS, MOST_ROWS, MOST_TABLES, Document, table_document


def read_text(kind: str, body: bytes, charset: str | None) -> Document:
    """Plain text or Markdown."""
    text = decode(body, charset).strip()
    headings = []
    if kind == "md":
        for found in re.finditer(r"^(#{1,6})\s+(.+?)\s*#*$", text, re.MULTILINE):
            headings.append({"level": len(found.group(1)), "words": found.group(2), "page": 0})
    first = headings[0]["words"] if headings else (text.splitlines() or [""])[0]
    return Document(kind, str(first)[:200], text[:LONGEST_TEXT], headings=headings[:MOST_HEADINGS])


def read_html(body: bytes, charset: str | None) -> Document:
    """HTML. Raises `OutsideError` where it has no text."""
    source = decode(body, charset)
    page = pages.from_html(source)
    tree = pages.tree_of(source)
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


def read_csv(body: bytes, charset: str | None) -> Document:
    """A table as text. Raises `OutsideError` where it is none."""
    text = decode(body, charset)
    csv.field_size_limit(1_000_000)
    try:
        dialect: Any = csv.Sniffer().sniff(text[:8000], ",;\t|")
    except csv.Error:
        dialect = csv.excel
    lines = []
    try:
        for line in csv.reader(io.StringIO(text), dialect):
            if len(line) > MOST_COLUMNS:
                raise TooLarge(f"A line of this table has {len(line):,} cells; at most {MOST_COLUMNS:,} can be read.")
            if any(cell.strip() for cell in line):
                lines.append([cell.strip() for cell in line])
            if len(lines) > MOST_ROWS:
                break
    except csv.Error as error:
        raise BadAnswer(f"This is not a table that can be read ({error}).") from None
    return table_document("csv", "", lines)
