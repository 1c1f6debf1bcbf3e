"""What can be wrong with a data folder, in words for whoever runs the house."""

from __future__ import annotations

import errno
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy.exc import DBAPIError

FULL = "The disk is full. Make room, and what waits goes on by itself."
DAMAGED = "The database is damaged. Stop the house and restore its latest backup: ulmus restore FROM."


class DataTrouble(RuntimeError):
    """The data folder cannot be worked with; the words say why and what to do."""


def words_for(error: BaseException, folder: Path) -> str | None:
    """What an error of the database or the disk means for the data in `folder`; ``None`` for any other error."""
    cause = error.orig if isinstance(error, DBAPIError) and error.orig is not None else error
    if isinstance(cause, OSError):
        words = {
            errno.ENOSPC: FULL,
            errno.EDQUOT: FULL,
            errno.EROFS: f"{folder} can only be read. Ulmus has to write there.",
            errno.EACCES: f"{folder} does not belong to the account Ulmus runs under.",
            errno.EPERM: f"{folder} does not belong to the account Ulmus runs under.",
            errno.ENOTDIR: f"{folder} is a file, not a folder.",
            errno.EEXIST: f"{folder} is a file, not a folder.",
        }
        return words.get(cause.errno or 0)
    if isinstance(cause, sqlite3.DatabaseError):
        said = str(cause)
        if "full" in said:
            return FULL
        if "disk I/O" in said:
            return f"The disk with {folder} fails or cannot be reached ({said}). Look at it before anything is lost."
        if "malformed" in said or "not a database" in said:
            return DAMAGED
        if "readonly" in said or "unable to open" in said:
            return f"The database in {folder} cannot be written. Look at who owns the folder and its files."
    return None


@contextmanager
def in_words(folder: Path) -> Iterator[None]:
    """Errors of the disk and the database come out as `DataTrouble`."""
    try:
        yield
    except (OSError, DBAPIError, sqlite3.DatabaseError) as error:
        words = words_for(error, folder)
        if words is None:
            raise
        raise DataTrouble(words) from error
