"""Values of a row that stand in another sheet: a column that names a row there gives that row's cells as well.

A column says which sheet, and which column of it tells the row; the cells come as “Company: Site”. One step far, and only for what
reads the row: nothing is copied.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import literal_column, select
from sqlalchemy.orm import Session

from ..core import columns
from ..core.rows import folded
from ..store import tables
from . import sheetcells

ONE_BY_ONE = 20
"""From so many rows to be found on, the other sheet is read through once."""


def links_of(sheet: tables.Sheet) -> list[tuple[str, str, str]]:
    """The columns of a sheet that name a row of another: the column, the other sheet, and the column that tells the row there."""
    told = [(c["name"], c.get("finds") or {}) for c in sheet.columns]
    return [(name, str(finds.get("sheet", "")), str(finds.get("by", ""))) for name, finds in told if finds]


def values_of(sheets: Iterable[tables.Sheet]) -> dict[str, tuple[str, ...]]:
    """The names of the values that rows of each sheet get from others."""
    by_key = {sheet.key: sheet for sheet in sheets}
    return {
        key: tuple(
            f"{name}: {column['name']}"
            for name, other, by in links_of(sheet)
            if other in by_key
            for column in by_key[other].columns
            if column["name"] != by
        )
        for key, sheet in by_key.items()
    }


class Linker:
    """Fills rows of a sheet with what other sheets say of them."""

    def __init__(self, session: Session, sheet: tables.Sheet) -> None:
        self._session = session
        self._links = [(name, session.get(tables.Sheet, other), by) for name, other, by in links_of(sheet)]
        self._found: dict[tuple[str, str, str], Mapping[str, Any]] = {}
        self._whole: set[tuple[str, str]] = set()

    def filled(self, cells: Mapping[str, Any]) -> dict[str, Any]:
        """The cells of a row, and those that were found for it; empty ones where nothing is."""
        out = dict(cells)
        for name, other, by in self._links:
            if other is None:
                continue
            row = self._row(other.key, by, folded(cells.get(name)))
            out |= {f"{name}: {c['name']}": str(row.get(c["name"], "") or "") for c in other.columns if c["name"] != by}
        return out

    def _row(self, sheet: str, by: str, value: str) -> Mapping[str, Any]:
        if not value:
            return {}
        place = (sheet, by, value)
        if place not in self._found and (sheet, by) not in self._whole:
            if sum(key[:2] == (sheet, by) for key in self._found) < ONE_BY_ONE:
                self._found[place] = self._looked_up(sheet, by, value)
            else:
                self._read(sheet, by)
        return self._found.get(place, {})

    def _looked_up(self, sheet: str, by: str, value: str) -> Mapping[str, Any]:
        row = tables.SheetRow
        # The sheet stands in the text, so that an index of its column is used where there is one.
        wanted = select(row.cells).where(
            literal_column(f"sheet = {sheetcells.quoted(sheet)}"), literal_column(sheetcells.key(by)) == columns.key(value)
        )
        for (cells,) in self._session.execute(wanted.order_by(row.position)):
            if folded(cells.get(by)) == value:
                return dict(cells)
        return {}

    def _read(self, sheet: str, by: str) -> None:
        row = tables.SheetRow
        for (cells,) in self._session.execute(select(row.cells).where(row.sheet == sheet).order_by(row.position)):
            self._found.setdefault((sheet, by, folded(cells.get(by))), cells)
        self._whole.add((sheet, by))
