"""What time does to questions: an answer that is due and did not come, a yes that a model read and nobody took back, people who are away.

A question that nobody answered in time goes on, is left, is put before another, or waits on, as its line says. One that breaks a
must-rule is never let out by the clock: it waits on.
"""

from __future__ import annotations

import logging
from collections import defaultdict

from sqlalchemy import func, select
from sqlalchemy.orm import load_only

from ...store import tables
from .. import telling
from ..ports import Events
from ..services import Services
from ..telling import ASKED_BY_MAIL
from . import people, questions
from .words import AnswerRefused

log = logging.getLogger("ulmus")
EVERY = 1.0
NOBODY = "nobody in time"


class Deadlines:
    """Looks, once a second, at what is due."""

    def __init__(self, services: Services, events: Events) -> None:
        self.services, self.events = services, events
        self._next = 0.0
        self._handed: tuple[int, ...] = ()

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look when it is time."""
        if now < self._next:
            return
        self._next = now + EVERY
        approval = tables.Approval
        with self.services.store.read() as session:
            open_ = select(approval).where(approval.state == "open")
            due = list(
                session.scalars(
                    open_.where(approval.due_at <= now, approval.deadline_at <= now, approval.lapsed_at.is_(None)).limit(50)
                )
            )
            taken = list(session.scalars(open_.where(approval.taken_until <= now).limit(50)))
        for one in taken:
            self._count(one)
        for one in due:
            self._lapse(one, now)
        self._gather(now)
        changes = self.services.store.written("people"), self.services.store.written("approvals"), int(now // 60)
        if changes != self._handed:
            self._handed = changes
            self._hand_over(now)

    def _count(self, approval: tables.Approval) -> None:
        """A yes that a model read, and that nobody took back, counts now."""
        said, words = approval.taken or {}, ""
        try:
            questions.answer(
                self.services,
                self.events,
                approval.id,
                "approve",
                str(said.get("by", "")),
                said.get("text"),
                person=said.get("who"),
            )
        except AnswerRefused as error:
            words = f"What was taken as your yes did not count after all. {error}"
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, approval.id)
            if record.state == "open":
                record.taken = record.taken_until = None
            if words and record.ways.get("mail") and said.get("who"):
                # Whoever was told that it goes out is told that it does not.
                content = {
                    "to": said["who"],
                    "subject": "It did not go out",
                    "text": words,
                    "mailbox": record.ways.get("mailbox", ""),
                }
                key = f"taken-{approval.id}-{approval.taken_until:.0f}"
                telling.put(session, ASKED_BY_MAIL, key, record.ways["mail"], content, self.services.clock(), approval=approval.id)
        self.services.bus.publish("approval", id=approval.id)

    def _lapse(self, approval: tables.Approval, now: float) -> None:
        then = approval.deadline.get("then", "wait")
        try:
            match then:
                case "approve":
                    questions.answer(self.services, self.events, approval.id, "approve", NOBODY)
                case "decline":
                    questions.answer(self.services, self.events, approval.id, "decline", NOBODY, note="Nobody answered in time.")
        except AnswerRefused as error:
            log.info("a question waits on although its time is over: %s", error)
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, approval.id)
            if record.state != "open":
                return
            record.lapsed_at = now
            if then == "other":
                asked = people.asked(session, str(approval.deadline.get("other", "")).split(", "), now)
                questions.ask_now(session, record, [one for one in record.people if one.get("said")] + asked, now)
        self.services.bus.publish("approval", id=approval.id)

    def _hand_over(self, now: float) -> None:
        """What waits for people who are away is put before their substitutes."""
        approval = tables.Approval
        with self.services.store.read() as session:
            away = [
                (person.who, to)
                for person in session.scalars(select(tables.Person).where(tables.Person.away_until > now))
                if (to := people.stands_for(session, person.who, now)) != person.who
            ]
            if not away:
                return
            light = load_only(approval.people, approval.needs)
            waiting = [
                (one.id, {who.casefold() for who in people.waited_for(one)})
                for one in session.scalars(select(approval).where(approval.state == "open").options(light))
            ]
        for who, to in away:
            for number in [number for number, names in waiting if who in names]:
                with self.services.store.write() as session:
                    record = session.get_one(approval, number)
                    done = record.state == "open" and questions.hand_over(session, record, who, to, now)
                if done:
                    self.services.bus.publish("approval", id=number)

    def _gather(self, now: float) -> None:
        """Mails that are due to one person who wants one mail for many become one."""
        piece = tables.Piece
        to = piece.content["to"].as_string()
        due = piece.kind == ASKED_BY_MAIL, piece.state == "queued", piece.attempt == 0, piece.due_at <= now + people.GATHERED
        with self.services.store.read() as session:
            wants = [person.who for person in session.scalars(select(tables.Person)) if person.collect]
            if not wants or not session.scalar(select(piece.id).where(*due, func.lower(to).in_(wants)).limit(1)):
                return
        with self.services.store.write() as session:
            mine: dict[tuple[str, str], list[tables.Piece]] = defaultdict(list)
            for one in session.scalars(select(piece).where(*due, func.lower(to).in_(wants)).order_by(piece.id)):
                if "text" not in one.content and "approvals" not in one.content:
                    mine[str(one.content["to"]).casefold(), one.connection].append(one)
            for first, *others in mine.values():
                if others:
                    about = [first.approval_id, *(one.approval_id for one in others)]
                    first.content = {**first.content, "approvals": list(dict.fromkeys(about))}
                for one in others:
                    one.state, one.receipt = "sent", {"left_out": "It was told of in one mail with others."}
