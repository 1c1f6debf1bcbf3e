"""How many pieces a connection may let out a day and a month, and how many it has. A letter of a mailing counts as one."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..store import tables

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
