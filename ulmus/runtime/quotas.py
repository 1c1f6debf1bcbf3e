"""How many pieces a connection may let out a day and a month, how often it may be asked, for how many tokens; and how many it has.

A letter of a mailing counts as a piece. What is asked in proofs counts like what is asked in runs.
"""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from ..core.cost import Usage
from ..store import tables
from .services import Services

WORDS = {"pieces_a_day": "of today", "pieces_a_month": "of this month"}


def left(session: Session, connection: str, now: float) -> tuple[int | None, str]:
    """How many pieces may still go out through a connection, ``None`` where it has no quota; and which quota that is, in words."""
    record = session.get(tables.Connection, connection)
    tightest: tuple[int | None, str] = None, ""
    for name, words in WORDS.items():
        most = record.settings.get(name) if record is not None else None
        if most:
            room = max(0, int(most) - sent_since(session, connection, _since(name, now)))
            if tightest[0] is None or room < tightest[0]:
                tightest = room, f"its {int(most):,} pieces {words}"
    return tightest


def sent_since(session: Session, connection: str, since: float) -> int:
    """How many pieces and letters went out through a connection since a moment."""
    piece, letter = tables.Piece, tables.MailingLetter
    mailings = select(letter.piece_id).distinct()
    alone = select(func.count()).where(
        piece.connection == connection, piece.state == "sent", piece.sent_at >= since, piece.id.not_in(mailings)
    )
    letters = select(func.count()).select_from(letter).join(piece, piece.id == letter.piece_id)
    letters = letters.where(piece.connection == connection, letter.sent_at >= since)
    return (session.scalar(alone) or 0) + (session.scalar(letters) or 0)


def _since(name: str, now: float) -> float:
    """The beginning of the day or the month, where the server stands."""
    day = dt.datetime.fromtimestamp(now).replace(hour=0, minute=0, second=0, microsecond=0)
    return (day if name == "pieces_a_day" else day.replace(day=1)).timestamp()


FLUSH = 1.0
"""Seconds between two times that uses are written down; a house that is killed forgets at most these."""


class Uses:
    """How often each connection was asked today and this month, and for how many tokens. Thread-safe."""

    def __init__(self, services: Services) -> None:
        self.services = services
        self._used: dict[tuple[str, str], list[int]] = {}
        self._dirty: set[tuple[str, str]] = set()
        self._limits: dict[str, Mapping[str, Any]] = {}
        self._known = -1
        self._next = 0.0
        self._lock = threading.Lock()
        self._flushing = threading.Lock()

    def start(self) -> None:
        """Read what this month has used."""
        use, month = tables.Use, self._today()[:7]
        with self.services.store.read() as session:
            found = list(session.scalars(select(use).where(use.day.between(f"{month}-01", f"{month}-31"))))
        with self._lock:
            self._used = {(one.connection, one.day): [one.calls, one.tokens] for one in found}

    def note(self, keys: Iterable[str], usage: Usage) -> None:
        """Take notice that connections were asked; what counts no calls was one."""
        day = self._today()
        with self._lock:
            for key in keys:
                used = self._used.setdefault((key, day), [0, 0])
                used[0] += max(1, usage.calls)
                used[1] += usage.tokens_in + usage.tokens_out
                self._dirty.add((key, day))

    def reached(self, keys: Iterable[str]) -> str:
        """Which quota of some connections is used up, in words; empty where none is."""
        limits = self._read_limits()
        for key in keys:
            told = limits.get(key, {})
            for name, (at, since, words) in USES.items():
                most = told.get(name)
                if most and self.used(key, at, since) >= int(most):
                    return f"{told['name']} has had its {int(most):,} {words}."
        return ""

    def used(self, key: str, at: int, since: str) -> int:
        """How many calls (`at` 0) or tokens (1) a connection has had this ``day`` or ``month``."""
        today = self._today()
        begins = today if since == "day" else today[:7]
        with self._lock:
            return sum(used[at] for (one, day), used in self._used.items() if one == key and day.startswith(begins))

    def tick(self, now: float) -> None:
        """Write down what was used, now and then."""
        if now >= self._next:
            self._next = now + FLUSH
            self.flush()

    def reset(self, now: float) -> None:
        """The clock was set back."""
        self._next = 0.0

    def flush(self) -> None:
        """Write down what was used; what was noted before the call stands in the record after it."""
        with self._flushing:
            with self._lock:
                dirty, self._dirty = self._dirty, set()
                rows = [
                    {"connection": key, "day": day, "calls": self._used[key, day][0], "tokens": self._used[key, day][1]}
                    for key, day in dirty
                ]
            try:
                if rows:
                    self._write(rows)
            except BaseException:
                with self._lock:
                    self._dirty |= dirty
                raise
            month = self._today()[:7]
            with self._lock:
                self._used = {
                    place: used for place, used in self._used.items() if place[1].startswith(month) or place in self._dirty
                }

    def _write(self, rows: list[dict[str, Any]]) -> None:
        with self.services.store.write() as session:
            written = insert(tables.Use)
            session.connection().execute(
                written.on_conflict_do_update(
                    index_elements=["connection", "day"],
                    set_={"calls": written.excluded.calls, "tokens": written.excluded.tokens},
                ),
                rows,
            )

    def _read_limits(self) -> dict[str, Mapping[str, Any]]:
        """The quotas of the connections that have some, as they are now."""
        now = self.services.store.written("connections")
        if now != self._known:
            with self.services.store.read() as session:
                found = list(session.scalars(select(tables.Connection)))
            limits: dict[str, Mapping[str, Any]] = {
                c.key: {**c.settings, "name": c.name} for c in found if any(c.settings.get(name) for name in USES)
            }
            self._limits, self._known = limits, now
        return self._limits

    def _today(self) -> str:
        return dt.datetime.fromtimestamp(self.services.clock()).date().isoformat()


#: The settings of quotas on what a connection is asked: calls or tokens, since when, and in words.
USES = {
    "calls_a_day": (0, "day", "calls of today"),
    "calls_a_month": (0, "month", "calls of this month"),
    "tokens_a_day": (1, "day", "tokens of today"),
    "tokens_a_month": (1, "month", "tokens of this month"),
}
