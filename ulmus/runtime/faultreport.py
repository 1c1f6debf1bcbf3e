"""What whoever looks into a fault needs of a house, in one file and without its secrets: what runs where, how much there is of what, what
fails and why, and the end of the log. No draft, row, mail or prompt is put in; what a failure cites and titles of items in the log may
hold some of their words, so that it is looked through before it is given away."""

from __future__ import annotations

import importlib.metadata
import json
import platform
import sqlite3
import sys
import zipfile
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, text

from ..store import Sealer, Store, tables
from .logs import without

LOG = "ulmus.log"
TAIL = 2_000_000
"""Bytes of the log's end."""
MOST = 200
"""Failures told."""

_COUNTED = ("runs", "pieces", "workflows", "approvals")


def gather(store: Store, sealer: Sealer, to: Path) -> list[str]:
    """Write the report as a ZIP file at `to`; gives the names of what is in it. Raises `FileExistsError` where something is there."""
    with store.engine.connect() as connection:
        secrets = _secrets(connection, sealer)
        parts = {
            "about.json": _about(store, connection),
            "counts.json": _counts(connection),
            "failing.json": _failing(connection),
        }
    files = {name: json.dumps(_without(part, secrets), indent=1, ensure_ascii=False) for name, part in parts.items()}
    files["log.txt"] = without(_tail(store.folder / LOG), secrets)
    with zipfile.ZipFile(to, "x", zipfile.ZIP_DEFLATED) as out:
        for name, whole in files.items():
            out.writestr(name, whole)
    return list(files)


def _without(value: Any, secrets: list[str]) -> Any:
    if isinstance(value, dict):
        return {name: _without(one, secrets) for name, one in value.items()}
    if isinstance(value, list):
        return [_without(one, secrets) for one in value]
    return without(value, secrets) if isinstance(value, str) else value


def _secrets(connection: Connection, sealer: Sealer) -> list[str]:
    """All that must not be in it: what connections keep sealed, and the key itself."""
    sealed = connection.execute(text("SELECT sealed FROM connections")).scalars()
    opened = (value for one in sealed for value in sealer.open(one or "").values())
    return [sealer.key.decode(), *(str(value) for value in opened)]


def _about(store: Store, connection: Connection) -> dict[str, Any]:
    pages = [connection.exec_driver_sql(f"PRAGMA {name}").scalar() or 0 for name in ("page_count", "page_size", "freelist_count")]
    packages = {one.metadata["Name"]: one.version for one in importlib.metadata.distributions()}
    return {
        "ulmus": importlib.metadata.version("ulmus"),
        "python": sys.version,
        "platform": platform.platform(),
        "sqlite": sqlite3.sqlite_version,
        "revision": connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar(),
        "database_bytes": pages[0] * pages[1],
        "free_bytes": pages[2] * pages[1],
        "files_bytes": sum(one.stat().st_size for one in (store.folder / "files").rglob("*") if one.is_file()),
        "packages": dict(sorted(packages.items(), key=lambda one: one[0].lower())),
    }


def _counts(connection: Connection) -> dict[str, Any]:
    """How many rows each table has, and of some how they stand."""
    found: dict[str, Any] = {
        name: connection.exec_driver_sql(f'SELECT count(*) FROM "{name}"').scalar() for name in sorted(tables.Base.metadata.tables)
    }
    for name in _COUNTED:
        found[f"{name} by state"] = dict(
            connection.exec_driver_sql(f"SELECT state, count(*) FROM {name} GROUP BY state").tuples().all()
        )
    kinds = connection.exec_driver_sql("SELECT kind, count(*), sum(test_ok = 0) FROM connections GROUP BY kind")
    found["connections by kind"] = {kind: {"there": there, "did not answer": bad or 0} for kind, there, bad in kinds}
    return found


def _failing(connection: Connection) -> dict[str, Any]:
    """Runs that stopped, pieces in doubt and starts that cannot be looked at, the latest first: where and why."""
    runs = connection.exec_driver_sql(
        "SELECT id, workflow_id, state, step, message, changed_at FROM runs WHERE state IN ('failed', 'stuck', 'unsure', 'held')"
        f" ORDER BY changed_at DESC LIMIT {MOST}"
    )
    pieces = connection.exec_driver_sql(
        "SELECT id, run_id, kind, state, attempt, message FROM pieces WHERE state IN ('unsure', 'failed', 'held')"
        f" ORDER BY id DESC LIMIT {MOST}"
    )
    starts = connection.exec_driver_sql(f"SELECT workflow_id, looked_at, found FROM starts WHERE failed LIMIT {MOST}")
    return {name: [dict(one._mapping) for one in found] for name, found in (("runs", runs), ("pieces", pieces), ("starts", starts))}


def _tail(log: Path) -> str:
    if not log.exists():
        return ""
    with log.open("rb") as file:
        file.seek(max(0, log.stat().st_size - TAIL))
        return file.read().decode("utf-8", "replace")
