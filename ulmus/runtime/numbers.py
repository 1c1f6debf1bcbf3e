"""Channels that tell in numbers what came of a piece are asked some time after it went out; what they say is written beside it."""

from __future__ import annotations

import logging
from functools import partial

from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert

from ..protocols.errors import OutsideError
from ..store import tables
from . import results
from .ports import Gate
from .services import Services, numbered

log = logging.getLogger("ulmus")
EVERY = 30.0
"""Seconds between looks whether something is due."""
LATE = 86_400.0
"""Seconds after which it is too late to ask: the number would be another's."""
TRIES = 5
AGAIN = 600.0
"""Seconds before a look that failed is tried again; twice as long each time."""
MOST = 200


class Numbers:
    """Asks channels what came of their pieces."""

    def __init__(self, services: Services, gate: Gate) -> None:
        self.services = services
        self.gate = gate
        self._next = 0.0
        self._planned: dict[tuple[str, tuple[float, ...]], float] = {}

    def reset(self, now: float) -> None:
        """The clock was set back: look at once, and plan anew."""
        self._next = 0.0
        self._planned.clear()

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now >= self._next:
            self._next = now + EVERY
            self.plan(now)
            for piece_id, after, connection in self._due(now):
                self.gate.submit(f"connection:{connection}", partial(self._ask, piece_id, after))

    def plan(self, now: float) -> None:
        """Write down when the channels are to be asked about what went out since the last look."""
        with self.services.store.read() as session:
            asked = {c.key: numbered(c.settings) for c in session.scalars(select(tables.Connection))}
        for key, told in asked.items():
            if not told.paths:
                continue
            since = self._planned.get((key, told.delays), now - told.delays[-1] - LATE)
            self._planned = {k: at for k, at in self._planned.items() if k[0] != key} | {(key, told.delays): now}
            piece = tables.Piece
            sent = piece.connection == key, piece.state == "sent", piece.sent_at >= since
            with self.services.store.read() as session:
                found = [(id_, at or now) for id_, at in session.execute(select(piece.id, piece.sent_at).where(*sent))]
            rows = [
                {"piece_id": id_, "after": after, "due_at": at + after, "tries": 0, "wrong": ""}
                for id_, at in found
                for after in told.delays
                if at + after > now - LATE
            ]
            if rows:
                with self.services.store.write() as session:
                    session.connection().execute(insert(tables.NumbersLook).on_conflict_do_nothing(), rows)

    def _due(self, now: float) -> list[tuple[int, float, str]]:
        look, piece = tables.NumbersLook, tables.Piece
        due = (
            select(look.piece_id, look.after, piece.connection)
            .join(piece, piece.id == look.piece_id)
            .where(look.due_at <= now)
            .order_by(look.due_at)
            .limit(MOST)
        )
        with self.services.store.read() as session:
            found = [(id_, after, connection) for id_, after, connection in session.execute(due)]
        if found:
            # Under way: not asked again before this look has had its time.
            with self.services.store.write() as session:
                for piece_id, after, _ in found:
                    session.get_one(look, (piece_id, after)).due_at = now + AGAIN
        return found

    def _ask(self, piece_id: int, after: float, refused: OutsideError | None) -> OutsideError | None:
        """Ask about one piece; what went wrong is kept, and tried again a few times."""
        with self.services.store.read() as session:
            piece = session.get(tables.Piece, piece_id)
        if piece is None:
            return None
        met = refused
        told: dict[str, float] = {}
        try:
            told = results.ask_channel(self.services, piece) if refused is None else {}
        except OutsideError as error:
            met = error
        now = self.services.clock()
        with self.services.store.write() as session:
            look = session.get(tables.NumbersLook, (piece_id, after))
            if look is None:
                return met
            look.tries += 1
            if met is None:
                look.due_at, look.wrong = None, ""
                results.note_numbers(session, piece_id, after, told, now)
            else:
                look.wrong = met.message[:500]
                again = now + AGAIN * 2.0 ** (look.tries - 1)
                look.due_at = again if look.tries < TRIES and met.retryable else None
        if met is None:
            self.services.bus.publish("piece", id=piece_id)
        return met if refused is None else None
