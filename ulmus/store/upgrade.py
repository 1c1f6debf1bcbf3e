"""Bringing a database up to date: a copy first, then each migration in a transaction of its own.

Killed at any moment, the next start finds either the database before a migration or after it, and goes on from there.
SQLite's own library for Python would end the transaction at the first change of a table; here every transaction is begun
and ended in so many words.
"""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event

from . import functions
from .trouble import DAMAGED, DataTrouble

MIGRATIONS = Path(__file__).with_name("migrations")
COPIES = "before-upgrade-*.db"
KEPT = 3
CHECKED_FOR = 200_000
"""So many times a thousand of SQLite's instructions the check at a start may take (some seconds); `verify` looks at all."""


def bring_up_to_date(path: Path) -> None:
    """Bring the database at `path` to the newest revision; makes it where there is none. Raises `DataTrouble`."""
    engine = _engine(path)
    try:
        with engine.connect() as connection:
            check(connection.connection.dbapi_connection, CHECKED_FOR)
            now = revision_of(connection)
        if now == newest():
            return
        if now is not None:
            copy(path, path.with_name(f"before-upgrade-{now}.db"))
            _tidy(path.parent)
        from alembic import command  # needed only now, and large

        config = configuration()
        with engine.connect() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
    finally:
        engine.dispose()


def configuration() -> Any:
    """Where the migrations are."""
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    return config


def revisions() -> list[str]:
    """All revisions there are, the newest last; their files begin with their numbers."""
    return sorted(path.name.partition("_")[0] for path in (MIGRATIONS / "versions").glob("[0-9]*_*.py"))


def newest() -> str:
    """The newest revision there is."""
    return revisions()[-1]


def revision_of(connection: Connection) -> str | None:
    """The revision a database is at; ``None`` for an empty one. Raises `DataTrouble` for one this version does not know."""
    noted = connection.exec_driver_sql("SELECT 1 FROM sqlite_master WHERE name = 'alembic_version'").first()
    now = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() if noted else None
    if now is not None and now not in revisions():
        raise DataTrouble(
            "This data was written by a newer version of Ulmus. Install that version again, or restore a backup made before."
        )
    return None if now is None else str(now)


def check(connection: Any, most: int = 0) -> None:
    """Look for damage in a database (a connection of `sqlite3`), for at most `most` thousand instructions where that is given.
    Raises `DataTrouble`."""
    left = most

    def enough() -> int:
        nonlocal left
        left -= 1
        return left <= 0

    if most:
        connection.set_progress_handler(enough, 1000)
    try:
        found = connection.execute("PRAGMA quick_check(1)").fetchone()
    except sqlite3.OperationalError as error:
        if "interrupt" not in str(error):
            raise
        return
    finally:
        connection.set_progress_handler(None, 0)
    if found is not None and found[0] != "ok":
        raise DataTrouble(DAMAGED)


def copy(path: Path, to: Path) -> None:
    """A copy of a database as it stands at this moment, complete or not there; who writes in it meanwhile is not held up.

    The copy is a single file without a log beside it.
    """
    part = to.with_suffix(".part")
    part.unlink(missing_ok=True)
    os.close(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    source, target = sqlite3.connect(path), sqlite3.connect(part)
    try:
        # In one go, so that it is all read in one transaction: in steps it would begin anew after each change.
        source.backup(target, pages=-1)
        target.execute("PRAGMA journal_mode=DELETE")
    finally:
        source.close()
        target.close()
    part.replace(to)


def _tidy(folder: Path) -> None:
    """Keep the latest copies only."""
    for old in sorted(folder.glob(COPIES), key=lambda path: path.stat().st_mtime)[:-KEPT]:
        old.unlink()


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 20})

    @event.listens_for(engine, "connect")
    def _plain(connection: Any, _: Any) -> None:
        functions.register(connection)
        connection.isolation_level = None
        connection.execute("PRAGMA journal_mode=WAL")
        connection.execute("PRAGMA synchronous=FULL")
        # A table that is made anew is dropped in between: what hangs on its rows must not go with it.
        connection.execute("PRAGMA foreign_keys=OFF")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    return engine
