"""The outbox: intent is written before sending and the receipt after, so that nothing goes out twice.

A piece whose sending was cut off is never sent blindly again: the other side is asked for it first.
Where it cannot be asked, the piece is *unsure* and a person decides.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import flow
from ..protocols import mail
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Outgoing
from ..steps.connections import mailer
from ..store import tables
from .carry import guarded
from .shelf import shelf

if TYPE_CHECKING:
    from .engine import Engine

log = logging.getLogger("ulmus")
MAIL_TRIES = 5
ASK_TRIES = 6

Job = Callable[[int, OutsideError | None], OutsideError | None]
"""Work on a piece; gets the reason where its outside did not let it through, gives what it failed with."""


class Outbox:
    """Sends pieces, one at a time each, and settles what a crash left open."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._flying: set[int] = set()
        self._lock = threading.Lock()
        self._hurry = threading.Event()

    def queue(self, session: Session, run_id: int, address: str, kind: str, outgoing: Outgoing, key: str, now: float) -> int:
        """Put a piece into the outbox in the caller's transaction; the same key is the same piece."""
        piece = session.scalar(select(tables.Piece).where(tables.Piece.key == key))
        if piece is None:
            piece = tables.Piece(key=key, run_id=run_id, address=address, kind=kind, queued_at=now)
            session.add(piece)
        piece.connection, piece.content = outgoing.connection, outgoing.content
        piece.state, piece.due_at, piece.message = "queued", now, ""
        session.flush()
        return piece.id

    def hurry(self) -> None:
        """Look at the outbox at the next tick even if it was just looked at."""
        self._hurry.set()

    def recover(self) -> None:
        """After a start: pieces with an intent and no receipt are looked into before anything else."""
        with self.engine.services.store.read() as session:
            cut_off = session.execute(select(tables.Piece.id, tables.Piece.connection).where(tables.Piece.state == "intent")).all()
        for piece_id, connection in cut_off:
            self._submit(piece_id, connection, self._look_into)

    def look(self, now: float) -> None:
        """Send what is due."""
        self._hurry.clear()
        with self.engine.services.store.read() as session:
            rows = session.execute(
                select(tables.Piece.id, tables.Piece.connection, tables.Piece.state).where(
                    tables.Piece.state.in_(("queued", "intent")), tables.Piece.due_at <= now
                )
            ).all()
        for piece_id, connection, state in rows:
            self._submit(piece_id, connection, self._deliver if state == "queued" else self._look_into)

    def _submit(self, piece_id: int, connection: str, job: Job) -> None:
        with self._lock:
            if piece_id in self._flying:
                return
            self._flying.add(piece_id)
        self.engine.outsides.submit(f"connection:{connection}", partial(self._fly, piece_id, job))

    def _fly(self, piece_id: int, job: Job, refused: OutsideError | None) -> OutsideError | None:
        try:
            return job(piece_id, refused)
        except Exception:
            log.exception("piece %s met a fault and will be looked into", piece_id)
            return None
        finally:
            with self._lock:
                self._flying.discard(piece_id)

    # -- sending ------------------------------------------------------------------------------------

    def _deliver(self, piece_id: int, refused: OutsideError | None) -> OutsideError | None:
        services = self.engine.services
        with services.store.write() as session:
            piece = session.get_one(tables.Piece, piece_id)
            if piece.state != "queued":
                return None
            piece.state, piece.attempt = "intent", piece.attempt + 1
            # While the sending is under way nobody looks into it; after a crash the start does.
            piece.due_at = services.clock() + 600
        try:
            if refused is not None:
                raise refused
            receipt = guarded(lambda: self._send(piece))
        except OutsideError as error:
            self._failed(piece, error)
            return error
        self._sent(piece, receipt)
        return None

    def _send(self, piece: tables.Piece) -> dict[str, Any]:
        services = self.engine.services
        if piece.kind == "approval_mail":
            sender = mailer(services.connect(piece.connection, "mail"))
            content = piece.content
            letter = mail.message(
                sender, content["to"], content["subject"], content["text"], content["html"], f"<{piece.key}@ulmus.invalid>"
            )
            mail.send(sender, letter)
            return {}
        kind = kinds()[piece.kind]
        assert kind.send is not None
        content = piece.content
        if content.get("file"):
            # What is kept here goes along; the outbox itself holds only its link.
            opened = shelf(services).file(str(content["file"]))
            if opened is None:
                raise OutsideError("The file that was to go out is not kept here any more.")
            content = {**content, "opened": opened}
        return kind.send(services.web, self._connection(piece), content, piece.key)

    def _connection(self, piece: tables.Piece) -> Any:
        with self.engine.services.store.read() as session:
            record = session.get(tables.Connection, piece.connection)
        if record is None:
            raise OutsideError(f"The connection “{piece.connection}” is missing.")
        return self.engine.services.open_connection(record)

    def _sent(self, piece: tables.Piece, receipt: dict[str, Any]) -> None:
        now = self.engine.services.clock()

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.receipt, record.sent_at, record.message = "sent", receipt, now, ""

        self._write(piece, flow.Sent(at=now, address=piece.address or "-", receipt=receipt), also)

    def _failed(self, piece: tables.Piece, error: OutsideError) -> None:
        if error.ambiguous:
            self._look_into(piece.id, None, why=error.message)
        elif piece.run_id is None and error.retryable and piece.attempt < MAIL_TRIES:
            self._set(piece, "queued", error.message, self.engine.services.clock() + 5 * 2**piece.attempt)
        else:
            self._give_back(piece, error)

    def _give_back(self, piece: tables.Piece, error: OutsideError) -> None:
        """The piece certainly did not go out: the run's failure policy decides what is next."""
        now = self.engine.services.clock()

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.message = "failed", error.message

        event = flow.Failed(
            at=now,
            address=piece.address or "-",
            message=error.message,
            retryable=error.retryable,
            retry_after=error.retry_after,
        )
        self._write(piece, event, also)

    # -- finding out --------------------------------------------------------------------------------

    def _look_into(self, piece_id: int, refused: OutsideError | None, why: str = "") -> OutsideError | None:
        """An intent without a receipt: ask the other side, or leave it to a person."""
        services = self.engine.services
        with services.store.read() as session:
            piece = session.get_one(tables.Piece, piece_id)
        if piece.state != "intent":
            return None
        find = kinds()[piece.kind].find if piece.kind in kinds() else None
        can_tell, found = False, None
        if find is not None:
            try:
                if refused is not None:
                    raise refused
                can_tell, found = guarded(lambda: find(services.web, self._connection(piece), piece.key))
            except OutsideError as error:
                if piece.attempt < ASK_TRIES:
                    words = f"It is not known yet whether this went out. {error.message} Asking again soon."
                    self._set(piece, "intent", words, services.clock() + 2**piece.attempt, attempt=piece.attempt + 1)
                    return error
        if found is not None:
            self._sent(piece, {**piece.content, **found})
        elif can_tell:
            message = why or "Sending was cut off; the other side does not have it."
            self._give_back(piece, OutsideError(message, retryable=True))
        else:
            self._unsure(piece, why)
        return None

    def _unsure(self, piece: tables.Piece, why: str) -> None:
        now = self.engine.services.clock()
        words = f"{why or 'Sending was cut off.'} Nobody can tell whether it went out. Look, and decide."

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.message = "unsure", words

        self._write(piece, flow.Unsure(at=now, address=piece.address or "-", message=words), also)

    def decide(self, piece_id: int, choice: str, by: str) -> None:
        """A person's word on an unsure piece: ``sent``, ``again`` or ``drop``. Raises `ValueError`."""
        now = self.engine.services.clock()
        with self.engine.services.store.read() as session:
            piece = session.get(tables.Piece, piece_id)
        if piece is None or piece.state != "unsure":
            raise ValueError("This piece is no longer in doubt.")

        def mark(state: str, message: str) -> Any:
            def also(session: Session) -> None:
                record = session.get_one(tables.Piece, piece_id)
                record.state, record.message, record.due_at = state, message, now
                if state == "sent":
                    record.sent_at, record.receipt = now, {"link": "", **record.content}

            return also

        if choice == "sent":
            receipt = {"link": "", **piece.content}
            self._write(
                piece, flow.Sent(at=now, address=piece.address or "-", receipt=receipt), mark("sent", f"Said to be out by {by}.")
            )
        elif choice == "again":
            self._write(piece, flow.Queued(at=now, address=piece.address or "-", piece=piece.id, key=piece.key), mark("queued", ""))
        else:
            event = flow.Failed(at=now, address=piece.address or "-", message=f"Not sent; dropped by {by}.")
            self._write(piece, event, mark("failed", f"Dropped by {by}."))

    # -- writing ------------------------------------------------------------------------------------

    def _write(self, piece: tables.Piece, event: flow.Event, also: Any) -> None:
        if piece.run_id is None:
            with self.engine.services.store.write() as session:
                also(session)
        elif not self.engine.record(piece.run_id, event, also, strict=False):
            # The run was ended meanwhile; what happened to the piece is still kept.
            with self.engine.services.store.write() as session:
                also(session)
        self.engine.services.bus.say("piece", id=piece.id)

    def _set(self, piece: tables.Piece, state: str, message: str, due: float, attempt: int | None = None) -> None:
        with self.engine.services.store.write() as session:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.message, record.due_at = state, message, due
            record.attempt = attempt or record.attempt
        self.engine.services.bus.say("piece", id=piece.id)
