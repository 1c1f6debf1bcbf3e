"""A cell of a sheet as an expression of SQLite: as it is kept, as it is found and sorted, as a number, as a date.

Names of columns stand in the text of an expression, so that an index can be made of it.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from ..store import functions


def quoted(text: str) -> str:
    """A text as a literal."""
    return "'" + text.replace("\0", "").replace("'", "''") + "'"


def raw(name: str) -> str:
    """A cell as it is kept."""
    if can_be_indexed(name):
        path = quoted(f'$."{name}"')
        return f"json_extract(cells, {path})"
    # A path cannot hold every sign that the name of a column may.
    return f"(SELECT value FROM json_each(sheet_rows.cells) WHERE key = {quoted(name)})"


def can_be_indexed(name: str) -> bool:
    """Whether an index can be made of a column of this name."""
    return '"' not in name and "\\" not in name and name.isprintable()


def key(name: str) -> str:
    """A cell as it is found and sorted (`ulmus.core.columns.key`); an empty one is the empty text."""
    return f"{functions.KEY}({raw(name)})"


def whole(names: Sequence[str]) -> str:
    """Cells of a row as one text, as they are found; empty where a name has signs that cannot be said."""
    if not names or not all(map(can_be_indexed, names)):
        return ""
    paths = ", ".join(quoted(f'$."{name}"') for name in names)
    # Of several paths the answer is a list, of one it is the cell.
    return f"{functions.ROW}(json_extract(cells, {paths}))" if len(names) > 1 else key(names[0])


def number(name: str) -> str:
    """A cell as a number (`ulmus.core.columns.number`); null where it is none."""
    return f"{functions.NUMBER}({raw(name)})"


def date(name: str) -> str:
    """A cell as a date, with a time where it has one (ISO 8601, parted by a blank); null where it is none."""
    return f"{functions.DATE}({raw(name)})"


def sorted_by(name: str, kind: str) -> str:
    """What rows are sorted and grouped by, as a column's type has it."""
    return {"number": number, "date": date}.get(kind, key)(name)


def index_name(sheet: str, expression: str) -> str:
    """The name of the index of an expression over a sheet's rows."""
    return f"{indexes_of(sheet)}{_short(expression, 12)}"


def indexes_of(sheet: str) -> str:
    """What the names of a sheet's indexes begin with, whatever its key looks like."""
    return f"cells_{_short(sheet, 10)}_"


def _short(text: str, length: int) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:length]
