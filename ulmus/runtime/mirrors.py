"""Sheets that stand in a file elsewhere: looked at now and then, and written when something changed here.

The file is a table in a file store (WebDAV), or one that is published at an address and only read. Its rows stand here as rows of a
sheet like any other, so that everything works with them; what was changed on either side since both were alike is brought together
(`ulmus.core.mirror`). The file is written only in the version that was read (RFC 9110, section 13.1.1), and what is cut off in
between is seen at the next look: a change that is there already is no change.
"""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import unquote, urlsplit

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from ..core.mirror import Base, Merged, merge
from ..protocols import filestore
from ..protocols.documents import books
from ..protocols.errors import OutsideError, Refused
from ..steps.connections.files import folder
from ..store import tables
from . import records, sheets
from .ports import Gate
from .services import Services

log = logging.getLogger("ulmus")
TRIES = 3
LATER = 5.0
"""Seconds after a change here until it is written, so that several go together."""
LONGEST_PAUSE = 3600.0
THE_FILE = "the file"
STARTS = "sheets elsewhere"
FAULT = "Ulmus met a fault of its own with this file; it stands in the log. It is tried again later."
BUSY = "Somebody else writes into the file at this moment; it is tried again."


@dataclass(frozen=True)
class _File:
    """A file as it was fetched: its content, and its version where it has one."""

    body: bytes
    tag: str


class Mirrors:
    """Looks at the files in which sheets stand."""

    def __init__(self, services: Services, gate: Gate) -> None:
        self.services = services
        self.gate = gate
        self._flying: set[str] = set()
        self._lock = threading.Lock()

    def tick(self, now: float) -> None:
        """Look at each file that is due, or whose sheet changed here."""
        outside, row = tables.OutsideSheet, tables.SheetRow
        latest = select(func.max(row.touched)).where(row.sheet == outside.sheet).scalar_subquery()
        count = select(tables.Tally.n).where(tables.Tally.what == "rows", tables.Tally.of == outside.sheet).scalar_subquery()
        changed = (outside.connection != "") & (
            (func.coalesce(latest, 0) > outside.seen) | (func.coalesce(count, 0) != outside.rows)
        )
        soon = (outside.looked_at.is_(None)) | (outside.looked_at <= now - LATER)
        due = select(outside.sheet, outside.connection).where(or_(outside.next_at <= now, changed & soon & ~outside.failed))
        with self._lock:  # a look that ends meanwhile is not taken for one that is still due
            with self.services.store.read() as session:
                found = [(sheet, connection) for sheet, connection in session.execute(due) if sheet not in self._flying]
            self._flying.update(sheet for sheet, _ in found)
        for sheet, connection in found:
            self.gate.submit(f"connection:{connection}" if connection else STARTS, partial(self._fly, sheet))

    def _fly(self, sheet: str, refused: OutsideError | None) -> OutsideError | None:
        try:
            return look(self.services, sheet, refused)
        except Exception as error:
            if self.services.health.met(error):
                return None
            log.exception("looking at the file of the sheet %s met a fault", sheet)
            # Told and tried again later, not at every tick.
            return look(self.services, sheet, OutsideError(FAULT))
        finally:
            with self._lock:
                self._flying.discard(sheet)


def look(services: Services, sheet: str, refused: OutsideError | None = None) -> OutsideError | None:
    """Bring a sheet and its file together now; gives what kept it from that, which is noted as well."""
    met, says = refused, ""
    try:
        if refused is not None:
            raise refused
        says = next((said for _ in range(TRIES) if (said := _brought_together(services, sheet)) is not None), BUSY)
    except OutsideError as error:
        met, says = error, error.message
    now = services.clock()
    with services.store.write() as session:
        record = session.get(tables.OutsideSheet, sheet)
        if record is None:
            return met
        record.looked_at, record.failed, record.says = now, met is not None, says
        pause = record.every if met is None else max(record.every, min(LONGEST_PAUSE, record.every * 4), met.retry_after or 0)
        record.next_at = now + pause
    services.bus.publish("sheet", key=sheet)
    return met


def _brought_together(services: Services, key: str) -> str | None:
    """One round; what was done, in words, or nothing where the file was changed meanwhile. Raises `OutsideError`."""
    with services.store.read() as session:
        record = session.get(tables.OutsideSheet, key)
        sheet = session.get(tables.Sheet, key)
        if record is None or sheet is None:
            return ""
        place, connection = record.place, record.connection
        base = [Base(*one) for one in record.base]
        row = tables.SheetRow
        wanted = select(row.id, row.cells, row.touched).where(row.sheet == key).order_by(row.position)
        ours = {id_: (_texts(cells), touched) for id_, cells, touched in session.execute(wanted)}
        known = [c["name"] for c in sheet.columns]
        numbers = frozenset(c["name"] for c in sheet.columns if c.get("type") == "number")
    file = fetched(services, connection, place)
    book = books.opened(file.body, name_of(place))
    names = [*book.heads, *(name for name in known if name not in book.heads)]
    written = partial(books.written, book.kind)
    merged = merge(base, book.rows, {id_: cells for id_, (cells, _) in ours.items()}, names, written)
    tag = file.tag
    if not connection:
        # What the house itself notes in such a sheet, that a row was used say, stays here.
        merged.cells, merged.lines, merged.append = [], [], []
    if merged.changes_file:
        added = [ours[id_][0] for id_ in merged.append]
        body = books.edited(file.body, book, merged.cells, merged.lines, added, numbers)
        saved = _save(services, connection, place, body, file)
        if saved is None:
            return None
        tag = saved
    try:
        with services.store.write() as session:
            if session.get_one(tables.OutsideSheet, key).base != [[one.row, one.there, one.here] for one in base]:
                return None  # another look came to its end meanwhile
            told = _taken_in(session, key, merged, book, base, ours, tag, services.clock())
    except ValueError as error:
        raise OutsideError(f"The file does not go into a sheet: {error}") from None
    return _in_words(merged, told)


def _save(services: Services, connection: str, place: str, body: bytes, file: _File) -> str | None:
    """Write the file in the version that was read; gives the new version, or nothing where it was changed meanwhile."""
    store = folder(services.connect(connection, "files"))
    if not file.tag and fetched(services, connection, place).body != file.body:
        return None
    try:
        return filestore.replace(services.web, store, place, body, file.tag)
    except Refused as error:
        if error.code == "refused" and error.retryable:
            return None
        raise


def fetched(services: Services, connection: str, place: str) -> _File:
    """The file of a sheet: out of a file store, or from an address. Raises `OutsideError`."""
    if connection:
        got = filestore.fetch(services.web, folder(services.connect(connection, "files")), place)
    else:
        got = services.web.fetch(place, max_bytes=filestore.LARGEST)
        if got.status != 200:
            raise OutsideError(
                f"The file cannot be had: the address answers with status {got.status}.", retryable=got.status >= 500
            )
    return _File(got.body, got.headers.get("etag", ""))


def name_of(place: str) -> str:
    """The name of a file by its place."""
    path = unquote(urlsplit(place).path) if "://" in place else place
    name = path.rstrip("/").rsplit("/", 1)[-1]
    # Published tables often have no ending in their address.
    return name if "." in name else f"{name or 'table'}.csv"


def open_sheet(services: Services, name: str, connection: str, place: str, every: float, brand: str | None = None) -> str:
    """Make a sheet of a file elsewhere, of a brand or the house's; gives its key. Raises `OutsideError`, or `ValueError` in plain words."""
    file = fetched(services, connection, place)
    book = books.opened(file.body, name_of(place))
    with services.store.write() as session:
        sheet = sheets.create(session, name, sheets.guessed(book.heads, book.rows[:1000]), brand)
        session.add(
            tables.OutsideSheet(
                sheet=sheet.key, connection=connection, place=place, every=every, next_at=services.clock() + every, base=[]
            )
        )
    look(services, sheet.key)
    return sheet.key


def _texts(cells: dict[str, Any]) -> dict[str, str]:
    return {name: str(value or "") for name, value in cells.items()}


def _taken_in(
    session: Session,
    key: str,
    merged: Merged,
    book: books.Book,
    base: list[Base],
    ours: dict[int, tuple[dict[str, str], int]],
    tag: str,
    now: float,
) -> list[str]:
    """Write here what changed in the file, and note what both sides say now. What changed here since it was looked at stays, and is
    brought into the file at the next look; gives what was changed on both sides."""
    sheet = session.get_one(tables.Sheet, key)
    sheets.widen(sheet, [{"name": name, "type": "text"} for name in book.heads])
    by = records.By(now, who=THE_FILE)
    still = {id_: row for id_ in ours if (row := session.get(tables.SheetRow, id_)) is not None and row.sheet == key}
    records.put_cells(session, sheet, [(id_, cells) for id_, cells in merged.put.items() if id_ in still], by, free=True)
    records.remove(session, sheet, [id_ for id_ in merged.drop if id_ in still], by, free=True)
    fresh = records.add(session, sheet, [book.rows[index] for index in merged.add], by, free=True)
    pairs = dict(merged.pairs) | {index: change.row_id for index, change in zip(merged.add, fresh, strict=True)}
    order = [index for index in range(len(book.rows)) if index not in set(merged.lines)]
    there = [dict(cells) for cells in book.rows]
    for index, name, text in merged.cells:
        there[index][name] = books.written(book.kind, text)
    noted: list[Base] = []
    for index in order:
        id_ = pairs.get(index)
        if id_ is not None:
            noted.append(Base(id_, there[index], _as_here(session, id_, ours, merged)))
    noted += [
        Base(id_, {name: books.written(book.kind, text) for name, text in ours[id_][0].items()}, ours[id_][0])
        for id_ in merged.append
    ]
    record = session.get_one(tables.OutsideSheet, key)
    record.base, record.rows = [[one.row, one.there, one.here] for one in noted], len(noted)
    record.tag = tag
    # What was written here meanwhile has a later number than anything that was seen, and is written at the next look.
    session.flush()
    seen = max((touched for _, touched in ours.values()), default=0)
    own = [*merged.put, *(change.row_id for change in fresh)]
    mine = session.scalar(select(func.max(tables.SheetRow.touched)).where(tables.SheetRow.id.in_(own))) or 0
    later = select(func.count()).where(tables.SheetRow.sheet == key, tables.SheetRow.touched > seen, tables.SheetRow.id.not_in(own))
    record.seen = seen if session.scalar(later) else max(seen, mine)
    return [f"row {still[id_].position}, {name}: “{text[:40]}”" for id_, name, text in merged.told if id_ in still]


def _as_here(session: Session, id_: int, ours: dict[int, tuple[dict[str, str], int]], merged: Merged) -> dict[str, str]:
    """What stood here when both sides were made alike: as it was looked at, with what came from the file as it was put."""
    row = session.get(tables.SheetRow, id_)
    if id_ not in ours:
        return _texts(row.cells) if row is not None else {}
    put = merged.put.get(id_, {})
    return {**ours[id_][0], **({name: str(row.cells.get(name, "") or "") for name in put} if row is not None else put)}


def _in_words(merged: Merged, told: list[str]) -> str:
    parts = [
        f"{len(rows)} row{'s' if len(rows) != 1 else ''} {what}"
        for rows, what in (
            (merged.add, "came from the file"),
            (merged.put, "changed there"),
            (merged.drop, "went there"),
            ({index for index, _, _ in merged.cells}, "written into the file"),
            (merged.append, "added to the file"),
            (merged.lines, "taken out of the file"),
        )
        if rows
    ]
    both = f" Changed on both sides, where the file’s stays: {'; '.join(told[:5])}." if told else ""
    return (", ".join(parts) + "." if parts else "Nothing changed.") + both
