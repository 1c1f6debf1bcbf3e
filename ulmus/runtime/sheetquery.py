"""Which rows of a sheet, in what order, in which groups, and what they come to: asked of SQLite, answered from typed indexes.

Each condition is answered by the index of its column where there is one; which would have helped is noted (see `sheetreads`).
"""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from ..core import columns
from ..store import functions
from . import sheetcells as cells

Op = Literal["is", "is_not", "contains", "begins", "more", "less", "empty", "filled"]
Sum = Literal["filled", "empty", "different", "sum", "mean", "least", "most"]
INDEXED_FROM = 2000
"""From so many rows on a column that is asked for gets an index."""
MOST_GROUPS = 2000
FEW = 3000
"""So many rows are sorted by themselves; of more it is seen where they stand among all."""
SOME = 50_000
"""So many rows are asked by their numbers; of more all are asked."""


@dataclass(frozen=True)
class Condition:
    """A condition on a column. Numbers and dates are compared as such, all else as text without case."""

    column: str
    op: Op
    value: str = ""


@dataclass(frozen=True)
class Asked:
    """Rows that contain all `words` and fit all `conditions`; in groups by a column, and sorted by one, where they are named."""

    words: str = ""
    conditions: tuple[Condition, ...] = ()
    sort: str = ""
    down: bool = False
    group: str = ""


@dataclass(frozen=True)
class Group:
    """Rows in which a column says the same, or nothing of its kind (`empty`): how it is written in one of them, and how many they
    are."""

    label: str
    count: int
    empty: bool = False


class NotACondition(ValueError):
    """A condition that cannot be; the words say why."""


@dataclass
class Standing:
    """A sheet as it stands: its key, its columns' types, how many rows it has, and the last change of one."""

    key: str
    kinds: dict[str, str]
    rows: int
    version: tuple[Any, ...]
    indexes: frozenset[str] = frozenset()
    missing: set[tuple[str, str]] = field(default_factory=set)
    """Indexes that would have helped: their names and expressions."""

    def index(self, name: str, expression: str) -> str:
        """The words that have an expression answered by its index, where there is one."""
        if not expression or self.rows < INDEXED_FROM or not cells.can_be_indexed(name) or self.kinds.get(name) == "long":
            return ""
        index = cells.index_name(self.key, expression)
        if index in self.indexes:
            return f" INDEXED BY {index}"
        self.missing.add((index, expression))
        return ""

    @property
    def mine(self) -> str:
        return f"sheet = {cells.quoted(self.key)}"


def make_index(connection: Connection, sheet: str, name: str, expression: str) -> None:
    """Make an index of an expression over the rows of a sheet."""
    where = f"sheet = {cells.quoted(sheet)}"
    connection.exec_driver_sql(f"CREATE INDEX IF NOT EXISTS {name} ON sheet_rows ({expression}, position) WHERE {where}")


def drop_indexes(connection: Connection, sheet: str) -> None:
    """Take the indexes of a sheet away, before its columns change or many rows come."""
    all_of = "SELECT name FROM sqlite_master WHERE type = 'index' AND tbl_name = 'sheet_rows' AND name GLOB ?"
    for name in list(connection.exec_driver_sql(all_of, (f"{cells.indexes_of(sheet)}*",)).scalars()):
        connection.exec_driver_sql(f"DROP INDEX IF EXISTS {name}")


# -- what is asked, as SQL --------------------------------------------------------------------------------

Ids = NDArray[np.int64]


def _fetched(connection: Connection, sql: str, values: Sequence[Any] = ()) -> Ids:
    """Numbers, in the order in which they come."""
    cursor = connection.connection.cursor()
    try:
        return np.fromiter(itertools.chain.from_iterable(cursor.execute(sql, tuple(values))), dtype=np.int64)
    finally:
        cursor.close()


def _found(connection: Connection, stands: Standing, tests: Sequence[_Test], hint: str = "", of: Ids | None = None) -> Ids:
    """The numbers of rows that pass all tests, in no order; of some only, where these are a small part."""
    where = " AND ".join([stands.mine, *(f"({test.sql})" for test in tests)])
    values = tuple(value for test in tests for value in test.values)
    among = of is not None and len(of) <= min(SOME, stands.rows // 2)
    if of is not None and among:
        where += f" AND id IN ({', '.join(map(str, of))})"
    # All in one text: making an object of each number takes longer than finding it.
    text = connection.exec_driver_sql(f"SELECT group_concat(id) FROM sheet_rows{hint} WHERE {where}", values).scalar()
    ids: Ids = np.fromstring(text, dtype=np.int64, sep=",") if text else np.empty(0, np.int64)
    return ids if of is None or among else ids[np.isin(ids, of)]


def _as_they_stand(connection: Connection, stands: Standing, ids: Ids | None) -> Ids:
    """Rows, or all of the sheet, in its own order."""
    if ids is not None and len(ids) <= FEW:
        return _fetched(connection, f"SELECT id FROM sheet_rows WHERE id IN ({', '.join(map(str, ids))}) ORDER BY position")
    standing = _fetched(connection, f"SELECT id FROM sheet_rows WHERE {stands.mine} ORDER BY position")
    return standing if ids is None else standing[np.isin(standing, ids)]


def row_ids(connection: Connection, stands: Standing, asked: Asked) -> Ids:
    """The rows in order, without those that a condition leaves out. Each condition with an index is answered by it, the others
    together by going through the rows once."""
    kept = _kept(connection, stands, asked)
    order = _order(stands, asked)
    if not order:
        return _as_they_stand(connection, stands, kept)
    if kept is not None and len(kept) <= FEW and len(order) == 1:
        return _sorted_few(connection, stands, kept, *order[0])
    ordered = _in_order(connection, stands, order)
    return ordered if kept is None else ordered[np.isin(ordered, kept)]


def _sorted_few(connection: Connection, stands: Standing, ids: Ids, name: str, down: bool) -> Ids:
    expression, last = cells.sorted_by(name, stands.kinds[name]), " DESC" if down else ""
    few = f"SELECT id FROM sheet_rows WHERE id IN ({', '.join(map(str, ids))})"
    return _fetched(connection, f"{few} ORDER BY NOT ({_filled(expression)}), {expression}{last}, position{last}")


def _kept(connection: Connection, stands: Standing, asked: Asked) -> Ids | None:
    """The rows that pass all tests; ``None`` where there is no test. What no index answers is asked last, of what is left."""
    indexed, others = _tests(stands, asked)
    if len(indexed) == 1:
        hint, test = indexed[0]
        return _found(connection, stands, [test, *others], hint)
    kept: Ids | None = None
    for hint, test in indexed:
        some = _found(connection, stands, [test], hint)
        kept = some if kept is None else kept[np.isin(kept, some)]
    return _found(connection, stands, others, "", kept) if others else kept


def _in_order(connection: Connection, stands: Standing, order: Sequence[tuple[str, bool]]) -> Ids:
    """All rows, sorted by columns, the first counting most; what is empty stands last, whichever way it is sorted."""
    name, down = order[-1]
    expression = cells.sorted_by(name, stands.kinds[name])
    hint, last = stands.index(name, expression), " DESC" if down else ""
    parts = [
        _fetched(
            connection,
            f"SELECT id FROM sheet_rows{hint} WHERE {stands.mine} AND {part} ORDER BY {expression}{last}, position{last}",
        )
        for part in (_filled(expression), f"NOT ({_filled(expression)})")
    ]
    ordered: Ids = np.concatenate(parts)
    if len(order) == 1:
        return ordered
    # Sorted by the last column first, then, keeping that order, into the groups of the one before it.
    grouped = _in_order(connection, stands, order[:-1])
    sizes = [group.count for group in _group_sizes(connection, stands, order[0][0])]
    rank = np.repeat(np.arange(len(sizes)), sizes)
    by_id = np.argsort(grouped)
    of = rank[by_id[np.searchsorted(grouped, ordered, sorter=by_id)]]
    return ordered[np.argsort(of, kind="stable")]


def row_groups(connection: Connection, stands: Standing, asked: Asked) -> list[Group]:
    """The groups of the rows, in the order in which these come. Raises `NotACondition`."""
    if asked.group not in stands.kinds:
        raise NotACondition(f"There is no column “{asked.group}” in this sheet (any more).")
    groups = _group_sizes(connection, stands, asked.group)
    kept = _kept(connection, stands, asked)
    if kept is not None:
        grouped = _in_order(connection, stands, [(asked.group, False)])
        rank = np.repeat(np.arange(len(groups)), [group.count for group in groups])
        counts = np.bincount(rank[np.isin(grouped, kept)], minlength=len(groups))
        groups = [Group(group.label, int(n), group.empty) for group, n in zip(groups, counts, strict=True) if n]
    if asked.down and asked.sort == asked.group:
        # Sorted by what they are grouped by; what is empty stands last all the same.
        full = [group for group in groups if not group.empty]
        return full[::-1] + groups[len(full) :]
    return groups


def _group_sizes(connection: Connection, stands: Standing, name: str) -> list[Group]:
    expression = cells.sorted_by(name, stands.kinds[name])
    hint = stands.index(name, expression)
    out: list[Group] = []
    for part, first in ((_filled(expression), "min(id)"), (f"NOT ({_filled(expression)})", "0")):
        by = f" GROUP BY {expression} ORDER BY {expression}" if first != "0" else ""
        sql = f"SELECT {first}, count(*) FROM sheet_rows{hint} WHERE {stands.mine} AND {part}{by} LIMIT {MOST_GROUPS + 1}"
        for row, count in connection.exec_driver_sql(sql).all():
            said = (
                connection.exec_driver_sql(f"SELECT {cells.raw(name)} FROM sheet_rows WHERE id = ?", (row,)).scalar() if row else ""
            )
            out += [Group(str(said or "").strip(), int(count), not row)] if count else []
    if len(out) > MOST_GROUPS:
        raise NotACondition(
            f"“{name}” says more than {MOST_GROUPS:,} different things; group by another column, or keep fewer rows."
        )
    return out


def row_sum(connection: Connection, stands: Standing, asked: Asked, name: str, what: Sum) -> float | str | None:
    """What a column of the rows comes to; nothing where it holds nothing of the kind."""
    where, values = _where(stands, asked)
    kind = stands.kinds.get(name)
    if kind is None:
        return None
    text = cells.key(name)
    value = {"number": cells.number, "date": cells.date}.get(kind, cells.number)(name)
    told = {
        "filled": f"sum({text} <> '')",
        "empty": f"sum({text} = '')",
        "different": f"count(DISTINCT nullif({text}, ''))",
        "sum": f"sum({value})" if kind != "date" else "NULL",
        "mean": f"avg({value})" if kind != "date" else "NULL",
        "least": f"min({value})",
        "most": f"max({value})",
    }[what]
    hint = stands.index(name, text if what in ("filled", "empty", "different") else value) if not asked.words.strip() else ""
    found = connection.exec_driver_sql(f"SELECT {told} FROM sheet_rows{hint} WHERE {where}", values).scalar()
    if found is None and what in ("filled", "empty"):
        return 0
    return found if isinstance(found, str) or found is None else round(float(found), 6)


def _filled(expression: str) -> str:
    """That there is something to sort by."""
    return f"{expression} > ''" if expression.startswith(functions.KEY) else f"{expression} IS NOT NULL"


def _order(stands: Standing, asked: Asked) -> list[tuple[str, bool]]:
    if asked.group in stands.kinds:
        if asked.sort == asked.group or asked.sort not in stands.kinds:
            return [(asked.group, asked.down and asked.sort == asked.group)]
        return [(asked.group, False), (asked.sort, asked.down)]
    return [(asked.sort, asked.down)] if asked.sort in stands.kinds else []


@dataclass(frozen=True)
class _Test:
    """What a row has to pass, with the values in it, and the expression it is about."""

    sql: str
    values: tuple[Any, ...]
    name: str = ""
    expression: str = ""


def _tests(stands: Standing, asked: Asked) -> tuple[list[tuple[str, _Test]], list[_Test]]:
    """What rows have to pass: what an index answers, with the words for that, and the rest."""
    tests = [_words(stands, asked.words.split())] if asked.words.split() else []
    for one in asked.conditions:
        if one.column not in stands.kinds:
            raise NotACondition(f"There is no column “{one.column}” in this sheet (any more).")
        tests += _condition(one, stands.kinds[one.column])
    indexed, others = [], []
    for test in tests:
        hint = stands.index(test.name, test.expression)
        if hint:
            indexed.append((hint, test))
        else:
            others.append(test)
    return indexed, others


def _where(stands: Standing, asked: Asked) -> tuple[str, tuple[Any, ...]]:
    """All tests at once, with the values in them."""
    tests = [test for _, test in _tests(stands, asked)[0]] + _tests(stands, asked)[1]
    return " AND ".join([stands.mine, *(f"({test.sql})" for test in tests)]), tuple(v for test in tests for v in test.values)


def _words(stands: Standing, words: Sequence[str]) -> _Test:
    """All words, each in any column."""
    said = [columns.key(word) for word in words]
    whole = cells.whole(list(stands.kinds))
    if whole:
        return _Test(" AND ".join(f"instr({whole}, ?) > 0" for _ in said), tuple(said), "", whole)
    each = " OR ".join(f"instr({cells.key(name)}, ?) > 0" for name in stands.kinds)
    return _Test(" AND ".join(f"({each})" for _ in said), tuple(word for word in said for _ in stands.kinds))


def _condition(one: Condition, kind: str) -> list[_Test]:
    """What a row has to pass for a condition: all of these tests."""
    text, said = cells.key(one.column), columns.key(one.value)
    test = partial(_Test, name=one.column, expression=text)
    match one.op:
        case "empty":
            return [test(f"{text} = ''", ())]
        case "filled":
            return [test(f"{text} > ''", ())]
        case "begins":
            return [test(f"{text} >= ? AND {text} < ?", (said, said + "\U0010ffff"))]
        case "contains":
            return [test(f"instr({text}, ?) > 0", (said,))]
    if kind == "date" and (day := columns.moment(one.value)) is not None:
        return [_of_date(one, day)]
    number = columns.number(one.value) if kind == "number" or one.op in ("more", "less") else None
    if one.op in ("more", "less") and (kind == "date" or number is None):
        what = f"date; write it as {dt.date.today().isoformat()}" if kind == "date" else "number"
        raise NotACondition(f"“{one.value}” is no {what}.")
    if number is not None:
        value = cells.number(one.column)
        sql = {"more": f"{value} > ?", "less": f"{value} < ?", "is": f"{value} = ?"}.get(one.op, f"{value} <> ? OR {value} IS NULL")
        return [_Test(sql, (number,), one.column, value)]
    # Found by its letters in the index, told by their marks, of which the index knows nothing.
    same, marks, folded = f"{text} = ?", f"{functions.FOLDED}({cells.raw(one.column)}) = ?", one.value.strip().casefold()
    if one.op == "is":
        return [test(same, (said,)), _Test(marks, (folded,))]
    return [test(f"NOT ({same} AND {marks})", (said, folded))]


def _of_date(one: Condition, day: str) -> _Test:
    """Of a day without a time, all its times are meant."""
    value, day = cells.date(one.column), day.replace("T", " ")
    end = day if len(day) > 10 else day + "\U0010ffff"
    test = partial(_Test, name=one.column, expression=value)
    match one.op:
        case "more":
            return test(f"{value} > ?", (end,))
        case "less":
            return test(f"{value} < ?", (day,))
        case "is":
            return test(f"{value} >= ? AND {value} <= ?", (day, end))
    return test(f"{value} < ? OR {value} > ? OR {value} IS NULL", (day, end))
