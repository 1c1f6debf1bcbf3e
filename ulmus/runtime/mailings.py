"""The letters of mailings: one effect each, handed over one after another through one connection.

What became of a letter and that the next is about to go are written in one transaction, so that whatever ends the house in
between leaves one letter in doubt, and no other. Whether a reader has left is asked in that same transaction.
"""

from __future__ import annotations

import hashlib
import json
import logging
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any

from sqlalchemy import Connection as Database
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core import pieces
from ..core.pieces import Mailing
from ..protocols import mail
from ..protocols.errors import AddressRefused, Misconfigured, OutsideError
from ..protocols.mailing import APART, To, made, plain
from ..protocols.workers import apart
from ..steps.api import Reader
from ..store import tables
from . import hiding, leaving, results
from .execution import guarded
from .services import Services

log = logging.getLogger("ulmus")
STRETCH = 5.0
"""Seconds for which letters go out before others that wait for the connection have their turn."""
BATCH, MOST_BYTES = 50, 8_000_000
"""So many letters are made at a time, and so many bytes of files with them."""
AT_ONCE = 200
"""So many letters are read from the database at a time."""
TRIES = 5
"""So often an address is tried that is not taken for the moment."""
AGAIN = 60.0
"""Seconds until such an address is tried once more; twice as long after each try."""
MOST_NAMED = 20
CUT_OFF = "Sending was cut off."
STOPPED = Misconfigured("The mailing was stopped.")
FULL = Misconfigured("The connection has let out as many as it may.")


@dataclass(frozen=True)
class _Letter:
    """A letter that waits."""

    id: int
    key: str
    address: str
    folded: str
    fields: Mapping[str, Any]
    tries: int


@dataclass(frozen=True)
class _Outcome:
    """What became of a letter, not yet written."""

    letter: int
    state: str
    message: str = ""
    tries: int = 0
    sent_at: float | None = None
    tried_at: float | None = None


@dataclass(frozen=True)
class Stretch:
    """How far a mailing got: how many letters went out just now, when to go on (seconds since the epoch; none where there is no
    more to do), and what hindered it."""

    sent: int
    again_at: float | None
    error: OutsideError | None = None


def put(connection: Database, piece: tables.Piece, readers: Iterable[Reader]) -> None:
    """Have a letter for each reader wait. Whoever had one of this line of this run already, or may have, gets no other, also where
    the run was taken up again. Within a transaction."""
    piece_id = piece.id
    connection.exec_driver_sql(
        "UPDATE mailing_letters SET piece_id = ? WHERE state IN ('sent', 'bounced', 'unsure', 'intent')"
        " AND piece_id IN (SELECT id FROM pieces WHERE run_id = ? AND address = ? AND id <> ?)",
        (piece_id, piece.run_id, piece.address, piece_id),
    )
    connection.exec_driver_sql(
        "DELETE FROM mailing_letters WHERE piece_id = ? AND state IN ('waiting', 'refused', 'left', 'dropped')", (piece_id,)
    )
    there = {one for (one,) in connection.exec_driver_sql("SELECT folded FROM mailing_letters WHERE piece_id = ?", (piece_id,))}
    names = hiding.names(connection)
    waiting = [
        (piece_id, _key(piece.key, folded), reader.address, folded, _encode(reader.fields), reader.row)
        for reader in readers
        if not there.intersection(names(folded := leaving.folded(mail.bare(reader.address))))
    ]
    connection.exec_driver_sql(
        "INSERT INTO mailing_letters (piece_id, key, address, folded, fields, row, state, message, tries)"
        " VALUES (?, ?, ?, ?, ?, ?, 'waiting', '', 0)",
        waiting,
    )


_encode = json.JSONEncoder(allow_nan=False).encode


def _key(piece: str, folded: str) -> str:
    """What a letter is known by at every try."""
    return hashlib.sha256(f"{piece}/{folded}".encode()).hexdigest()[:40]


def counts(session: Session, piece_id: int) -> dict[str, int]:
    """How many letters of a mailing there are by their state."""
    letter = tables.MailingLetter
    found = select(letter.state, func.count()).where(letter.piece_id == piece_id).group_by(letter.state)
    return {state: n for state, n in session.execute(found)}  # noqa: C416


def named(session: Session, piece_id: int, state: str, most: int = MOST_NAMED) -> list[str]:
    """The addresses of the first letters in a state."""
    letter = tables.MailingLetter
    return list(session.scalars(select(letter.address).where(letter.piece_id == piece_id, letter.state == state).limit(most)))


def doubtful(session: Session, piece_id: int) -> None:
    """Mark letters whose sending was cut off as unsure."""
    session.connection().exec_driver_sql(
        "UPDATE mailing_letters SET state = 'unsure', message = ? WHERE piece_id = ? AND state = 'intent'", (CUT_OFF, piece_id)
    )


def decide(session: Session, piece_id: int, choice: str, now: float) -> None:
    """A person's word on the letters in doubt: ``sent``, ``again`` or ``drop``. Of a mailing that is in doubt as a whole, since
    the house is a copy, it is about those that wait as well."""
    to = {"sent": "sent", "again": "waiting", "drop": "dropped"}[choice]
    session.connection().exec_driver_sql(
        "UPDATE mailing_letters SET state = ?, message = '', tries = 0, sent_at = CASE WHEN ? = 'sent' THEN ? ELSE sent_at END"
        " WHERE piece_id = ? AND state IN ('unsure', 'intent', 'waiting')",
        (to, to, now, piece_id),
    )


class Round:
    """One stretch of a mailing through one mail server, of at `most` so many letters. `opened` are the files that go along."""

    def __init__(
        self,
        services: Services,
        piece: tables.Piece,
        mailer: mail.Mailer,
        opened: Mapping[str, tuple[str, str, bytes]],
        stopping: threading.Event,
        most: int | None = None,
    ) -> None:
        mailing = pieces.read("mailing", piece.content)
        assert isinstance(mailing, Mailing)
        self.services = services
        self.piece = piece.id
        self.mailing = mailing
        self.mailer = mailer
        self.opened = opened
        self.stopping = stopping
        self.most = most
        self._batch = max(1, min(BATCH, MOST_BYTES // max(1, sum(len(body) for _, _, body in opened.values()))))
        with services.store.read() as session:
            many = counts(session, piece.id).get("waiting", 0) >= APART
        self._made = partial(apart, made) if many else made
        self._done: _Outcome | None = None
        self._last = 0.0

    def go(self) -> Stretch:
        """Send letters until there are no more, the stretch is over, or something hinders it."""
        until, sent = time.monotonic() + STRETCH, 0
        with ThreadPoolExecutor(1, "ulmus-letters") as ahead:
            try:
                for letter, mail_ in _each(_ahead(self._batches(), lambda batch: ahead.submit(self._compose, batch))):
                    if self.most is not None and sent >= self.most:
                        return Stretch(sent, None, FULL)
                    wait = self._pace()
                    if time.monotonic() + wait > until:
                        return Stretch(sent, self.services.clock() + wait)
                    if self.stopping.wait(wait):
                        return Stretch(sent, self.services.clock())
                    went, error = self._hand_over(letter, mail_)
                    sent += went
                    if error is not None:
                        return Stretch(sent, None, error)
                    if not went and not self._goes_on():
                        return Stretch(sent, None, STOPPED)
                return Stretch(sent, self._next_try())
            finally:
                self._settle()

    # -- one letter ---------------------------------------------------------------------------------

    def _compose(self, batch: list[_Letter]) -> list[mail.Ready | str]:
        place = partial(leaving.place, self.services, self.mailing.name)
        to = [To(one.address, one.fields, place(mail.bare(one.address)), one.key, self._ways(one)) for one in batch]
        return guarded(lambda: self._made(plain(self.mailer), self.mailing, self.opened, to, self.services.clock()))

    def _ways(self, letter: _Letter) -> tuple[str, ...]:
        """The addresses that lead this reader to the mailing's links, and count it; none where nothing is counted."""
        return tuple(results.place(self.services, self.piece, n, letter.key) for n in range(len(self.mailing.links)))

    def _hand_over(self, letter: _Letter, made: mail.Ready | str) -> tuple[bool, OutsideError | None]:
        """Send one; gives whether it went, and what hinders the others as well. What became of it is written with the intent of
        the next, which is asked for while the server looks at whom that is for."""
        try:
            if isinstance(made, str):
                raise AddressRefused(made)
            if not mail.send(self.mailer, made, partial(self._intend, letter)):
                return False, None
            self._became(_Outcome(letter.id, "sent", sent_at=self.services.clock()))
            return True, None
        except AddressRefused as error:
            again = error.retryable and letter.tries + 1 < TRIES
            state, now = "waiting" if again else "refused", self.services.clock()
            self._became(_Outcome(letter.id, state, error.message, letter.tries + 1, tried_at=now))
            return False, None
        except OutsideError as error:
            state = "unsure" if error.ambiguous else "waiting"
            self._became(_Outcome(letter.id, state, error.message, letter.tries + (not error.retryable)))
            return False, error

    def _became(self, outcome: _Outcome) -> None:
        """Keep in mind what became of a letter; the one before is written first, where this one failed before it was asked for."""
        self._settle()
        self._done = outcome

    def _intend(self, letter: _Letter) -> bool:
        """Write down what became of the last letter, and that this one goes; false where it must not any more."""
        now = self.services.clock()
        with self.services.store.writing() as connection:
            self._write(connection)
            known = hiding.names(connection)(letter.folded)
            written = connection.exec_driver_sql(
                "UPDATE mailing_letters SET state = 'intent', tried_at = ? WHERE id = ? AND state = 'waiting'"
                " AND NOT EXISTS (SELECT 1 FROM leavers WHERE address IN (?, ?))"
                " AND EXISTS (SELECT 1 FROM pieces WHERE id = ? AND state = 'going')",
                (now, letter.id, known[0], known[-1], self.piece),
            )
            if written.rowcount == 1:
                return True
            left = connection.exec_driver_sql("SELECT why FROM leavers WHERE address IN (?, ?)", (known[0], known[-1])).scalar()
            if left is not None:
                connection.exec_driver_sql(
                    "UPDATE mailing_letters SET state = 'left', message = ? WHERE id = ? AND state = 'waiting'",
                    ("Left before this went out." if left == "left" else "Could not be reached before.", letter.id),
                )
            return False

    def _goes_on(self) -> bool:
        with self.services.store.engine.connect() as connection:
            return connection.exec_driver_sql("SELECT state FROM pieces WHERE id = ?", (self.piece,)).scalar() == "going"

    def _settle(self) -> None:
        if self._done is not None:
            with self.services.store.writing() as connection:
                self._write(connection)

    def _write(self, connection: Database) -> None:
        done = self._done
        if done is not None:
            connection.exec_driver_sql(
                "UPDATE mailing_letters SET state = ?, message = ?, tries = ?, sent_at = ?, tried_at = coalesce(?, tried_at) WHERE id = ?",
                (done.state, done.message, done.tries, done.sent_at, done.tried_at, done.letter),
            )
            self._done = None

    # -- which, and when ----------------------------------------------------------------------------

    def _batches(self) -> Iterator[list[_Letter]]:
        """The letters that may go now, those tried least first, some at a time."""
        letter, passed = tables.MailingLetter, set[int]()
        found = select(letter.id, letter.key, letter.address, letter.folded, letter.fields, letter.tries, letter.tried_at)
        found = found.where(letter.piece_id == self.piece, letter.state == "waiting")
        found = found.order_by(letter.tries, letter.tried_at, letter.id).limit(AT_ONCE)
        while True:
            with self.services.store.read() as session:
                rows = session.execute(found).all()
            now = self.services.clock()
            # One that was made ready ahead still waits; it has its turn already.
            due = [_Letter(*row[:6]) for row in rows if row.id not in passed and now >= _tried_again(row.tries, row.tried_at)]
            if not due:
                return
            passed.update(one.id for one in due)
            for at in range(0, len(due), self._batch):
                yield due[at : at + self._batch]

    def _next_try(self) -> float | None:
        letter = tables.MailingLetter
        self._settle()
        waiting = select(letter.tries, letter.tried_at).where(letter.piece_id == self.piece, letter.state == "waiting")
        with self.services.store.read() as session:
            due = [_tried_again(tries, at) for tries, at in session.execute(waiting.limit(AT_ONCE))]
        return max(min(due), self.services.clock() + 1) if due else None

    def _pace(self) -> float:
        """Seconds until the next letter may go, so that they go evenly."""
        if self.mailing.pace is None:
            return 0.0
        wait = self._last + 60 / self.mailing.pace - time.monotonic()
        self._last = time.monotonic() + max(0.0, wait)
        return max(0.0, wait)


def _tried_again(tries: int, tried_at: float | None) -> float:
    return (tried_at or 0.0) + AGAIN * 2 ** max(0, tries - 1) if tries else 0.0


Made = Future[list[mail.Ready | str]]


def _ahead(batches: Iterator[list[_Letter]], make: Callable[[list[_Letter]], Made]) -> Iterator[tuple[list[_Letter], Made]]:
    """Some letters at a time with their mails, which are made while those before are handed over."""
    before: tuple[list[_Letter], Made] | None = None
    for batch in batches:
        made = batch, make(batch)
        if before is not None:
            yield before
        before = made
    if before is not None:
        yield before


def _each(batches: Iterator[tuple[list[_Letter], Made]]) -> Iterator[tuple[_Letter, mail.Ready | str]]:
    for letters, mails in batches:
        yield from zip(letters, mails.result(), strict=True)
