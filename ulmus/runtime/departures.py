"""When a piece goes out, and what keeps it back: the time its line says, the seconds after an approval, its latest time, a quota."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..store import tables
from . import quotas, timing

TOO_LATE = "It was to go out earlier than it could. Send it all the same, or take it back."


def set_time(session: Session, piece: tables.Piece, goes: timing.Goes, now: float, take_back: float) -> None:
    """Set when a piece goes out, with `take_back` seconds after an approval. One that was to go already, and failed, goes at once.
    Raises `OutsideError` where its channel has no place for it."""
    here = tables.Piece.run_id == piece.run_id, tables.Piece.address == piece.address
    tried = session.scalar(select(func.max(tables.Piece.goes_at)).where(*here, tables.Piece.attempt > 0))
    if tried is not None and tried <= now:
        piece.goes_at = piece.due_at = now
        piece.goes_by = piece.goes_by or goes.not_after
        return
    first = max(now, goes.not_before or now)
    at = timing.next_free(session, piece.connection, first, piece.id) if goes.place else max(first, goes.at or first)
    if take_back:
        said = select(func.max(tables.Approval.decided_at))
        approved = session.scalar(said.where(tables.Approval.run_id == piece.run_id, tables.Approval.state == "approve"))
        at = max(at, (approved or 0.0) + take_back)
    piece.goes_at = piece.due_at = at
    piece.goes_by = goes.not_after
    if goes.not_after is not None and at > goes.not_after:
        piece.state, piece.message = "held", TOO_LATE


def must_wait(session: Session, piece: tables.Piece, now: float) -> bool:
    """Hold a piece that would go out too late, or past a quota of its connection: then a person is asked. Gives whether it is held."""
    if piece.state == "queued" and piece.goes_by is not None and now > piece.goes_by:
        piece.state, piece.message = "held", TOO_LATE
        return True
    if piece.waived or piece.run_id is None:
        return False
    room, quota = quotas.left(session, piece.connection, now)
    if room is None or room > 0:
        return False
    piece.state, piece.message = "held", quota_reached(quota)
    return True


def quota_reached(quota: str) -> str:
    """What is said where a quota is reached."""
    return f"The connection has let out {quota}. Send it all the same, move it, or take it back."
