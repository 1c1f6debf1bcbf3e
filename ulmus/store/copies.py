"""Backups: a folder with the database, the key and the files, with a list of what it holds; made while the house works.

The database is copied first, in one transaction, and then the files: they are kept by their content and written before the
rows that name them, so that every file the copied database knows of is in the copy.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from .. import __version__
from . import functions, packed, upgrade
from .db import DATABASE, Store, private
from .place import hold_copy
from .secrets import KEY, NO_KEY, OTHER_KEY, PROOF, Sealer
from .trouble import DAMAGED, DataTrouble, in_words

LIST = "backup.json"
FORMAT = 1
FILES = "files"


@dataclass(frozen=True)
class Backup:
    """What a backup holds: when it was made (seconds since the epoch), how many files and bytes."""

    folder: Path
    made_at: float
    files: int
    size: int


def back_up(folder: Path, to: Path, clock: Callable[[], float] = time.time) -> Backup:
    """Make a backup of the data in `folder`, which may be in use, in the folder `to`, which must not be there yet or be empty.

    It is complete or not there. Raises `DataTrouble`.
    """
    if not (folder / DATABASE).exists():
        raise DataTrouble(f"There is no data in {folder}.")
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise DataTrouble(f"{to} is there already. Give the name of a new folder.")
    if not (folder / KEY).exists():
        raise DataTrouble(NO_KEY)
    part = to.with_name(f"{to.name}.part")
    with in_words(to.parent):
        try:
            shutil.rmtree(part, ignore_errors=True)
            part.mkdir(parents=True, mode=0o700)
            made_at = clock()
            upgrade.copy(folder / DATABASE, part / DATABASE)
            _copy(folder / KEY, part / KEY)
            for sha in _files_of(part / DATABASE):
                kept = folder / FILES / sha[:2] / sha
                if kept.exists():
                    _copy(kept, part / FILES / sha[:2] / sha)
            for run in _packed_of(part / DATABASE):
                _copy(packed.path_of(folder, run), packed.path_of(part, run))
            sums = {str(p.relative_to(part)): _sum(p) for p in sorted(part.rglob("*")) if p.is_file()}
            listed = {"ulmus_backup": FORMAT, "version": __version__, "made_at": made_at, "files": sums}
            (part / LIST).write_text(json.dumps(listed, indent=1))
            (part / LIST).chmod(0o600)
            if to.exists():
                to.rmdir()
            part.rename(to)
            _settle(to.parent)
        except BaseException:
            shutil.rmtree(part, ignore_errors=True)
            raise
    return _about(to, listed)


def verify(folder: Path) -> Backup | None:
    """Look through a backup, or the data of a house, whole. Raises `DataTrouble` with what is wrong; gives what it is a backup
    of, ``None`` for a house's own data."""
    with in_words(folder):
        if not (folder / DATABASE).exists():
            raise DataTrouble(f"There is no data in {folder}.")
        listed = _listed(folder)
        if listed is not None:
            _compare(folder, listed["files"])
        if not (folder / KEY).exists():
            raise DataTrouble(NO_KEY)
        base = sqlite3.connect(f"file:{folder / DATABASE}?mode=ro", uri=True)
        functions.register(base)
        try:
            if [row[0] for row in base.execute("PRAGMA integrity_check(20)")] != ["ok"]:
                raise DataTrouble(DAMAGED)
            if (loose := base.execute("PRAGMA foreign_key_check").fetchone()) is not None:
                raise DataTrouble(f"The database is damaged: a row of “{loose[0]}” belongs to nothing.")
            tables = {name for (name,) in base.execute("SELECT name FROM sqlite_master")}
            proof = base.execute("SELECT value FROM house WHERE name = ?", (PROOF,)).fetchone() if "house" in tables else None
        finally:
            base.close()
        if proof is not None and not Sealer(folder, may_make=False).open(proof[0]):
            raise DataTrouble(OTHER_KEY)
        lost = [sha for sha in _files_of(folder / DATABASE) if _is_lost(folder / FILES / sha[:2] / sha, sha)]
        for run in _packed_of(folder / DATABASE):
            packed.read(packed.path_of(folder, run))
        if lost:
            raise DataTrouble(f"{len(lost)} kept files are missing or changed, the first {lost[0][:12]}….")
    return _about(folder, listed) if listed is not None else None


def restore(backup: Path, folder: Path) -> Backup:
    """Put a backup in place as the data in `folder`, where none must be. The house that starts there is held.

    Raises `DataTrouble`; then nothing is in `folder`.
    """
    if (folder / DATABASE).exists():
        raise DataTrouble(f"There is data in {folder} already. Give another folder, or move that away first.")
    about = verify(backup)
    if about is None:
        raise DataTrouble(f"{backup} is no backup: it has no {LIST}. To move a house, copy its folder while it is stopped.")
    with in_words(folder):
        part = folder.with_name(f"{folder.name}.part")
        shutil.rmtree(part, ignore_errors=True)
        try:
            private_copy(backup, part)
            store = Store(part)
            try:
                hold_copy(store, about.made_at)
            finally:
                store.close()
            folder.mkdir(parents=True, exist_ok=True)
            for path in sorted(part.iterdir(), key=lambda p: p.name == DATABASE):
                path.replace(folder / path.name)  # the database last: until it is there, there is no house
            part.rmdir()
            private(folder)
            _settle(folder)
        except BaseException:
            shutil.rmtree(part, ignore_errors=True)
            raise
    return about


def private_copy(backup: Path, to: Path) -> None:
    """The data of a backup in a folder of its own."""
    listed = _listed(backup)
    assert listed is not None
    for name in listed["files"]:
        _copy(backup / name, to / name)


def _listed(folder: Path) -> dict[str, Any] | None:
    """What a backup says it holds; ``None`` where there is no such list."""
    try:
        listed = json.loads((folder / LIST).read_text())
        files = listed["files"]
        if listed["ulmus_backup"] > FORMAT:
            raise DataTrouble("This backup was made by a newer version of Ulmus.")
        if any(".." in Path(name).parts or Path(name).is_absolute() for name in files):
            raise ValueError
        return {"made_at": float(listed["made_at"]), "files": dict(files)}
    except FileNotFoundError:
        return None
    except (ValueError, KeyError, TypeError):
        raise DataTrouble(f"The list of what this backup holds ({LIST}) cannot be read.") from None


def _compare(folder: Path, sums: dict[str, str]) -> None:
    for name, expected in sums.items():
        if not (folder / name).is_file():
            raise DataTrouble(f"The backup is not complete: {name} is missing.")
        if _sum(folder / name) != expected:
            raise DataTrouble(f"The backup is damaged: {name} is not what was written.")


def _about(folder: Path, listed: dict[str, Any]) -> Backup:
    size = sum((folder / name).stat().st_size for name in listed["files"])
    return Backup(folder, listed["made_at"], max(0, len(listed["files"]) - 2), size)


def _files_of(database: Path) -> list[str]:
    """The names of the files a database knows of."""
    base = sqlite3.connect(f"file:{database}?mode=ro", uri=True)
    try:
        there = base.execute("SELECT 1 FROM sqlite_master WHERE name = 'files'").fetchone()
        return [sha for (sha,) in base.execute("SELECT sha FROM files")] if there else []
    finally:
        base.close()


def _packed_of(database: Path) -> list[int]:
    """The runs whose journals are packed, as far as a database knows."""
    base = sqlite3.connect(f"file:{database}?mode=ro", uri=True)
    try:
        columns = {name for _, name, *_ in base.execute("PRAGMA table_info(runs)")}
        return [run for (run,) in base.execute("SELECT id FROM runs WHERE packed IS NOT NULL")] if "packed" in columns else []
    finally:
        base.close()


def _is_lost(path: Path, sha: str) -> bool:
    return not path.is_file() or _sum(path) != sha


def _sum(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _copy(path: Path, to: Path) -> None:
    """Copy a file for its owner only, and have it on the disk."""
    to.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(to, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with path.open("rb") as source, os.fdopen(handle, "wb") as target:
        shutil.copyfileobj(source, target, 1 << 20)
        target.flush()
        os.fsync(target.fileno())


def _settle(folder: Path) -> None:
    """Have what was renamed in a folder on the disk."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
