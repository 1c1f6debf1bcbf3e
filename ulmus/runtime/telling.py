"""What the house itself tells people: pieces of its own in the outbox, each once for its key."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store import tables

ASKED_BY_MAIL = "approval_mail"
"""What a piece is that tells a person of a question, or answers them about it, by mail."""
ASKED_IN_ROOM = "approval_message"
"""The same in a team’s room."""
NOTICE = "notice"
"""What a piece is that tells of something that is wrong."""
HOUSE_TELLS = frozenset((ASKED_BY_MAIL, ASKED_IN_ROOM, NOTICE))
"""The pieces with which the house itself tells people something."""


def put(
    session: Session,
    kind: str,
    key: str,
    through: str,
    content: dict[str, Any],
    now: float,
    due: float | None = None,
    approval: int | None = None,
) -> None:
    """Have something told through a connection, from `due` on (seconds since the epoch); nothing where its key is taken, since it
    was told then."""
    if session.scalar(select(tables.Piece.id).where(tables.Piece.key == key)) is not None:
        return
    session.add(
        tables.Piece(
            key=key,
            approval_id=approval,
            connection=through,
            kind=kind,
            content=content,
            state="queued",
            queued_at=now,
            due_at=now if due is None else due,
        )
    )
