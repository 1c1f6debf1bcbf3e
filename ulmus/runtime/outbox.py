"""The outbox: intent is written before sending and the receipt after, so that nothing goes out twice.

A piece whose sending was cut off is never sent blindly again: the other side is asked for it first. *It is there* settles
it. *It is not there* is believed only from an answer that could have shown it, and only once the request cannot be on its
way any more and the list cannot be late (see `listings`). What cannot be told is *unsure*: a person decides, and the piece
is looked for all the same, so that what turns out to be there settles itself.
"""

from __future__ import annotations

import hashlib
import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ..core import flow, pieces
from ..core.values import NotPlain, plain_object
from ..core.workflow.kinds import SendSpec
from ..protocols import mail
from ..protocols.errors import Misconfigured, NotFound, OutsideError
from ..steps import kinds
from ..steps.api import Connection, Jobs, Mails, Outgoing, Pending, Sends, Sighting, Sought, Taken
from ..steps.connections import mail as connected
from ..steps.shared import rooms
from ..store import tables
from . import departures, links, lists, mailings, quotas, timing
from .execution import effect_key, guarded
from .journal import Live
from .listings import Listings
from .ports import Events, Gate
from .services import Services, audit
from .telling import HOUSE_TELLS
from .transaction import Transaction
from .workspace import workspace

log = logging.getLogger("ulmus")
MAIL_TRIES = 5
SETTLE = 10.0
"""Seconds for which a request that was cut off may still be on its way at the other side."""
LOOKED_FOR = 120.0
"""Seconds for which a piece whose sending was cut off is looked for before a person is asked."""
ACCEPTED_FOR = 600.0
"""Seconds for which a piece that was accepted is looked for before a person is asked."""
UNSURE_EVERY, UNSURE_LEAST = 30.0, 3600.0
"""An unsure piece is looked for after so many seconds, then ever more seldom, at least so often."""
OBSERVED_FOR = 600.0
COPIED = "It may have gone out from the house this one is a copy of."
EARLIER = 300

Work = Callable[[int, OutsideError | None], OutsideError | None]


@dataclass(frozen=True)
class _Observed:
    """A piece that went out well and whose listing is waited for: when to look next, and how long it was `absent` so far
    (seconds)."""

    due: float
    piece: int
    connection: str
    since: float
    absent: float = 0.0


class Outbox:
    """Sends pieces, one at a time each, and settles what a crash left open. `told` writes what the house itself tells people: a
    letter, or what is said in a room; nothing where that is over."""

    def __init__(
        self, services: Services, events: Events, gate: Gate, told: Callable[[tables.Piece], pieces.Letter | str | None]
    ) -> None:
        self.services = services
        self.events = events
        self.gate = gate
        self.told = told
        self.listings = Listings(services)
        self.settle = SETTLE
        self.take_back = 0.0
        """Seconds after an approval in which what it lets out may be taken back."""
        self._flying: set[int] = set()
        self._unwritten: dict[int, Callable[[], None]] = {}
        self._absent: dict[int, float] = {}
        self._broke: dict[int, float] = {}
        """When the line broke, by piece (seconds since the epoch): what was being sent may be on its way from then on."""
        self._observed: list[_Observed] = []
        self._hindered: dict[int, int] = {}
        self._stopping = threading.Event()
        self._lock = threading.Lock()

    def queue(
        self, tx: Transaction, live: Live, decision: flow.Send, kind: str, outgoing: Outgoing, goes: timing.Goes
    ) -> tuple[int, str]:
        """See `ports.Outbox`. The same place of the same run is the same piece, and keeps the key it has."""
        session, address = tx.session, decision.address
        key = effect_key(self.services.effect_house(live.run_id), live.run_id, address, decision.generation)
        mine = tables.Piece.run_id == live.run_id
        here = select(tables.Piece).where(mine, tables.Piece.address == address, tables.Piece.generation == decision.generation)
        # Pieces from before the house had an identity are known by the key they were given then.
        before = hashlib.sha256(f"{live.run_id}/{address}/{decision.generation}".encode()).hexdigest()[:40]
        piece = session.scalar(here) or session.scalar(select(tables.Piece).where(mine, tables.Piece.key == before))
        if piece is None:
            piece = tables.Piece(key=key, run_id=live.run_id, address=address, kind=kind, queued_at=tx.now)
            session.add(piece)
        piece.generation = decision.generation
        piece.connection, piece.content = outgoing.connection, outgoing.content
        piece.state, piece.due_at, piece.message = "queued", tx.now, ""
        session.flush()
        departures.set_time(session, piece, goes, tx.now, self.take_back)
        session.flush()
        if isinstance(kinds()[kind], Mails):
            mailings.put(session.connection(), piece, outgoing.readers)
            lists.note(session, outgoing.content)
        tx.publish("piece", id=piece.id)
        return piece.id, piece.key

    def stop(self) -> None:
        """Begin nothing more; a mailing ends with the letter that is under way."""
        self._stopping.set()

    def recover(self) -> None:
        """After a start: pieces with an intent and no receipt are looked into before anything else."""
        now = self.services.clock()
        with self.services.store.write() as session:
            going = update(tables.Piece).where(tables.Piece.state == "going")
            session.execute(going.values(due_at=now))
            cut_off = session.execute(select(tables.Piece.id, tables.Piece.connection).where(tables.Piece.state == "intent")).all()
        for piece_id, connection in cut_off:
            self._broke[piece_id] = now
            self._submit(piece_id, connection, self._look_into)

    def tick(self, now: float) -> None:
        """Send what is due, look for what is in doubt, and see how soon channels list."""
        self._write_again()
        looked_for = ("intent", "accepted", "unsure")
        with self.services.store.read() as session:
            piece = tables.Piece
            due = piece.state.in_(("queued", "going", *looked_for)), piece.due_at <= now
            rows = session.execute(select(piece.id, piece.connection, piece.state, piece.kind).where(*due)).all()
        for piece_id, connection, state, name in rows:
            goes = self._mail_on if _is_mailing(name) else self._deliver
            self._submit(piece_id, connection, self._look_into if state in looked_for else goes)
        self._observe(now)

    def _submit(self, piece_id: int, connection: str, work: Work) -> None:
        with self._lock:
            if piece_id in self._flying:
                return
            self._flying.add(piece_id)
        self.gate.submit(f"connection:{connection}", partial(self._fly, piece_id, work))

    def _fly(self, piece_id: int, work: Work, refused: OutsideError | None) -> OutsideError | None:
        try:
            return work(piece_id, refused)
        except Exception as error:
            if not self.services.health.met(error):
                log.exception("piece %s met a fault and will be looked into", piece_id)
            return None
        finally:
            with self._lock:
                if piece_id not in self._unwritten:
                    self._flying.discard(piece_id)

    # -- sending ------------------------------------------------------------------------------------

    def _deliver(self, piece_id: int, refused: OutsideError | None) -> OutsideError | None:
        with self.services.store.write() as session:
            piece = session.get_one(tables.Piece, piece_id)
            if piece.state != "queued":
                return None
            if departures.must_wait(session, piece, self.services.clock()) or self._doubted(piece):
                return None
            piece.state, piece.attempt, piece.tried_at = "intent", piece.attempt + 1, self.services.clock()
            # While the sending is under way nobody looks into it; after a crash the start does.
            piece.due_at = piece.tried_at + 600
        try:
            if refused is not None:
                raise refused
            receipt = guarded(lambda: self._send(piece))
        except OutsideError as error:
            self._failed(piece, error)
            return error
        if isinstance(receipt, Pending):
            self._set(piece, "accepted", "Accepted. It is looked for until it is there.", self.services.clock() + 1)
        elif isinstance(receipt, Taken):
            self._taken(piece, receipt)
        else:
            self._sent(piece, receipt)
            self._watch(piece)
        return None

    def _mail_on(self, piece_id: int, refused: OutsideError | None) -> OutsideError | None:
        """Send letters of a mailing for a while; the rest follows as soon as others have had their turn."""
        now = self.services.clock()
        with self.services.store.write() as session:
            piece = session.get_one(tables.Piece, piece_id)
            if piece.state not in ("queued", "going"):
                return None
            if departures.must_wait(session, piece, now) or self._doubted(piece):
                return None
            most, quota = (None, "") if piece.waived else quotas.left(session, piece.connection, now)
            if piece.state == "queued":
                piece.state, piece.attempt, piece.tried_at = "going", piece.attempt + 1, now
            # Nothing else sends this mailing, so that a letter that was about to go was cut off.
            mailings.doubtful(session, piece_id)
            piece.due_at = now + 600
        self.services.bus.publish("piece", id=piece_id)
        try:
            if refused is not None:
                raise refused
            stretch = guarded(lambda: self._round(piece, most).go())
        except OutsideError as error:
            stretch = mailings.Stretch(0, None, error)
        if stretch.error is mailings.STOPPED:
            return None
        if stretch.error is mailings.FULL:
            self._still_going(piece, "held", departures.quota_reached(quota), self.services.clock())
            return None
        error_met, now = stretch.error, self.services.clock()
        if error_met is None:
            self._hindered.pop(piece_id, None)
            if stretch.again_at is not None:
                self._still_going(piece, "going", "", stretch.again_at)
            else:
                self._all_out(piece)
            return None
        times = self._hindered[piece_id] = 1 if stretch.sent else self._hindered.get(piece_id, 0) + 1
        if times < MAIL_TRIES and (error_met.ambiguous or error_met.retryable):
            self._still_going(piece, "going", error_met.message, now + max(error_met.retry_after or 0, 2**times))
        elif self._still_going(piece, "going", error_met.message, now):
            self._hindered.pop(piece_id, None)
            self._give_back(piece, error_met)
        return error_met

    def _still_going(self, piece: tables.Piece, state: str, message: str, due: float) -> bool:
        """Set a mailing's state after a stretch, unless a person has held it or taken it back meanwhile; gives whether it was set."""
        with self.services.store.write() as session:
            record = session.get_one(tables.Piece, piece.id)
            goes_on = record.state == "going"
            if goes_on:
                record.state, record.message, record.due_at = state, message, due
        self.services.bus.publish("piece", id=piece.id)
        return goes_on

    def _doubted(self, piece: tables.Piece) -> bool:
        """Whether the house this one is a copy of may have sent a piece by now: its channel is asked for it first, once, just before
        it would go. Within a transaction."""
        origin = self.services.origin(piece.run_id) if piece.run_id is not None else None
        if origin is None or piece.attempt or piece.tried_at is not None:
            return False
        doubt(piece, origin.at, self.services.clock())
        return True

    def _round(self, piece: tables.Piece, most: int | None) -> mailings.Round:
        sender = connected.mailer(self.services.web, self._connection(piece))
        return mailings.Round(self.services, piece, sender, self._opened(piece)["opened"], self._stopping, most)

    def _all_out(self, piece: tables.Piece) -> None:
        """No letter of a mailing waits any more: it is out, but for those in doubt."""
        with self.services.store.read() as session:
            unsure = mailings.counts(session, piece.id).get("unsure", 0)
            names = ", ".join(mailings.named(session, piece.id, "unsure", 3))
        if unsure:
            which = f"The letter to {names} is" if unsure == 1 else f"{unsure} letters are ({names}{' …' if unsure > 3 else ''})"
            self._unsure(piece, f"{which} in doubt: the line broke while sending. All others are settled.")
        else:
            self._sent(piece, self._told(piece))

    def _told(self, piece: tables.Piece) -> dict[str, Any]:
        """What a mailing came to, as its line's output."""
        kind = kinds()[piece.kind]
        assert isinstance(kind, Mails)
        with self.services.store.read() as session:
            found = mailings.counts(session, piece.id)
        return guarded(lambda: kind.told(piece.content, found)) | {"key": piece.key}

    def _send(self, piece: tables.Piece) -> dict[str, Any] | Taken | Pending:
        services = self.services
        if piece.kind in HOUSE_TELLS:
            return self._tell(piece)
        kind = kinds()[piece.kind]
        assert isinstance(kind, Sends | Jobs)
        if isinstance(kind, Sends):
            kind.still(workspace(services), piece.content)
        return kind.send(services.web, self._connection(piece), self._opened(piece), piece.key)

    def _tell(self, piece: tables.Piece) -> dict[str, Any]:
        """Tell people of what waits for them or is wrong, by mail or in a room, unless that is over."""
        services, told = self.services, self.told(piece)
        if told is None:
            return {"left_out": "It was over before."}
        if isinstance(told, str):
            rooms.say(services.web, services.connect(piece.connection, rooms.KINDS), told, piece.key)
            return {}
        sender = connected.mailer(services.web, services.connect(piece.connection, connected.KIND.name))
        own = links.sign_of(services.store.identity, piece.key)
        mail.send(sender, mail.compose(sender, told, own, services.clock(), {}))
        return {"message_id": own}

    def _opened(self, piece: tables.Piece) -> dict[str, Any]:
        """The content of a piece with the files that go along; the outbox itself holds only their links."""
        kind = kinds()[piece.kind]
        assert isinstance(kind, SendSpec)
        links = pieces.attached(pieces.read(kind.form, piece.content))
        opened = {link: workspace(self.services).file(link) for link in links}
        if None in opened.values():
            raise NotFound("A file that was to go out is not kept here any more.")
        return {**piece.content, "opened": opened}

    def _connection(self, piece: tables.Piece) -> Connection:
        with self.services.store.read() as session:
            record = session.get(tables.Connection, piece.connection)
        if record is None:
            raise Misconfigured(f"The connection “{piece.connection}” is missing.")
        return self.services.open_connection(record)

    def _sent(self, piece: tables.Piece, receipt: dict[str, Any]) -> None:
        now = self.services.clock()
        receipt = _kept(receipt)

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.receipt, record.sent_at, record.message = "sent", receipt, now, ""

        self._write(piece, flow.Sent(at=now, address=piece.address or "-", receipt=receipt), also)

    def _taken(self, piece: tables.Piece, taken: Taken) -> None:
        """A job was handed in, and that is settled; from now on it is only looked at."""
        now = self.services.clock()
        receipt = _kept(taken.receipt)

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.receipt, record.sent_at, record.message = "sent", receipt, now, ""

        self._write(piece, flow.Accepted(at=now, address=piece.address or "-", receipt=receipt, due=now + taken.again_in), also)

    def _failed(self, piece: tables.Piece, error: OutsideError) -> None:
        if error.ambiguous:
            self._broke[piece.id] = self.services.clock()
            self._look_into(piece.id, None, why=error.message)
        elif piece.run_id is None and error.retryable and piece.attempt < MAIL_TRIES:
            self._set(piece, "queued", error.message, self.services.clock() + max(error.retry_after or 0, 5 * 2**piece.attempt))
        else:
            self._give_back(piece, error)

    def _give_back(self, piece: tables.Piece, error: OutsideError) -> None:
        """The piece certainly did not go out: the run's failure policy decides what is next."""
        now = self.services.clock()

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.message = "failed", error.message

        event = flow.Failed(
            at=now,
            address=piece.address or "-",
            message=error.message,
            code=error.code,
            retryable=error.retryable,
            retry_after=error.retry_after,
        )
        self._write(piece, event, also)

    # -- finding out --------------------------------------------------------------------------------

    def _look_into(self, piece_id: int, refused: OutsideError | None, why: str = "") -> OutsideError | None:
        """A piece nobody knows the fate of: ask the other side, wait, or leave it to a person."""
        now = self.services.clock()
        with self.services.store.read() as session:
            piece = session.get_one(tables.Piece, piece_id)
        if piece.state not in ("intent", "accepted", "unsure"):
            return None
        waited = max(0.0, now - (piece.tried_at or piece.queued_at))
        kind = kinds().get(piece.kind)
        met: OutsideError | None = None
        sighting, connection = Sighting(why="The other side cannot be asked for it."), None
        if isinstance(kind, Sends):
            try:
                if refused is not None:
                    raise refused
                connection = self._connection(piece)
                here = connection
                sighting = guarded(lambda: kind.find(self.services.web, here, self._sought(piece)))
            except OutsideError as error:
                met, sighting = error, Sighting(why=error.message)
        if sighting.found is not None:
            self._broke.pop(piece_id, None)
            # One that was absent at the look just before tells how late the list is; one found at once only that it is no
            # later, and one nobody looked for meanwhile (the machine slept) tells nothing.
            self.listings.saw(piece.connection, waited, exact=_shortly_after(self._absent.pop(piece_id, None), waited))
            self._sent(piece, {**piece.content, **sighting.found})
        elif sighting.again and piece.state == "intent":
            self._did_not_go(piece, why or "Saving was cut off.")
        elif piece.state == "unsure":
            self._set(piece, "unsure", piece.message, now + min(UNSURE_LEAST, max(UNSURE_EVERY, waited)))
        elif piece.state == "accepted":
            self._not_there_yet(piece, now, waited)
        elif sighting.tells:
            self._absent[piece_id] = waited
            self._not_listed(piece, connection, now, waited, why)
        elif met is not None and waited < LOOKED_FOR:
            self._wait_and_see(piece, now, waited, met.message)
        else:
            self._unsure(piece, " ".join(words for words in (why, sighting.why) if words))
        return met

    def _sought(self, piece: tables.Piece) -> Sought:
        since = piece.tried_at or piece.queued_at
        with self.services.store.read() as session:
            went_out = tables.Piece.connection == piece.connection, tables.Piece.state == "sent", tables.Piece.sent_at < since
            latest = select(tables.Piece.key, tables.Piece.sent_at).where(*went_out).order_by(tables.Piece.sent_at.desc())
            earlier = {key: float(sent or 0.0) for key, sent in session.execute(latest.limit(EARLIER))}
        return Sought(piece.key, since, earlier, self._opened(piece))

    def _not_listed(self, piece: tables.Piece, connection: Connection | None, now: float, waited: float, why: str) -> None:
        """It is not in a list that could have shown it: believed once the list cannot be late any more."""
        kind = kinds().get(piece.kind)
        stated = kind.lists_within(connection) if connection is not None and isinstance(kind, Sends) else None
        lag = self.listings.lag(piece.connection, stated)
        # A try may have taken long before its line broke.
        since_break = min(waited, now - self._broke.get(piece.id, 0.0))
        if lag is not None and since_break >= max(self.settle, 2 * lag):
            self._absent.pop(piece.id, None)
            self._broke.pop(piece.id, None)
            self._did_not_go(piece, why or "Sending was cut off; the other side does not have it.")
        elif since_break < LOOKED_FOR or (lag is not None and since_break < 2 * lag):
            self._wait_and_see(piece, now, waited, why)
        else:
            self._unsure(piece, why or "Sending was cut off. It is not listed, and how late its lists are is not known.")

    def _did_not_go(self, piece: tables.Piece, why: str) -> None:
        """It certainly is not there. One that was never tried here, but might have been where this house was copied from, goes
        out now; for the others the run's failure policy decides."""
        if piece.attempt == 0:
            self._set(piece, "queued", "", max(self.services.clock(), piece.goes_at or 0.0))
        else:
            self._give_back(piece, OutsideError(why, retryable=True))

    def _not_there_yet(self, piece: tables.Piece, now: float, waited: float) -> None:
        if waited < ACCEPTED_FOR:
            self._set(piece, "accepted", piece.message, now + min(60.0, max(1.0, waited / 2)))
        else:
            self._unsure(piece, "It was accepted, but has not appeared.")

    def _wait_and_see(self, piece: tables.Piece, now: float, waited: float, why: str) -> None:
        first = "It is not known yet whether this went out." if piece.attempt else COPIED
        words = " ".join(w for w in (first, why, "It is looked for.") if w)
        self._set(piece, "intent", words, now + min(15.0, max(0.5, waited / 2)))

    def _unsure(self, piece: tables.Piece, why: str) -> None:
        now = self.services.clock()
        first = (why or "Sending was cut off.") if piece.attempt else f"{COPIED} {why}".strip()
        words = f"{first} Nobody can tell whether it went out. Look, and decide."

        def also(session: Session) -> None:
            record = session.get_one(tables.Piece, piece.id)
            record.state, record.message, record.due_at = "unsure", words, now + UNSURE_EVERY

        self._write(piece, flow.Unsure(at=now, address=piece.address or "-", message=words), also)

    # -- how soon a channel lists -------------------------------------------------------------------

    def _watch(self, piece: tables.Piece) -> None:
        """A piece went out well: see when the channel's list shows it, where that is not known well enough."""
        kind = kinds().get(piece.kind)
        if isinstance(kind, Sends) and self.listings.wanted(piece.connection):
            now = self.services.clock()
            with self._lock:
                if not any(observed.connection == piece.connection for observed in self._observed):
                    self._observed.append(_Observed(now, piece.id, piece.connection, now))

    def _observe(self, now: float) -> None:
        with self._lock:
            due = [one for one in self._observed if one.due <= now]
            self._observed = [one for one in self._observed if one.due > now]
        for observed in due:
            self.gate.submit(f"connection:{observed.connection}", partial(self._see, observed))

    def _see(self, observed: _Observed, refused: OutsideError | None) -> OutsideError | None:
        with self.services.store.read() as session:
            piece = session.get_one(tables.Piece, observed.piece)
        kind = kinds()[piece.kind]
        assert isinstance(kind, Sends)
        try:
            if refused is not None:
                raise refused
            sought = Sought(piece.key, observed.since, content=self._opened(piece))
            sighting = guarded(lambda: kind.find(self.services.web, self._connection(piece), sought))
        except OutsideError as error:
            return error
        now = self.services.clock()
        waited = now - observed.since
        if sighting.found is not None:
            if _shortly_after(observed.absent, waited):
                self.listings.saw(piece.connection, waited)
        elif sighting.tells and waited < OBSERVED_FOR:
            with self._lock:
                self._observed.append(replace(observed, due=now + max(0.5, waited / 2), absent=waited))
        return None

    # -- a person's word ----------------------------------------------------------------------------

    def decide(self, piece_id: int, choice: str, by: str) -> None:
        """A person's word on an unsure piece: ``sent``, ``again`` or ``drop``. Raises `ValueError`."""
        now = self.services.clock()
        with self.services.store.read() as session:
            piece = session.get(tables.Piece, piece_id)
        if piece is None or piece.state != "unsure":
            raise ValueError("This piece is no longer in doubt.")

        def mark(state: str, message: str) -> Any:
            def also(session: Session) -> None:
                record = session.get_one(tables.Piece, piece_id)
                record.state, record.message, record.due_at = state, message, now
                if state == "sent":
                    record.sent_at, record.receipt = now, receipt

            return also

        receipt = {"link": "", **piece.content}
        if _is_mailing(piece.kind):
            with self.services.store.write() as session:
                mailings.decide(session, piece_id, choice, now)
            receipt = self._told(piece)
        if choice == "sent" or (choice == "drop" and receipt.get("sent")):
            # Of a mailing the rest went out, also where those in doubt are dropped: the page goes on with that.
            words = f"{'Said to be out' if choice == 'sent' else 'Those in doubt were dropped'} by {by}."
            self._write(piece, flow.Sent(at=now, address=piece.address or "-", receipt=receipt), mark("sent", words))
        elif choice == "again":
            self._write(piece, flow.Queued(at=now, address=piece.address or "-", piece=piece.id, key=piece.key), mark("queued", ""))
        else:
            event = flow.Failed(at=now, address=piece.address or "-", message=f"Not sent; dropped by {by}.")
            self._write(piece, event, mark("failed", f"Dropped by {by}."))

    def take_back_piece(self, piece_id: int, by: str) -> None:
        """Have a piece that waits not go out: its line has failed, and the run can be taken up from it or from above. Raises
        `ValueError`."""
        piece = self._waiting(piece_id, ("queued", "held", "going"), by, "failed", f"Taken back by {by}.")
        event = flow.Failed(
            at=self.services.clock(),
            address=piece.address or "-",
            message=f"Taken back by {by}.",
            code="taken_back",
            retryable=False,
        )
        self._write(piece, event, lambda session: None)

    def hold(self, piece_id: int, by: str) -> None:
        """Have a piece wait until somebody lets it go; of a mailing that is going out, the rest. Raises `ValueError`."""
        self._waiting(piece_id, ("queued", "going"), by, "held", f"Held by {by}.")

    def move(self, piece_id: int, at: float | None, by: str) -> None:
        """Have a piece go out at another time; without one, at once. Raises `ValueError`."""
        self._waiting(piece_id, ("queued", "held"), by, "queued", "", max(at or 0.0, self.services.clock()))

    def _waiting(
        self, piece_id: int, states: tuple[str, ...], by: str, state: str, message: str, at: float | None = None
    ) -> tables.Piece:
        """Set a piece that waits to another state, unless it is on its way by now."""
        with self.services.store.write() as session:
            piece = session.get(tables.Piece, piece_id)
            if piece is None or piece.run_id is None or piece.state not in states:
                raise ValueError("This is on its way already, or was settled.")
            piece.state, piece.message = state, message
            if at is not None:
                # Whoever says when it goes has seen when it was to go at the latest; and who sends it now, that much has gone.
                piece.goes_at = piece.due_at = at
                piece.goes_by, piece.waived = None, at <= self.services.clock()
            audit(session, self.services.clock(), by, f"set a piece to {state}", str(piece_id))
        self.services.bus.publish("piece", id=piece_id)
        return piece

    # -- writing ------------------------------------------------------------------------------------

    def _write(self, piece: tables.Piece, event: flow.Event, also: Callable[[Session], None]) -> None:
        def write() -> None:
            if piece.run_id is None or not self.events.record(piece.run_id, event, also, strict=False):
                # No run, or one that ended meanwhile; what happened to the piece is still kept.
                with self.services.store.write() as session:
                    also(session)

        self._keep(piece.id, write)

    def _set(self, piece: tables.Piece, state: str, message: str, due: float) -> None:
        def write() -> None:
            with self.services.store.write() as session:
                record = session.get_one(tables.Piece, piece.id)
                record.state, record.message, record.due_at = state, message, due

        self._keep(piece.id, write)

    def _keep(self, piece_id: int, write: Callable[[], None]) -> None:
        """Have what became of a piece written. Where the disk takes nothing it is kept in mind and written once there is room:
        what went out is known here, and need not be asked for. Until then the piece counts as under way."""
        try:
            write()
        except Exception as error:
            if not self.services.health.met(error):
                raise
            with self._lock:
                self._unwritten[piece_id] = write
            return
        self.services.bus.publish("piece", id=piece_id)

    def _write_again(self) -> None:
        with self._lock:
            kept = dict(self._unwritten)
        for piece_id, write in kept.items():
            try:
                write()
            except Exception as error:
                if self.services.health.met(error):
                    return  # there still is no room
                log.exception("what became of piece %s could not be written; it will be looked into", piece_id)
            with self._lock:
                del self._unwritten[piece_id]
                self._flying.discard(piece_id)
            self.services.bus.publish("piece", id=piece_id)


def doubt(piece: tables.Piece, since: float, now: float) -> None:
    """A piece that the house this one was copied from may have sent `since` then: its channel is asked for it first."""
    piece.state, piece.tried_at, piece.due_at, piece.message = "intent", since, now, COPIED


def _is_mailing(kind: str) -> bool:
    return isinstance(kinds().get(kind), Mails)


def _shortly_after(absent: float | None, waited: float) -> bool:
    """Whether `waited` seconds after the attempt is the look next to the one at which it was `absent`."""
    return absent is not None and waited <= 2 * absent + 2


def _kept(receipt: dict[str, Any]) -> dict[str, Any]:
    """A receipt as a value the house can keep; where it cannot, that the piece went out is kept all the same."""
    try:
        return plain_object(receipt)
    except NotPlain as error:
        log.error("a receipt could not be kept: %s", error)
        return {"link": ""}
