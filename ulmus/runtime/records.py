"""Changes of rows: looked up outside of the write lock, made inside of it, kept with what stood there, and taken back.

What a line wants done to a sheet comes as data (`ulmus.core.rows`). Looking up which row is meant, and which rows are there already,
reads the sheet; so it is done before. What changed meanwhile is looked at once more when the change is made: rows bear the number of
the change they were last changed by.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, func, literal_column, select
from sqlalchemy.orm import Session

from ..core.rows import Change, Find, NotThis, folded, is_near, key_of, same, written
from ..protocols.errors import NotFound, OutsideError, Refused
from ..store import tables
from . import sheetcells, sheets

KEPT_DAYS = 30
"""Days for which a row that was removed can be brought back."""
_RUN_OF_LETTERS = re.compile(r"[a-z0-9@.]+")


@dataclass(frozen=True)
class Looked:
    """A change with what was found for it: the row by its columns, or the rows to add and how many were there already. `seen` is
    the last change of the sheet's rows that was seen."""

    change: Change
    seen: int = 0
    row: int | None = None
    rows: tuple[Mapping[str, str], ...] = ()
    doubles: int = 0


def look(session: Session, change: Change) -> Looked:
    """Find what a change is about. Raises `OutsideError` where its sheet is not here."""
    if session.get(tables.Sheet, change.sheet) is None:
        raise NotFound(f"The sheet “{change.sheet}” is no longer here.")
    seen = session.scalar(select(func.max(tables.SheetRow.touched)).where(tables.SheetRow.sheet == change.sheet)) or 0
    if change.do == "add":
        rows, doubles = _new(session, change)
        return Looked(change, seen, None, rows, doubles)
    row = by_columns(session, change.sheet, change.find.by) if change.find.by else None
    return Looked(change, seen, row)


def _new(session: Session, change: Change) -> tuple[tuple[Mapping[str, str], ...], int]:
    """The rows that are not there yet, each once."""
    if not change.key:
        return tuple(change.rows), 0
    row = tables.SheetRow
    there = [key_of(cells, change.key) for (cells,) in session.execute(select(row.cells).where(row.sheet == change.sheet))]
    return _without(change, there, change.rows)


def _without(
    change: Change, there: Iterable[tuple[str, ...]], rows: Iterable[Mapping[str, str]]
) -> tuple[tuple[Mapping[str, str], ...], int]:
    known, out, doubles = set(there), [], 0
    for cells in rows:
        key = key_of(cells, change.key)
        if not any(key):
            out.append(cells)
        elif key in known or (change.near and any(is_near(key, other) for other in known)):
            doubles += 1
        else:
            known.add(key)
            out.append(cells)
    return tuple(out), doubles


def by_columns(session: Session, sheet: str, by: Mapping[str, str], after: int = -1) -> int | None:
    """The first row whose columns say so; of those only that changed `after`."""
    row = tables.SheetRow
    wanted = select(row.id, row.cells).where(row.sheet == sheet, row.touched > after)
    for column, value in by.items():
        # What SQLite can compare narrows the search, and each is compared in full.
        letters = max(_RUN_OF_LETTERS.findall(folded(value)), key=len, default="")
        if letters:
            wanted = wanted.where(func.instr(literal_column(sheetcells.key(column)), letters) > 0)
    for id_, cells in session.execute(wanted.order_by(row.position)):
        if same(cells, by):
            return int(id_)
    return None


def numbers_by(session: Session, sheet: str, wanted: Sequence[Mapping[str, str]]) -> tuple[dict[tuple[str, ...], int], int]:
    """The first rows in which the same columns say what each of `wanted` does, by that (folded), found by going through the sheet
    once; and the last change that was seen."""
    row = tables.SheetRow
    seen = session.scalar(select(func.max(row.touched)).where(row.sheet == sheet)) or 0
    asked = {tuple(map(folded, one.values())) for one in wanted}
    names = list(next(iter(wanted), {}))
    found: dict[tuple[str, ...], int] = {}
    for id_, cells in session.execute(select(row.id, row.cells).where(row.sheet == sheet).order_by(row.position)):
        said = tuple(folded(cells.get(name)) for name in names)
        if said in asked:
            found.setdefault(said, int(id_))
    return found, seen


@dataclass(frozen=True)
class By:
    """Who changes rows: a run at an address (with its effect's key), or somebody."""

    at: float
    who: str = ""
    run: int | None = None
    address: str = ""
    key: str = ""


def make(session: Session, looked: Looked, by: By) -> tuple[dict[str, Any], dict[str, Any]]:
    """Make a change; gives the line's output, and for readers what became of which row. Raises `OutsideError` where the row is not
    there and that is to be said."""
    change = looked.change
    sheet = session.get(tables.Sheet, change.sheet)
    if sheet is None:
        raise NotFound(f"The sheet “{change.sheet}” is no longer here.")
    try:
        sheets.check_writable(session, sheet)
        if change.do == "move" and (other := session.get(tables.Sheet, change.to)) is not None:
            sheets.check_writable(session, other)
    except ValueError as error:
        raise Refused(str(error)) from None
    if change.do == "add":
        return _added(session, sheet, looked, by)
    row = _row(session, looked, by)
    blank = {"row": 0, "sheet": sheet.name, "found": "no", "before": {}, "after": {}}
    if row is None:
        if change.missing == "fail":
            raise NotFound(f"{_which(change.find)} is not in “{sheet.name}”.")
        if change.missing == "pass" or change.do != "write":
            return blank, {"cells": {}}
        cells = written(change.find.by, change.cells)
        cells = {**change.find.by, **cells}
        output, detail = _added(session, sheet, Looked(change, rows=(cells,)), by)
        return {**blank, "row": output["row"], "after": cells}, detail
    if change.do == "write":
        return _written(session, sheet, row, looked, by)
    if change.do == "move":
        return _moved(session, sheet, row, change.to, by)
    before, place = dict(row.cells), row.position
    note(session, sheet.key, row.id, "removed", before, {}, by, place)
    output = {**blank, "row": place, "found": "yes", "before": before}
    session.delete(row)
    session.flush()
    return output, {"cells": before, "what": "removed"}


def _which(find: Find) -> str:
    if find.own:
        return "The row this run came from"
    if find.number is not None:
        return f"Row {find.number}"
    return f"A row with {', '.join(f'{column} “{value}”' for column, value in find.by.items())}"


def _row(session: Session, looked: Looked, by: By) -> tables.SheetRow | None:
    find, sheet = looked.change.find, looked.change.sheet
    if find.own:
        number = own_row(session, by.run)
    elif find.number is not None:
        number = find.number
    else:
        number = looked.row
        row = session.get(tables.SheetRow, number) if number is not None else None
        if row is None or not same(row.cells, find.by):
            number = by_columns(session, sheet, find.by, looked.seen if looked.row is None else -1)
    row = session.get(tables.SheetRow, number) if number is not None else None
    return row if row is not None and row.sheet == sheet else None


def own_row(session: Session, run: int | None) -> int | None:
    """The number of the row a run came from; ``None`` where it came from none, or from several at once."""
    if run is None:
        return None
    seen = select(tables.Seen.identity).where(tables.Seen.run_id == run, tables.Seen.identity.startswith("row:"))
    rows = {int(identity.split(":")[1]) for identity in session.scalars(seen)}
    return rows.pop() if len(rows) == 1 else None


def _added(session: Session, sheet: tables.Sheet, looked: Looked, by: By) -> tuple[dict[str, Any], dict[str, Any]]:
    change, row = looked.change, tables.SheetRow
    rows, doubles = looked.rows, looked.doubles
    if change.key and rows:
        late = select(row.cells).where(row.sheet == sheet.key, row.touched > looked.seen)
        rows, more = _without(change, [key_of(cells, change.key) for (cells,) in session.execute(late)], rows)
        doubles += more
    try:
        made = sheets.new_rows(session, sheet, [sheets.put(sheet, cells) for cells in rows])
    except ValueError as error:
        raise OutsideError(str(error)) from None
    for n, fresh in enumerate(made):
        fresh.run_id, fresh.key = by.run, by.key if n == 0 and by.key else None
    session.add_all(made)
    session.flush()
    for one in made:
        note(session, sheet.key, one.id, "added", {}, dict(one.cells), by, one.position)
    output = {"row": made[0].position if made else 0, "sheet": sheet.name, "added": len(made), "there": doubles}
    shown = dict(made[0].cells) if len(made) == 1 else {}
    return output, {"cells": shown, "rows": [dict(one.cells) for one in made[:20]], "what": "added"}


def _written(
    session: Session, sheet: tables.Sheet, row: tables.SheetRow, looked: Looked, by: By
) -> tuple[dict[str, Any], dict[str, Any]]:
    known = {column["name"] for column in sheet.columns}
    puts = {column: one for column, one in looked.change.cells.items() if column in known}
    try:
        new = written(row.cells, puts)
        after = sheets.put(sheet, new)
    except (NotThis, ValueError) as error:
        raise OutsideError(str(error)) from None
    before = {column: row.cells.get(column, "") for column in after}
    if after:
        note(session, sheet.key, row.id, "written", before, after, by, row.position)
        row.cells = {**row.cells, **after}
        session.flush()
    output = {"row": row.position, "sheet": sheet.name, "found": "yes", "before": before, "after": after}
    return output, {"cells": after, "before": before, "what": "written", "changed_by": _other(session, row.id, before, by)}


def _other(session: Session, row: int, before: Mapping[str, Any], by: By) -> str:
    """Who wrote into the same cells before, where that was another run or somebody: two writers are told of each other."""
    change = tables.RowChange
    last = session.scalar(
        select(change)
        .where(change.row_id == row, change.what == "written", change.undone_by == "")
        .where((change.run_id != by.run) | change.run_id.is_(None))
        .order_by(change.id.desc())
        .limit(1)
    )
    if last is None or not set(last.after) & {column for column, value in before.items() if str(value).strip()}:
        return ""
    return last.who or f"run {last.run_id}"


def _moved(session: Session, sheet: tables.Sheet, row: tables.SheetRow, to: str, by: By) -> tuple[dict[str, Any], dict[str, Any]]:
    other = session.get(tables.Sheet, to)
    if other is None:
        raise NotFound(f"The sheet “{to}” is no longer here.")
    last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == to)) or 0
    sheets.widen(other, [c for c in sheet.columns if str(row.cells.get(c["name"], "")).strip()])
    note(session, to, row.id, "moved", {"sheet": sheet.key}, {"sheet": to}, by, row.position)
    before = dict(row.cells)
    row.sheet, row.position = to, last + 1
    session.flush()
    output = {"row": last + 1, "sheet": other.name, "found": "yes", "before": {}, "after": before}
    return output, {"cells": before, "what": "moved"}


# -- what was done, and taking it back --------------------------------------------------------------------


def note(
    session: Session,
    sheet: str,
    row: int,
    what: str,
    before: Mapping[str, Any],
    after: Mapping[str, Any],
    by: By,
    place: int = 0,
) -> tables.RowChange:
    """Keep what was done to a row; gives what is kept."""
    change = tables.RowChange(
        sheet=sheet,
        row_id=row,
        at=by.at,
        what=what,
        who=by.who,
        run_id=by.run,
        address=by.address,
        key=by.key,
        before=dict(before),
        after=dict(after),
        place=place,
    )
    session.add(change)
    return change


def put_cells(
    session: Session, sheet: tables.Sheet, cells_of: Iterable[tuple[int, Mapping[str, Any]]], by: By, free: bool = False
) -> list[tables.RowChange]:
    """Put texts into cells of rows, by their numbers; cells that stay as they are are left. Raises `ValueError` where a row is not
    in the sheet, a text is too long, or the sheet is only read (unless it is `free`, for what comes from where it stands)."""
    if not free:
        sheets.check_writable(session, sheet)
    made = []
    for number, texts in cells_of:
        row = session.get(tables.SheetRow, number)
        if row is None or row.sheet != sheet.key:
            raise ValueError("One of these rows is not in this sheet any more.")
        after = {name: text for name, text in sheets.put(sheet, texts).items() if str(row.cells.get(name, "")) != text}
        if after:
            before = {name: row.cells.get(name, "") for name in after}
            made.append(note(session, sheet.key, row.id, "written", before, after, by, row.position))
            row.cells = {**row.cells, **after}
    session.flush()
    return made


def add(
    session: Session, sheet: tables.Sheet, rows: Iterable[Mapping[str, Any]], by: By, free: bool = False
) -> list[tables.RowChange]:
    """Add rows at the end. Raises `ValueError` where there is no room, a text is too long, or the sheet is only read (see
    `put_cells`)."""
    if not free:
        sheets.check_writable(session, sheet)
    fresh = sheets.new_rows(session, sheet, [sheets.put(sheet, cells) for cells in rows])
    session.add_all(fresh)
    session.flush()
    made = [note(session, sheet.key, row.id, "added", {}, dict(row.cells), by, row.position) for row in fresh]
    session.flush()
    return made


def remove(session: Session, sheet: tables.Sheet, numbers: Iterable[int], by: By, free: bool = False) -> list[tables.RowChange]:
    """Remove rows of a sheet; those that are not there are passed over. Raises `ValueError` where it is only read (see `put_cells`)."""
    if not free:
        sheets.check_writable(session, sheet)
    row = tables.SheetRow
    gone = list(session.scalars(select(row).where(row.sheet == sheet.key, row.id.in_(list(numbers)))))
    made = [note(session, sheet.key, one.id, "removed", one.cells, {}, by, one.position) for one in gone]
    session.execute(delete(row).where(row.id.in_([one.id for one in gone])))
    session.flush()
    return made


def changes_of_run(session: Session, run: int, address: str = "") -> list[tables.RowChange]:
    """What a run did to rows, in order; of one address where it is given."""
    change = tables.RowChange
    wanted = select(change).where(change.run_id == run)
    wanted = wanted.where(change.address == address) if address else wanted
    return list(session.scalars(wanted.order_by(change.id)))


def undo(session: Session, changes: Iterable[tables.RowChange], by: By) -> tuple[list[tables.RowChange], list[str]]:
    """Take changes back, the last first; gives the changes this made, which can be taken back in turn. What somebody changed
    since is left, and told in words."""
    made, left = [], []
    for change in sorted(changes, key=lambda one: -one.id):
        if change.undone_by:
            continue
        done = _undone(session, change, by)
        if isinstance(done, str):
            left.append(done)
            continue
        change.undone_by = by.who or "somebody"
        if done is not None:
            made.append(done)
    session.flush()
    return made, left


def _undone(session: Session, change: tables.RowChange, by: By) -> tables.RowChange | str | None:
    """Take one change back, by another where one is needed; why it cannot be, in words, where it cannot."""
    try:
        sheets.check_writable(session, session.get_one(tables.Sheet, change.sheet))
    except ValueError as error:
        return str(error)
    row = session.get(tables.SheetRow, change.row_id)
    if change.what == "removed":
        if row is not None:
            return f"Row {change.place} is there again already."
        session.add(tables.SheetRow(id=change.row_id, sheet=change.sheet, position=change.place, cells=dict(change.before)))
        session.flush()
        return note(session, change.sheet, change.row_id, "added", {}, change.before, by, change.place)
    if row is None:
        return None if change.what == "added" else f"Row {change.place} is not there any more."
    if change.what == "moved":
        back = str(change.before["sheet"])
        if row.sheet != change.after["sheet"]:
            return f"Row {row.position} went to another sheet since."
        if session.get(tables.Sheet, back) is None:
            return f"The sheet “{back}” this row stood in is no longer here."
        row.sheet, row.position = back, change.place
        session.flush()
        return note(session, row.sheet, row.id, "moved", change.after, change.before, by, change.place)
    since = [column for column, value in change.after.items() if str(row.cells.get(column, "")) != str(value)]
    if since:
        return f"Row {row.position} was changed since: {', '.join(since[:5])}."
    if change.what == "added":
        made = note(session, row.sheet, row.id, "removed", dict(row.cells), {}, by, row.position)
        session.delete(row)
    else:
        made = note(session, row.sheet, row.id, "written", change.after, change.before, by, row.position)
        row.cells = {**row.cells, **change.before}
    session.flush()
    return made


def history(session: Session, row: int, most: int = 200) -> list[tables.RowChange]:
    """What was done to a row, the latest first."""
    change = tables.RowChange
    return list(session.scalars(select(change).where(change.row_id == row).order_by(change.id.desc()).limit(most)))


def removed(session: Session, sheet: str, now: float, most: int = 500) -> list[tables.RowChange]:
    """The rows of a sheet that were removed and can be brought back, the latest first."""
    change = tables.RowChange
    since = now - KEPT_DAYS * 86_400
    mine = change.sheet == sheet, change.what == "removed", change.undone_by == "", change.at > since
    return list(session.scalars(select(change).where(*mine).order_by(change.at.desc()).limit(most)))


def forget(session: Session, now: float) -> None:
    """Rows that were removed long ago cannot be brought back any more."""
    change = tables.RowChange
    session.execute(delete(change).where(change.what == "removed", change.at < now - KEPT_DAYS * 86_400))


def foreseen(session: Session, change: Change, own: int | None) -> Iterator[tuple[dict[str, Any], dict[str, Any]]]:
    """For a proof: what the row that would be changed holds now, and what it would hold; nothing where there is none yet."""
    if change.do == "add":
        return
    number = own if change.find.own else change.find.number
    if number is None and change.find.by:
        number = by_columns(session, change.sheet, change.find.by)
    row = session.get(tables.SheetRow, number) if number is not None else None
    if row is not None and row.sheet == change.sheet:
        after = written(row.cells, change.cells) if change.do == "write" else {}
        yield {column: row.cells.get(column, "") for column in after} or dict(row.cells), after
