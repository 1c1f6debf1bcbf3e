"""Functions that SQLite gets for sheets: a cell's text as it is found and sorted, a number, a date.

Indexes of large sheets are made of them, so that whatever writes rows needs them: every connection of the house has them.
"""

from __future__ import annotations

import json
from typing import Any

from ..core import columns

KEY, NUMBER, DATE, FOLDED, ROW = "cell_key", "cell_number", "cell_date", "cell_folded", "row_key"


def register(connection: Any) -> None:
    """Give them to a connection (of `sqlite3`)."""
    for name, function in ((KEY, _key), (NUMBER, _number), (DATE, _date), (FOLDED, _folded), (ROW, _row)):
        connection.create_function(name, 1, function, deterministic=True)


def _key(cell: Any) -> str:
    return columns.key(_text(cell))


def _folded(cell: Any) -> str:
    return _text(cell).strip().casefold()


def _number(cell: Any) -> float | None:
    text = _text(cell)
    return columns.number(text) if text and len(text) < 60 else None


def _date(cell: Any) -> str | None:
    text = _text(cell)
    found = columns.moment(text) if text and len(text) < 60 else None
    return found.replace("T", " ") if found else None


def _row(cells: Any) -> str:
    return "\n".join(map(_key, json.loads(cells)))


def _text(cell: Any) -> str:
    return cell if isinstance(cell, str) else "" if cell is None else str(cell)
