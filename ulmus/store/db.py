"""The database: SQLite in WAL mode, many readers and one writer at a time."""

from __future__ import annotations

import json
import os
import secrets
import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.orm import Session

from ..core.values import read_kept
from . import functions, sight, upgrade
from .trouble import in_words

DATABASE = "ulmus.db"
IDENTITY = "identity"
_CHANGES = ("INSERT INTO ", "UPDATE ", "DELETE FROM ")


class Store:
    """Opens (and brings up to date) the database in `folder`. Raises `DataTrouble` where that cannot be done.

    `read()` and `write()` give sessions; a write commits when its block ends and rolls back on an error.
    Writes are serialised here, so they never meet SQLite's busy error within one process.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.path = folder / DATABASE
        with in_words(folder):
            private(folder)
            upgrade.bring_up_to_date(self.path)
            self._open()

    def _open(self) -> None:
        self.engine = _engine(self.path)
        self._narrowed = sight.stand_before(_engine(self.path))
        self._writing = threading.RLock()
        self._writer: Connection | None = None
        self._touched: set[str] = set()
        self._written: Counter[str] = Counter()
        event.listen(self.engine, "before_cursor_execute", self._note)
        self.identity = self._identity()

    def _identity(self) -> str:
        """The house's own random name, made with the data: what tells its effects from those of any other house."""
        with self.write() as session:
            connection = session.connection()
            made = (IDENTITY, secrets.token_hex(16))
            connection.exec_driver_sql("INSERT INTO house (name, value) VALUES (?, ?) ON CONFLICT DO NOTHING", made)
            return str(connection.exec_driver_sql("SELECT value FROM house WHERE name = ?", (IDENTITY,)).scalar_one())

    def fact(self, name: str) -> str | None:
        """What is noted of this data folder under `name`."""
        with self.engine.connect() as connection:
            found = connection.exec_driver_sql("SELECT value FROM house WHERE name = ?", (name,)).scalar()
        return None if found is None else str(found)

    def note(self, name: str, value: str | None) -> None:
        """Note a fact of this data folder; ``None`` takes it out."""
        with self.write() as session:
            set_fact(session.connection(), name, value)

    @contextmanager
    def read(self) -> Iterator[Session]:
        """A session for reading: of all there is, or of what is seen (see `sight`)."""
        seen = sight.brands()
        with Session(self.engine if seen is None else self._narrowed, expire_on_commit=False) as session:
            if seen is not None:
                sight.show(session.connection(), seen)
            yield session

    @contextmanager
    def write(self) -> Iterator[Session]:
        """A session for writing; one at a time."""
        with self._writing:
            try:
                with Session(self.engine, expire_on_commit=False) as session, session.begin(), self._watched(session):
                    yield session
            finally:
                if self._touched:
                    self._written.update(self._touched)
                    self._touched.clear()

    @contextmanager
    def _watched(self, session: Session) -> Iterator[None]:
        """Nothing out of sight is loaded or written."""
        sight.watch(session)
        yield
        if sight.brands() is not None:
            session.flush()

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """As `write`, with a plain connection: what writes a journal needs no more, many times a second."""
        with self._writing:
            try:
                if self._writer is None:
                    self._writer = self.engine.connect()
                with self._writer.begin():
                    yield self._writer
            finally:
                if self._touched:
                    self._written.update(self._touched)
                    self._touched.clear()

    def compact(self) -> None:
        """Write the database anew (`VACUUM`), so that nothing of what was removed is left between its pages or in its log."""
        with self._writing, self.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.exec_driver_sql("VACUUM")
            connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")

    def written(self, table: str) -> int:
        """How many transactions have changed a table: what was read of it is still true while this stays the same."""
        return self._written[table]

    def _note(self, connection: Any, cursor: Any, statement: str, *_: Any) -> None:
        """Note the table that a statement is about to change."""
        if statement.startswith(_CHANGES):
            self._touched.add(statement.split(None, 3)[1 if statement.startswith("UPDATE") else 2])

    def close(self) -> None:
        """Close all connections."""
        if self._writer is not None:
            self._writer.close()
            self._writer = None
        self.engine.dispose()
        self._narrowed.dispose()


_plain = json.JSONEncoder(allow_nan=False, ensure_ascii=False).encode


def write_json(value: Any) -> str:
    """JSON for a column; a number that is none is a fault of whoever brought it past the boundary for values. Letters stand as they
    are, since SQLite finds a key only so; half a surrogate pair cannot, and is escaped."""
    text = _plain(value)
    try:
        text.encode()
    except UnicodeEncodeError:
        return json.dumps(value, allow_nan=False)
    return text


def set_fact(connection: Connection, name: str, value: str | None) -> None:
    """As `Store.note`, within a transaction."""
    connection.exec_driver_sql("DELETE FROM house WHERE name = ?", (name,))
    if value is not None:
        connection.exec_driver_sql("INSERT INTO house (name, value) VALUES (?, ?)", (name, value))


def private(folder: Path) -> None:
    """Make a folder, and let nobody but its owner look into it (0700) and at the database, the key and the log (0600)."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    if not (folder / DATABASE).exists():
        # SQLite gives its log the rights of the database beside it.
        os.close(os.open(folder / DATABASE, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    for path in (folder, *folder.iterdir()):
        wanted = 0o700 if path.is_dir() else 0o600
        if path.stat().st_mode & 0o777 & ~wanted:
            path.chmod(wanted)


def _engine(path: Path) -> Engine:
    connect = {"timeout": 20, "check_same_thread": False}
    engine = create_engine(
        f"sqlite:///{path}", connect_args=connect, pool_size=20, json_serializer=write_json, json_deserializer=read_kept
    )

    @event.listens_for(engine, "connect")
    def _pragmas(connection: Any, _: Any) -> None:
        functions.register(connection)
        cursor = connection.cursor()
        cursor.execute("PRAGMA journal_mode=WAL")
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.execute("PRAGMA foreign_keys=ON")
        cursor.close()

    return engine
