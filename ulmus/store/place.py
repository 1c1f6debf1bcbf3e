"""Where a data folder stands, and why it may have to be held.

A copy that goes on by itself does a second time what its original does. A folder that was restored from a backup, or that
stands elsewhere than it did when it was last used, therefore starts *held*: nothing is sent, run or looked at until a person
lets it go. What such a copy does for runs that began before it was made keeps the keys the original gives it, so that its
channels can be asked.
"""

from __future__ import annotations

import ctypes
import json
import os
import platform
import secrets
import struct
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Literal

from sqlalchemy import Connection

from .db import IDENTITY, Store, set_fact

HOLD, PLACE, ORIGINS = "hold", "place", "origins"
_MACHINE = Path("/etc/machine-id")
_HERE, _BTIME = -100, 0x800  # AT_FDCWD and STATX_BTIME of statx(2)


@dataclass(frozen=True)
class Hold:
    """Why a house is held: it was `restored` from a backup made at `since`, or `moved` after it was last used at `since`."""

    why: Literal["restored", "moved"]
    since: float


@dataclass(frozen=True)
class Origin:
    """A house this one is a copy of: its identity, the last run it had when the copy was made, and when that was."""

    identity: str
    runs: int
    at: float


def claim(store: Store) -> Hold | None:
    """Note where the folder stands; gives why it is held, where it is. Called by whoever is about to work with it."""
    hold = held(store)
    if hold is not None:
        return hold
    noted, stands = store.fact(PLACE), _stands(store.path)
    if noted is not None and noted not in (stands, stands.rpartition(" ")[0]):
        hold = Hold("moved", _last_used(store))
        store.note(HOLD, json.dumps(asdict(hold)))
        return hold
    if noted != stands:
        store.note(PLACE, stands)  # at the first time, or as older versions noted it
    return None


def held(store: Store) -> Hold | None:
    """Why the house is held; ``None`` where it is not."""
    kept = store.fact(HOLD)
    return Hold(**json.loads(kept)) if kept else None


def stand_here(store: Store) -> None:
    """The folder was moved here by whoever keeps the house; one that was restored stays held all the same."""
    hold = held(store)
    if hold is None or hold.why == "moved":
        with store.write() as session:
            set_fact(session.connection(), HOLD, None)
            set_fact(session.connection(), PLACE, _stands(store.path))


def hold_copy(store: Store, made_at: float) -> None:
    """This folder is a copy made at `made_at`: it has a name of its own from now on, and is held."""
    with store.write() as session:
        _of_its_own(session.connection(), store, made_at)
        set_fact(session.connection(), HOLD, json.dumps(asdict(Hold("restored", made_at))))
        set_fact(session.connection(), PLACE, None)


def let_go(connection: Connection, store: Store, hold: Hold, is_copy: bool) -> None:
    """The house is held no more, within a transaction. One that was `moved` keeps its name unless it `is_copy`."""
    if is_copy and hold.why == "moved":
        _of_its_own(connection, store, hold.since)
    set_fact(connection, HOLD, None)
    set_fact(connection, PLACE, _stands(store.path))


def origins(store: Store) -> list[Origin]:
    """The houses this one is a copy of, the earliest first."""
    return [Origin(**load) for load in json.loads(store.fact(ORIGINS) or "[]")]


def _of_its_own(connection: Connection, store: Store, at: float) -> None:
    runs = connection.exec_driver_sql("SELECT coalesce(max(id), 0) FROM runs").scalar_one()
    kept = [*origins(store), Origin(store.identity, int(runs), at)]
    store.identity = secrets.token_hex(16)
    set_fact(connection, IDENTITY, store.identity)
    set_fact(connection, ORIGINS, json.dumps([asdict(one) for one in kept]))


def _last_used(store: Store) -> float:
    with store.engine.connect() as connection:
        return float(connection.exec_driver_sql("SELECT coalesce(max(changed_at), 0) FROM runs").scalar_one())


def _stands(path: Path) -> str:
    """The machine, the device, the inode and the birth of a database.

    An inode alone would not do: a copy that is made where its original was just removed is often given the same one.
    """
    about = path.stat()
    try:
        machine = _MACHINE.read_text().strip()
    except OSError:
        machine = platform.node()
    return f"{machine} {about.st_dev} {about.st_ino} {_born(path)}"


def _born(path: Path) -> int:
    """When a file came into being, in ns, by statx(2), which `os.stat` does not carry; 0 where that is not kept."""
    statx = getattr(ctypes.CDLL(None), "statx", None)
    told = ctypes.create_string_buffer(256)
    if statx is None or statx(_HERE, os.fsencode(path), 0, _BTIME, told) != 0:
        return 0
    (mask,), (seconds, rest) = struct.unpack_from("=I", told, 0), struct.unpack_from("=qI", told, 80)
    return int(seconds) * 10**9 + int(rest) if mask & _BTIME else 0
