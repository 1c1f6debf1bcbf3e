"""PDF: text in reading order, headings by their size, tables that stand in columns, page by page."""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Container, Iterator
from typing import Any, NamedTuple

from ..errors import BadAnswer, OutsideError, Refused
from .model import LONGEST_TEXT, MOST_HEADINGS, MOST_PAGES, MOST_TABLES, Document

LEAST_ROWS, LONGEST_CELL, SHORT_CELL = 3, 200, 30


def read_pdf(body: bytes) -> Document:
    """The document in a PDF. Raises `OutsideError`."""
    import logging

    from pypdf import PdfReader

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    try:
        reader = PdfReader(io.BytesIO(body), strict=False)
        if reader.is_encrypted and not reader.decrypt(""):
            raise Refused("This PDF is locked with a password.")
        count = len(reader.pages)
        about = reader.metadata
    except OutsideError:
        raise
    except Exception as error:
        raise BadAnswer(f"This PDF is damaged and cannot be read ({type(error).__name__}).") from None
    pages, lines, tables, failed, empty = [], [], [], 0, 0
    for number in range(1, min(count, MOST_PAGES) + 1):
        pieces: list[Piece] = []
        try:
            text = reader.pages[number - 1].extract_text(visitor_text=_noting(pieces)) or ""
        except Exception:  # whatever is wrong with one page, the others are read
            failed += 1
            continue
        found = [*placed_tables(pieces)]
        text = _tidy(text, {" ".join(" ".join(row).split()) for table in found for row in table})
        tables += found or [*_tables(text)]
        empty += not text
        pages.append({"number": number, "text": text})
        lines += [(number, size, words) for size, words in _lines(pieces)]
    if not any(page["text"] for page in pages):
        if failed:
            raise BadAnswer("This PDF is damaged: none of its pages can be read.")
        raise BadAnswer("This PDF holds pictures of pages and no text. It was scanned; have its text recognised first.")
    notes = []
    if count > MOST_PAGES:
        notes.append(f"Only the first {MOST_PAGES} of {count} pages were read.")
    if failed:
        notes.append(f"{failed} page{'s' if failed > 1 else ''} could not be read.")
    if empty:
        notes.append(f"{empty} page{'s hold' if empty > 1 else ' holds'} no text; scanned, perhaps.")
    headings = _headings(lines)
    title = str(getattr(about, "title", "") or "").strip() or (headings[0]["words"] if headings else "")
    text = "\n\n".join(str(page["text"]) for page in pages if page["text"])
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


class Piece(NamedTuple):
    """A run of text with the size it is set in and where it begins, in points from the left and from below."""

    size: float
    text: str
    x: float
    y: float


def _noting(out: list[Piece]) -> Any:
    """A visitor that notes each piece of text."""
    note = out.append

    def visit(text: str, cm: Any, tm: Any, font: Any, size: Any) -> None:
        if text:
            x, y = tm[4] * cm[0] + tm[5] * cm[2] + cm[4], tm[4] * cm[1] + tm[5] * cm[3] + cm[5]
            note(Piece((size or 0.0) * (tm[3] or tm[0]) * (cm[3] or 1.0), text, x, y))

    return visit


def placed_tables(pieces: list[Piece]) -> Iterator[list[list[str]]]:
    """Tables told by their places: three or more lines one below the other whose pieces begin, or end, at the same places.
    A cell that is empty in a line stays empty."""
    block: list[list[str]] = []
    columns: list[tuple[float, float]] = []
    for row in [*_rows(pieces), []]:
        places = _fitted(row, columns) if columns else None
        if places is not None:
            cells = [""] * len(columns)
            for place, piece in zip(places, row, strict=True):
                cells[place] = piece.text.strip()
            block.append(cells)
            continue
        if len(block) >= LEAST_ROWS and _is_short(block):
            yield block
        columns = [_reach(piece) for piece in row] if len(row) > 1 else []
        block = [[piece.text.strip() for piece in row]] if columns else []


def _is_short(block: list[list[str]]) -> bool:
    """Whether some column holds words and figures, not lines of prose set in columns."""
    return any(sum(map(len, column)) <= SHORT_CELL * len(block) for column in zip(*block, strict=True))


def _rows(pieces: list[Piece]) -> list[list[Piece]]:
    """Pieces that stand on one line together, from left to right."""
    rows: list[list[Piece]] = []
    for piece in pieces:
        words = piece.text.strip()
        if not words:
            continue
        if rows and abs(rows[-1][-1].y - piece.y) < max(1.0, abs(piece.size) * 0.4):
            rows[-1].append(piece)
        else:
            rows.append([piece])
    return [sorted(row, key=lambda piece: piece.x) for row in rows]


def _reach(piece: Piece) -> tuple[float, float]:
    """Where a piece begins, and about where it ends: letters are half as wide as they are high."""
    lead = len(piece.text) - len(piece.text.lstrip())
    return piece.x, piece.x + (len(piece.text.strip()) + lead) * abs(piece.size) * 0.5


def _fitted(row: list[Piece], columns: list[tuple[float, float]]) -> list[int] | None:
    """In which column each piece of a line stands; ``None`` where one stands in none, or there are too few to tell."""
    if len(row) < 2 or len(row) > len(columns) or any(len(p.text) > LONGEST_CELL or "\n" in p.text.strip() for p in row):
        return None
    out: list[int] = []
    for piece in row:
        begin, end = _reach(piece)
        leeway = abs(piece.size)
        after = range(out[-1] + 1 if out else 0, len(columns))
        fit = next((n for n in after if abs(columns[n][0] - begin) < 2.5 or abs(columns[n][1] - end) < leeway), None)
        if fit is None:
            return None
        out.append(fit)
    return out


def _lines(pieces: list[Piece]) -> Iterator[tuple[float, str]]:
    """Pieces put together to lines, each with the size most of it is set in."""
    line: list[tuple[float, str]] = []
    for size, text in [*((piece.size, piece.text) for piece in pieces), (0.0, "\n")]:
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


def _tidy(text: str, apart: Container[str] = ()) -> str:
    """Lines put together to paragraphs where they only end because the page does; runs of empty lines made one. Lines in
    `apart` stay by themselves."""
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
            and " ".join(line.split()) not in apart
            and " ".join(out[-1].split()) not in apart
        )
        if (runs_on and not _ENDED.search(out[-1])) or (runs_on and line[:1].islower()):
            out[-1] += f" {line}"
        else:
            out.append(line)
    return re.sub(r"\n{3,}", "\n\n", "\n".join(out)).strip()


_COLUMNS = re.compile(r"\S\s{3,}\S|\t")
_ENDED = re.compile(r"[.!?:][”\"’)]*$")
