"""What comes back of letters: mailboxes are looked into for reports of delivery (RFC 3464), for answers to letters, and for those to
mails about a question (see `answering`)."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.workflow.kinds import SendSpec
from ..protocols import mailbox
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.connections import mailbox as connected
from ..store import tables
from . import leaving, lists, results
from .outsides import STARTS
from .ports import Gate
from .services import Services
from .telling import ASKED_BY_MAIL

log = logging.getLogger("ulmus")
EVERY, WHILE_ASKED = 60.0, 15.0
"""Seconds between looks; and while a person is asked who may answer by mail."""
FOR_DAYS = 21
"""Days after the last letter for which a mailbox is looked into."""


class Returns:
    """Looks for what came back, and writes it beside the letters it is about."""

    def __init__(self, services: Services, gate: Gate, take: Callable[[mailbox.Answer], bool]) -> None:
        self.services = services
        self.take = take
        self.gate = gate
        self._next = 0.0
        self._looking = threading.Lock()

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now >= self._next:
            self._next = now + (WHILE_ASKED if self._asked() else EVERY)
            if self.boxes(now):
                self.gate.submit(STARTS, self._look)

    def _asked(self) -> bool:
        """Whether a question is open of which somebody was told who may answer by mail."""
        approval, piece = tables.Approval, tables.Piece
        told = select(piece.id).where(
            piece.approval_id == approval.id, piece.kind == ASKED_BY_MAIL, piece.content["mailbox"].as_string() != ""
        )
        with self.services.store.read() as session:
            return session.scalar(select(approval.id).where(approval.state == "open", told.exists()).limit(1)) is not None

    def boxes(self, now: float) -> set[str]:
        """The mailboxes of which letters sent lately say that what comes back comes there."""
        since = now - FOR_DAYS * 86_400
        letter, piece = tables.MailingLetter, tables.Piece
        with self.services.store.read() as session:
            found: set[str] = set()
            if session.scalar(select(letter.id).where(letter.sent_at > since).limit(1)) is not None:
                found |= set(session.scalars(select(tables.MailingList.mailbox).where(tables.MailingList.mailbox != "")))
            named = piece.content["mailbox"].as_string()
            letters = [kind.name for kind in kinds().values() if isinstance(kind, SendSpec) and kind.form == "letter"]
            sent = piece.kind.in_(letters), piece.state == "sent", piece.sent_at > since
            found |= {box for box in session.scalars(select(named).where(*sent).distinct()) if box}
            asked = piece.kind == ASKED_BY_MAIL, piece.state == "sent", piece.sent_at > since
            found |= {box for box in session.scalars(select(named).where(*asked).distinct()) if box}
        return found

    def _look(self, refused: OutsideError | None) -> None:
        if not self._looking.acquire(blocking=False):
            return
        try:
            for box in sorted(self.boxes(self.services.clock())):
                self.look(box)
        except Exception:
            log.exception("looking for what came back met a fault and goes on")
        finally:
            self._looking.release()

    def look(self, box: str) -> int:
        """Look into one mailbox from where the last look ended; gives how much came back."""
        with self.services.store.read() as session:
            known = session.get(tables.MailboxLook, box)
            memory = dict(known.memory) if known is not None else {}
        found, wrong = mailbox.Returns([], [], int(memory.get("validity", 0)), int(memory.get("last", 0))), ""
        try:
            reader = connected.reader(self.services.web, self.services.connect(box, connected.KIND.name))
            found = mailbox.returns(reader, "INBOX", found.validity, found.last)
        except OutsideError as error:
            wrong = error.message
            log.warning("mailbox %s: %s", box, wrong)
        others = []
        for answer in found.answers:
            # Taken before it is noted how far the mailbox was read: one that is read twice is answered and decided once.
            try:
                if not self.take(answer):
                    others.append(answer)
            except Exception:
                # One that cannot be taken keeps no other from being read, now or later.
                log.exception("an answer by mail met a fault and is passed over")
        with self.services.store.write() as session:
            came = sum(self._report(session, report) for report in found.reports) + len(found.answers) - len(others)
            came += sum(self._answer(session, answer) for answer in others)
            now = {"validity": found.validity, "last": found.last}
            session.merge(tables.MailboxLook(connection=box, memory=now, wrong=wrong))
        return came

    def _report(self, session: Session, report: mailbox.Report) -> bool:
        """Mark what a report is about: only a letter that went out from here, and only to the reader it went to."""
        key = _key(report.message_id)
        letter = session.scalar(select(tables.MailingLetter).where(tables.MailingLetter.key == key)) if key else None
        if letter is None or letter.state not in ("sent", "unsure"):
            return False
        if report.recipient and leaving.folded(report.recipient) != letter.folded:
            return False
        letter.message = f"Came back: {report.says}"[:500]
        if not report.for_good:
            return False
        letter.state, now = "bounced", self.services.clock()
        leaving.leave(session, letter.folded, "", now, lists.BOUNCED)
        return results.note(session, letter.piece_id, "bounce", letter.folded, now, words=report.says)

    def _answer(self, session: Session, answer: mailbox.Answer) -> bool:
        """Write an answer beside what it answers; what a program answered by itself is none."""
        keys = [key for key in map(_key, answer.answers) if key]
        if answer.automatic or not keys:
            return False
        letter, piece = tables.MailingLetter, tables.Piece
        of = session.scalar(select(letter.piece_id).where(letter.key.in_(keys)).limit(1))
        of = of or session.scalar(select(piece.id).where(piece.key.in_(keys)).limit(1))
        if of is None:
            return False
        who, now = leaving.folded(answer.sender), self.services.clock()
        return results.note(session, of, "answer", who, now, detail=answer.text[:200], words=answer.text)


def _key(message_id: str) -> str:
    """The key of a piece or a letter in the Message-ID it was sent under."""
    return message_id.strip("<>").rpartition("@")[0]
