"""Journals of runs that ended long ago, each packed into a file of its own.

A packed journal is ``journals/NNN/RUN.jsonl.gz``: gzip (RFC 1952) over JSON Lines, first a head (``ulmus_journal``: 1, ``run``), then
``[number, event]`` for each entry. The first entry stays in the database as well, and so does all that comes later, where a packed run is
taken up again: what a run is, is both together.
"""

from __future__ import annotations

import gzip
import json
import os
import re
from collections.abc import Callable, Sequence
from pathlib import Path

from sqlalchemy import Connection

from .db import Store
from .trouble import DataTrouble

FOLDER = "journals"
FORMAT = 1
Entry = tuple[int, str]
"""An entry's number in its journal, and its event as it was written (JSON)."""
_FILE = re.compile(r"/api/files/([0-9a-f]{64})")


class Emptied(DataTrouble):
    """What a run did is kept no longer; what went out of it stays on record."""


def path_of(folder: Path, run: int) -> Path:
    """Where a run's packed journal lies in a data folder."""
    return folder / FOLDER / f"{run // 1000:03d}" / f"{run}.jsonl.gz"


def folder_of(connection: Connection) -> Path:
    """The data folder of a database."""
    return Path(str(connection.engine.url.database)).parent


def whole(connection: Connection, run: int, rows: Sequence[Entry]) -> list[Entry]:
    """A run's journal from its first entry: what is packed, and the `rows` that the database has. Raises `DataTrouble`, and `Emptied`
    where it is kept no longer."""
    last, emptied = connection.exec_driver_sql("SELECT packed, emptied FROM runs WHERE id = ?", (run,)).one()
    if emptied is not None:
        raise Emptied("What this run did is kept no longer; what went out of it stays on record.")
    if last is None:
        return list(rows)
    # What was packed later than this database was copied is not of it.
    found = {number: event for number, event in read(path_of(folder_of(connection), run)) if number <= last}
    return sorted((found | dict(rows)).items())


def read(path: Path) -> list[Entry]:
    """The entries of a packed journal. Raises `DataTrouble`."""
    try:
        with gzip.open(path, "rt", encoding="utf-8") as file:
            head = json.loads(next(file))
            if head.get("ulmus_journal") != FORMAT:
                raise DataTrouble(f"The packed journal {path.name} was written by a newer version.")
            return [(number, json.dumps(event, ensure_ascii=False)) for number, event in map(json.loads, file)]
    except (OSError, EOFError, ValueError, StopIteration) as error:
        raise DataTrouble(f"The packed journal {path.name} cannot be read ({error}). Put it back from a backup.") from None


def pack(store: Store, run: int) -> bool:
    """Pack the journal of a run that has ended; gives whether it did. It is in the file, whole, before it leaves the database."""
    with store.read() as session:
        connection = session.connection()
        ended = connection.exec_driver_sql("SELECT ended_at FROM runs WHERE id = ?", (run,)).scalar()
        entries = whole(connection, run, _rows(connection, run))
    if ended is None or len(entries) < 2:
        return False
    _write(path_of(store.folder, run), run, entries)
    with store.writing() as connection:
        still = connection.exec_driver_sql("SELECT ended_at FROM runs WHERE id = ?", (run,)).scalar()
        latest = connection.exec_driver_sql("SELECT max(seq) FROM journal WHERE run_id = ?", (run,)).scalar() or 0
        if still is None or latest > entries[-1][0]:
            return False  # it was taken up again meanwhile
        connection.exec_driver_sql("DELETE FROM journal WHERE run_id = ? AND seq > 0", (run,))
        connection.exec_driver_sql("UPDATE runs SET packed = ? WHERE id = ?", (entries[-1][0], run))
        for sha in files_of(entries):
            connection.exec_driver_sql("INSERT OR IGNORE INTO packed_files (sha, run_id) VALUES (?, ?)", (sha, run))
    return True


def files_of(entries: Sequence[Entry]) -> set[str]:
    """The kept files (SHA-256) that a journal names."""
    return {sha for _, event in entries for sha in _FILE.findall(event)}


def empty(store: Store, run: int, now: float, whole: bool) -> set[str] | None:
    """Remove all but the first entry of the journal of a run that has ended, packed or not, or the `whole` run; gives the kept files it
    named, ``None`` where it was taken up again meanwhile. A packed file goes with the next `sweep`, so that a backup under way has it."""
    with store.writing() as connection:
        ended, packed = connection.exec_driver_sql("SELECT ended_at, packed FROM runs WHERE id = ?", (run,)).one_or_none() or (
            None,
            None,
        )
        if ended is None:
            return None
        rows = _rows(connection, run)
        names = connection.exec_driver_sql("SELECT sha FROM packed_files WHERE run_id = ?", (run,)).scalars()
        named = files_of(rows) | set(names)
        if whole:
            connection.exec_driver_sql("DELETE FROM runs WHERE id = ?", (run,))
            return named
        last = max(packed or 0, *(number for number, _ in rows), 0)
        connection.exec_driver_sql("DELETE FROM journal WHERE run_id = ? AND seq > 0", (run,))
        connection.exec_driver_sql("DELETE FROM packed_files WHERE run_id = ?", (run,))
        connection.exec_driver_sql("UPDATE runs SET packed = ?, emptied = ? WHERE id = ?", (last, now, run))
    return named


def rewrite(store: Store, run: int, change: Callable[[str], str]) -> None:
    """Write a packed journal anew with each event changed. Raises `DataTrouble`, and the file stands as it was."""
    path = path_of(store.folder, run)
    _write(path, run, [(number, change(event)) for number, event in read(path)])


def ripe(store: Store, before: float, most: int) -> list[int]:
    """Runs that ended before a time and were never packed, the oldest first. What comes of one that is taken up again afterwards stays
    in the database."""
    with store.read() as session:
        found = session.connection().exec_driver_sql(
            "SELECT id FROM runs WHERE packed IS NULL AND ended_at < ? AND EXISTS (SELECT 1 FROM journal WHERE run_id = runs.id AND seq > 0)"
            " ORDER BY ended_at LIMIT ?",
            (before, most),
        )
        return list(found.scalars())


def sweep(store: Store) -> int:
    """Remove files of runs that are no more, or whose journals are kept no longer; gives how many."""
    files = {int(path.name.split(".")[0]): path for path in (store.folder / FOLDER).glob("*/*.jsonl.gz")}
    with store.read() as session:
        there = set(
            session.connection().exec_driver_sql("SELECT id FROM runs WHERE packed IS NOT NULL AND emptied IS NULL").scalars()
        )
    gone = [path for run, path in files.items() if run not in there]
    for path in gone:
        path.unlink(missing_ok=True)
    return len(gone)


def _rows(connection: Connection, run: int) -> list[Entry]:
    found = connection.exec_driver_sql("SELECT seq, event FROM journal WHERE run_id = ? ORDER BY seq", (run,))
    return [(number, event) for number, event in found]


def _write(path: Path, run: int, entries: list[Entry]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = path.with_suffix(".part")
    head = json.dumps({"ulmus_journal": FORMAT, "run": run})
    lines = [head, *(f"[{number}, {event}]" for number, event in entries)]
    with open(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as raw:
        with gzip.GzipFile(fileobj=raw, mode="wb", mtime=0) as file:
            file.write(("\n".join(lines) + "\n").encode())
        raw.flush()
        os.fsync(raw.fileno())
    part.replace(path)
    handle = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
