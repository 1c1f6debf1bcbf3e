"""Answers in a team's room: what is said there to a question by its number, by the person asked, counts like an answer by mail.

It counts only where the room shows real addresses: a nickname is no identity. A person is known there by their chat address, or by
their mail address where that is the same.
"""

from __future__ import annotations

import hashlib
import logging
import re
import threading
from functools import partial

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...protocols import xmpp
from ...protocols.errors import OutsideError
from ...steps.connections import chatroom
from ...store import tables
from .. import telling
from ..ports import Gate
from ..services import Services
from ..telling import ASKED_IN_ROOM
from .replies import Answering
from .words import AnswerRefused

log = logging.getLogger("ulmus")
EVERY = 10.0
OVERLAP = 60.0
"""Seconds by which looks overlap, since the room’s clock may be another than ours; what was taken is known by its identity."""
REMEMBERED = 300
_TO = re.compile(r"#\s*(\d{1,9})\b[\s:,.–-]*(.*)", re.DOTALL)


class RoomAnswers:
    """Reads the rooms in which questions are shown, while they are open."""

    def __init__(self, services: Services, answering: Answering, gate: Gate) -> None:
        self.services, self.answering, self.gate = services, answering, gate
        self._next = 0.0
        self._looking: set[str] = set()
        self._lock = threading.Lock()

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now < self._next:
            return
        self._next = now + EVERY
        for room in self.rooms():
            # One look at a time for each room: none piles up behind a door that is closed.
            with self._lock:
                if room in self._looking:
                    continue
                self._looking.add(room)
            self.gate.submit(f"connection:{room}", partial(self._look, room))

    def rooms(self) -> list[str]:
        """The chat rooms in which an open question is shown."""
        room = tables.Approval.ways["room"].as_string()
        named = select(room).where(tables.Approval.state == "open", room != "").distinct()
        with self.services.store.read() as session:
            wanted = select(tables.Connection.key).where(
                tables.Connection.key.in_(named), tables.Connection.kind == chatroom.KIND.name
            )
            return list(session.scalars(wanted))

    def _look(self, room: str, refused: OutsideError | None) -> OutsideError | None:
        try:
            if refused is not None:
                return refused
            self.look(room)
        except OutsideError as error:
            log.warning("room %s: %s", room, error.message)
            return error
        except Exception:
            log.exception("reading a room met a fault and goes on")
        finally:
            with self._lock:
                self._looking.discard(room)
        return None

    def look(self, room: str) -> None:
        """Read what was said in a room since the last look. Raises `OutsideError`."""
        with self.services.store.read() as session:
            known = session.get(tables.MailboxLook, room)
            memory = dict(known.memory) if known is not None else {}
            shown = tables.Approval.state == "open", tables.Approval.ways["room"].as_string() == room
            first = session.scalar(select(tables.Approval.created_at).where(*shown).order_by(tables.Approval.id).limit(1))
        # What was said before anything was asked here answers nothing.
        since = max(float(memory.get("since", 0.0)), (first or self.services.clock()) - OVERLAP)
        seen: list[str] = list(memory.get("seen", []))
        connection = self.services.connect(room, chatroom.KIND.name)
        said = xmpp.heard(chatroom.room_of(self.services.web, connection), since)
        for one in said:
            if one.id in seen:
                continue
            # Taken before it is noted: one that is read twice is answered and decided once.
            try:
                self.take(room, one)
            except Exception:
                log.exception("an answer in a room met a fault and is passed over")
            seen.append(one.id)
            since = max(since, one.at - OVERLAP)
        with self.services.store.write() as session:
            session.merge(tables.MailboxLook(connection=room, memory={"since": since, "seen": seen[-REMEMBERED:]}, wrong=""))

    def take(self, room: str, said: xmpp.Said) -> None:
        """Take what was said, where it answers a question that is shown in this room."""
        named = _TO.match(said.text.strip())
        if named is None:
            return
        with self.services.store.read() as session:
            approval = session.get(tables.Approval, int(named[1]))
            if approval is None or approval.ways.get("room") != room:
                return
            who = _person(session, approval, said.author)
        if not said.author:
            words = "This room does not show who is who, so an answer here does not count. Use the link."
        elif who is None:
            words = f"Only {approval.who} is asked about #{approval.id}. Nothing was decided."
        else:
            try:
                words = self.answering.said(approval, who, named[2].strip(), "", "in the room")
                words = words or self._outcome(approval.id)
            except AnswerRefused as error:
                words = str(error)
        if words:
            self._say(room, approval.id, said.id, f"#{approval.id}: {words}")

    def _outcome(self, number: int) -> str:
        """What came of an answer that was taken: a yes that is not the last one needed is noted."""
        with self.services.store.read() as session:
            approval = session.get_one(tables.Approval, number)
        done = {"approve": "Approved", "back": "Sent back", "decline": "Declined"}.get(approval.state)
        return f"{done} by {approval.decided_by}." if done else "Your yes is noted. Others are still asked."

    def _say(self, room: str, approval: int, said: str, words: str) -> None:
        """Say something back, once for each thing that was said."""
        key = f"room-{hashlib.sha256(f'{room}/{said}'.encode()).hexdigest()[:32]}"
        with self.services.store.write() as session:
            telling.put(session, ASKED_IN_ROOM, key, room, {"text": words}, self.services.clock(), approval=approval)


def _person(session: Session, approval: tables.Approval, jid: str) -> str | None:
    """Who of those asked has a chat address."""
    if not jid:
        return None
    for one in approval.people:
        person = session.get(tables.Person, one["who"].casefold())
        chat = person.chat if person is not None and person.chat else one["who"]
        if chat.casefold() == jid.casefold():
            return str(one["who"])
    return None
