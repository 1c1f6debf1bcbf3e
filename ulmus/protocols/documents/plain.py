"""Plain text, Markdown, HTML and CSV."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from itertools import islice
from typing import Any, TextIO

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
    return table_document("csv", "", list(islice(csv_lines(body, charset), MOST_ROWS + 1)))


def csv_lines(body: bytes, charset: str | None = None) -> Iterator[list[str]]:
    """As `lines_of`, of what is in memory."""
    return lines_of(io.StringIO(decode(body, charset), newline=""))


def lines_of(text: TextIO) -> Iterator[list[str]]:
    """The lines of a table as text that have anything in them (RFC 4180, and with other signs between cells), one by one. Raises
    `OutsideError`."""
    csv.field_size_limit(1_000_000)
    head = text.read(8000)
    text.seek(0)
    try:
        for line in csv.reader(text, dialect_of(head)):
            if len(line) > MOST_COLUMNS:
                raise TooLarge(f"A line of this table has {len(line):,} cells; at most {MOST_COLUMNS:,} can be read.")
            cells = [cell.strip() for cell in line]
            if any(cells):
                yield cells
    except csv.Error as error:
        raise BadAnswer(f"This is not a table that can be read ({error}).") from None


def dialect_of(head: str) -> Any:
    """How a table as text is written, by its beginning."""
    try:
        return csv.Sniffer().sniff(head, ",;\t|")
    except csv.Error:
        # Too little to tell by its pattern: the sign that the heading line has most of.
        first = next((line for line in head.splitlines() if line.strip()), "")

        class Plain(csv.excel):
            delimiter = max(",;\t|", key=first.count)

        return Plain
