"""A file as read, and how much of one is."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..errors import BadAnswer, TooLarge

LARGEST = 60_000_000
UNPACKED = 300_000_000
MOST_PAGES = 200
MOST_ROWS = 100_000
MOST_COLUMNS = 2000
MOST_TABLES = 100
MOST_HEADINGS = 500
LONGEST_TEXT = 3_000_000


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


def table_document(kind: str, title: str, lines: list[list[str]], more: list[list[list[str]]] | None = None) -> Document:
    """Rows by the names in the first line; a name used twice gets a number."""
    if not lines:
        raise BadAnswer("The table is empty.")
    notes = [f"Only the first {MOST_ROWS:,} rows were read."] if len(lines) > MOST_ROWS else []
    if max(map(len, lines[:MOST_ROWS])) > MOST_COLUMNS:
        raise TooLarge(f"A line of this table has more than {MOST_COLUMNS:,} cells.")
    names = names_of(lines[0])
    rows = [row_of(names, line) for line in lines[1 : MOST_ROWS + 1]]
    text = "\n".join("\t".join(line) for line in lines[:5000])
    return Document(kind, title, text[:LONGEST_TEXT], tables=(more or [])[:MOST_TABLES], rows=rows, notes=notes)


def names_of(line: list[str]) -> list[str]:
    """Names of columns by a heading line; one used twice gets a number, an empty one its place."""
    names: list[str] = []
    taken: set[str] = set()
    for i, head in enumerate(line, start=1):
        base = head.strip() or f"Column {i}"
        while base in taken:
            base = f"{base} {i}"
        taken.add(base)
        names.append(base)
    return names


def row_of(names: list[str], line: list[str]) -> dict[str, str]:
    """A line's cells by the names of the columns."""
    return dict(zip(names, [*line, *[""] * (len(names) - len(line))], strict=False))
