"""Reading rows of sheets: what was found is kept while a sheet stays as it is, and indexes that would have helped are made.

A large sheet gets an index of a column when it is opened, or the column is first asked about. The numbers of the rows that were
found are kept, so that looking further down costs a page.
"""

from __future__ import annotations

import logging
import sqlite3
import threading
from collections import OrderedDict, deque
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.exc import OperationalError, SQLAlchemyError
from sqlalchemy.orm import Session

from ..store import Store, tables
from . import sheetcells as cells
from . import sheetquery
from .sheetquery import Asked, Group, Ids, Standing, Sum, make_index

log = logging.getLogger("ulmus")
MOST_INDEXES = 24
AT_A_TIME = 1000
PAUSE = 0.05
"""Seconds between two indexes, in which others write."""
KEPT, KEPT_IDS = 24, 4_000_000
"""So many answers are kept, and in them so many numbers of rows."""


class SheetReads:
    """Reads rows of sheets. Indexes are made beside what is asked, one after another, so that whatever else writes has its turn."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._wanted: deque[tuple[str, str, str]] = deque()
        self._kept: OrderedDict[tuple[Any, ...], tuple[tuple[Any, ...], Any]] = OrderedDict()
        self._making: set[str] = set()
        self._lock = threading.Lock()
        self._worker: threading.Thread | None = None
        self._closing = threading.Event()

    def ids(self, session: Session, sheet: tables.Sheet, asked: Asked, part: slice | None = None) -> tuple[list[int], int]:
        """The numbers of the rows that were asked for, in order, or a part of them; and how many there are. Raises `NotACondition`."""
        stands = self._stands(session, sheet)
        found: Ids = self._once(stands, ("ids", asked), lambda: sheetquery.row_ids(session.connection(), stands, asked))
        return found.tolist() if part is None else found[part].tolist(), len(found)

    def groups(self, session: Session, sheet: tables.Sheet, asked: Asked) -> list[Group]:
        """The groups of the rows that were asked for, in the order in which `ids` gives them; what is empty last. Raises
        `NotACondition`."""
        stands = self._stands(session, sheet)
        return self._once(stands, ("groups", asked), lambda: sheetquery.row_groups(session.connection(), stands, asked))  # type: ignore[no-any-return]

    def sums(
        self, session: Session, sheet: tables.Sheet, asked: Asked, wanted: Sequence[tuple[str, Sum]]
    ) -> list[float | str | None]:
        """What columns of the rows that were asked for come to, one by one; nothing where a column holds nothing of the kind."""
        stands = self._stands(session, sheet)
        connection = session.connection()
        return [
            self._once(stands, ("sum", asked, one), partial(sheetquery.row_sum, connection, stands, asked, *one)) for one in wanted
        ]

    def rows(self, session: Session, ids: Sequence[int]) -> list[tables.SheetRow]:
        """The rows of these numbers, in this order; those that are gone meanwhile are left out."""
        found = {row.id: row for row in session.scalars(select(tables.SheetRow).where(tables.SheetRow.id.in_(ids)))}
        return [found[one] for one in ids if one in found]

    def each_row(self, session: Session, ids: Sequence[int]) -> Iterator[tables.SheetRow]:
        """The rows of these numbers, in this order, some at a time."""
        for start in range(0, len(ids), AT_A_TIME):
            yield from self.rows(session, ids[start : start + AT_A_TIME])
            session.expunge_all()

    def prepare(self, session: Session, sheet: tables.Sheet) -> None:
        """Have the indexes by which a large sheet is sorted and narrowed made, before anybody asks."""
        stands = self._stands(session, sheet)
        for name, kind in stands.kinds.items():
            stands.index(name, cells.sorted_by(name, kind))
        self._make(stands)

    def settle(self) -> None:
        """Wait until no index is being made (for tests and measurements)."""
        while self._making:
            threading.Event().wait(0.01)

    def _stands(self, session: Session, sheet: tables.Sheet) -> Standing:
        connection = session.connection()
        touched = connection.exec_driver_sql("SELECT max(touched) FROM sheet_rows WHERE sheet = ?", (sheet.key,)).scalar() or 0
        of = "SELECT n FROM tallies WHERE what = 'rows' AND of = ? AND state = ''"
        rows = int(connection.exec_driver_sql(of, (sheet.key,)).scalar() or 0)
        kinds = {column["name"]: str(column.get("type", "text")) for column in sheet.columns}
        made: frozenset[str] = frozenset()
        if rows >= sheetquery.INDEXED_FROM:
            all_of = "SELECT name FROM sqlite_master WHERE type = 'index' AND tbl_name = 'sheet_rows' AND name GLOB ?"
            made = frozenset(connection.exec_driver_sql(all_of, (f"{cells.indexes_of(sheet.key)}*",)).scalars())
        return Standing(sheet.key, kinds, rows, (touched, rows, tuple(kinds.items())), made)

    def _once(self, stands: Standing, key: tuple[Any, ...], work: Callable[[], Any]) -> Any:
        """What was worked out already, for as long as the sheet stays as it is."""
        key = (stands.key, *key)
        with self._lock:
            kept = self._kept.get(key)
            if kept is not None and kept[0] == stands.version:
                self._kept.move_to_end(key)
                return kept[1]
        try:
            answer = work()
        except OperationalError as error:
            if "no such index" not in str(error):
                raise
            stands.indexes = frozenset()  # one went between the look and the question
            answer = work()
        with self._lock:
            self._kept[key] = (stands.version, answer)
            while len(self._kept) > KEPT or (len(self._kept) > 1 and sum(map(_size, self._kept.values())) > KEPT_IDS):
                self._kept.popitem(last=False)
        self._make(stands)
        return answer

    def _make(self, stands: Standing) -> None:
        with self._lock:
            wanted = [one for one in stands.missing if one[0] not in self._making][: max(0, MOST_INDEXES - len(stands.indexes))]
            idle = not self._making
            self._making.update(name for name, _ in wanted)
            self._wanted.extend((stands.key, name, expression) for name, expression in wanted)
            if wanted and idle and not self._closing.is_set():
                self._worker = threading.Thread(target=self._work, name="indexes of sheets", daemon=True)
                self._worker.start()

    def _work(self) -> None:
        """Make one index after another, until none is wanted."""
        while True:
            with self._lock:
                if not self._wanted or self._closing.is_set():
                    self._wanted.clear()
                    self._making.clear()
                    return
                sheet, name, expression = self._wanted.popleft()
            try:
                with self._store.writing() as connection:
                    make_index(connection, sheet, name, expression)
            except (SQLAlchemyError, sqlite3.Error) as error:
                # The disk is full, say: it is asked for again.
                log.warning("an index of a sheet could not be made: %s", error)
            self._closing.wait(PAUSE)

    def close(self) -> None:
        """Make no more indexes; waits for the one that is being made."""
        self._closing.set()
        if self._worker is not None:
            self._worker.join()


def _size(kept: tuple[Any, Any]) -> int:
    return kept[1].size if isinstance(kept[1], np.ndarray) else 1
