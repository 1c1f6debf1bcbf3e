"""Letters of mailings that came back: the mailboxes of lists are looked into for what mail servers report (RFC 3464)."""

from __future__ import annotations

import logging
import threading
from typing import Any

from sqlalchemy import select

from ..protocols import mailbox
from ..protocols.errors import OutsideError
from ..steps.connections import mailbox as connected
from ..store import tables
from . import leaving, lists
from .outsides import STARTS
from .ports import Gate
from .services import Services

log = logging.getLogger("ulmus")
EVERY = 60.0
"""Seconds between looks."""
FOR_DAYS = 21
"""Days after its last letter for which a list's mailbox is looked into."""


class Bounces:
    """Looks for reports, and marks the letters and readers they are about."""

    def __init__(self, services: Services, gate: Gate) -> None:
        self.services = services
        self.gate = gate
        self._next = 0.0
        self._looking = threading.Lock()

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now < self._next:
            return
        self._next = now + EVERY
        letter = tables.MailingLetter
        with self.services.store.read() as session:
            boxes = set(session.scalars(select(tables.MailingList.mailbox).where(tables.MailingList.mailbox != "")))
            lately = boxes and session.scalar(select(letter.id).where(letter.sent_at > now - FOR_DAYS * 86400).limit(1))
        if lately:
            self.gate.submit(STARTS, self._look)

    def _look(self, refused: OutsideError | None) -> None:
        if not self._looking.acquire(blocking=False):
            return
        try:
            with self.services.store.read() as session:
                known = list(session.scalars(select(tables.MailingList).where(tables.MailingList.mailbox != "")))
            seen: set[str] = set()
            for one in known:
                if one.mailbox not in seen:
                    seen.add(one.mailbox)
                    self.look(one.mailbox, next((o.looked_to for o in known if o.mailbox == one.mailbox and o.looked_to), {}))
        except Exception:
            log.exception("looking for letters that came back met a fault and goes on")
        finally:
            self._looking.release()

    def look(self, box: str, looked_to: dict[str, Any]) -> int:
        """Look into one mailbox from where the last look ended; gives how many letters came back."""
        wrong, reports = "", list[mailbox.Report]()
        memory = dict(looked_to)
        try:
            reader = connected.reader(self.services.web, self.services.connect(box, connected.KIND.name))
            validity, reports, last = mailbox.reports(reader, "INBOX", int(memory.get("validity", 0)), int(memory.get("last", 0)))
            memory = {"validity": validity, "last": last}
        except OutsideError as error:
            wrong = error.message
            log.warning("mailbox %s: %s", box, wrong)
        came_back = 0
        with self.services.store.write() as session:
            for report in reports:
                came_back += self._mark(session, report)
            for known in session.scalars(select(tables.MailingList).where(tables.MailingList.mailbox == box)):
                known.looked_to = memory | ({"wrong": wrong} if wrong else {})
                memory.pop("wrong", None)
        return came_back

    def _mark(self, session: Any, report: mailbox.Report) -> bool:
        """Mark what a report is about: only a letter that went out from here, and only to the reader it went to."""
        key = report.message_id.strip("<>").rpartition("@")[0]
        letter = session.scalar(select(tables.MailingLetter).where(tables.MailingLetter.key == key)) if key else None
        if letter is None or letter.state not in ("sent", "unsure"):
            return False
        if report.recipient and leaving.folded(report.recipient) != letter.folded:
            return False
        letter.message = f"Came back: {report.says}"[:500]
        if not report.for_good:
            return False
        letter.state = "bounced"
        leaving.leave(session, letter.folded, "", self.services.clock(), lists.BOUNCED)
        return True
