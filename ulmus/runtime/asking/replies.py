"""Answers by mail: a reply to the mail about a question, matched to it by its thread and taken only from the person asked.

The Message-ID such a mail goes out under is made of a secret of the house, so that only who got the mail can answer it. What is a plain
yes or no is read by rule (`core.assent`), what is not by a model: a note sends back, a yes (or the text written anew) counts only after a
while in which it can be taken back, and what is not clear is asked again. Whatever cannot be taken is answered with words, once for each reply.
"""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Mapping
from difflib import SequenceMatcher
from functools import partial
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import assent
from ...core.drafting.prompts import as_material, material_note
from ...core.drafting.shapes import Shape
from ...protocols import mailbox
from ...protocols.errors import OutsideError
from ...protocols.quoting import written
from ...protocols.vouching import vouched
from ...steps.api import Context
from ...steps.shared.models import ask
from ...store import tables
from .. import telling
from ..execution import zone_of_page
from ..ports import Events
from ..services import Services, audit
from ..telling import ASKED_BY_MAIL
from . import forms, questions
from .approved import Change, final
from .letters import in_words, link_of
from .words import ACT, QUESTION, AnswerRefused, Verdict

log = logging.getLogger("ulmus")
SHAPE = Shape(
    "choice",
    (),
    (
        ("yes", "the draft may go out just as it is"),
        ("note", "something should be different, or something is wrong with it"),
        ("changed", "the answer is the draft’s text, written anew"),
        ("unclear", "a question, or it cannot be told"),
    ),
)
HOW = "Answer with “yes” alone and it goes out as it is; with what should be different, and it is written again; or with “decline”."
LONGEST = 4000
TAKE_BACK = 1800.0
"""Seconds for which a yes that only a model read can be taken back."""


def is_rewrite(before: str, after: str) -> bool:
    """Whether a text is another version of one: it has about its length, and half of it stands in it in the same order."""
    if not 0.5 <= len(after) / max(1, len(before)) <= 2:
        return False
    return SequenceMatcher(None, before.casefold().split(), after.casefold().split(), autojunk=False).ratio() >= 0.5


def key_in(message_id: str) -> str:
    """The part of a Message-ID before its domain."""
    return message_id.strip("<>").rpartition("@")[0]


class Answering:
    """Takes answers that came by mail."""

    def __init__(self, services: Services, events: Events) -> None:
        self.services, self.events = services, events

    def take(self, answer: mailbox.Answer) -> bool:
        """Take a reply, where it answers a mail about a question; false where it answers something else."""
        with self.services.store.read() as session:
            asked = _asked(session, [*map(key_in, answer.answers), *answer.signs])
            approval = session.get(tables.Approval, asked.approval_id) if asked is not None and asked.approval_id else None
        if asked is None or approval is None:
            return False
        if not answer.automatic:  # a program that answers, such as one that says that somebody is away, decides nothing
            try:
                words = self._taken(asked, approval, answer)
            except AnswerRefused as error:
                words = str(error)
            if words:
                self._say(asked, approval, answer, words)
        return True

    def _checks(self, asked: tables.Piece) -> str:
        """The name of the server that checks senders, where the mailbox has one."""
        with self.services.store.read() as session:
            box = session.get(tables.Connection, str(asked.content.get("mailbox") or ""))
        return str((box.settings if box is not None else {}).get("checks") or "").strip()

    def _taken(self, asked: tables.Piece, approval: tables.Approval, answer: mailbox.Answer) -> str:
        """Take an answer; gives words to the writer where it could not be, or `AnswerRefused`."""
        who = str(asked.content["to"])
        if not mailbox.is_from(answer.sender, who):
            return f"Only {who} is asked by that mail, and yours came from {answer.sender}. Nothing was decided."
        if (checks := self._checks(asked)) and not vouched(answer.results, checks, answer.sender):
            return (
                "Your mail server did not vouch for your mail, so it does not count as an answer. Use the link in the mail you got."
            )
        if asked.content.get("approvals"):
            return "That mail told of several drafts. Use the link beside the one you mean; nothing was decided."
        return self.said(approval, who, written(answer.text), answer.name, "by mail")

    def said(self, approval: tables.Approval, who: str, said: str, name: str, way: str) -> str:
        """Take what a person who is asked said in words, by mail or in a room; gives words back where it could not be taken, or where
        there is more to say. Raises `AnswerRefused`."""
        if approval.state != "open":
            return f"{self._past(approval)} Nothing was changed by your answer."
        answer = partial(self._answer, approval, who, way)
        if approval.draft == QUESTION:
            if not said:
                return "There was no answer in it. Write it above what it answers."
            if approval.asks:
                given, reason = forms.of_words(approval.asks, said[:LONGEST], f"{name} {who.partition('@')[0]}")
                answer("approve", given=given, note=reason[:LONGEST])
            else:
                answer("approve", text=said[:LONGEST])
            return ""
        meaning = assent.read(said, f"{name} {who.partition('@')[0]}")
        if approval.taken and meaning.meaning != "yes":
            self.take_back(approval.id, who)
            if meaning.meaning in ("unclear", "no"):
                return f"Taken back: it does not go out. {HOW}"
        read_by_model = meaning.meaning == "unclear" and bool(said) and approval.draft != ACT
        if read_by_model:
            meaning = self._by_model(approval, said)
        match meaning.meaning:
            case "yes" | "changed" if read_by_model:
                return self._taken_as_yes(approval, who, way, said if meaning.meaning == "changed" else None)
            case "yes":
                answer("approve")
                return ""
            case "decline":
                answer("decline")
                return ""
            case "note":
                answer("back", note=said[:LONGEST])
                return ""
            case "no":
                return "What should be different? Answer with a note, and it is written again; or with “decline”, and it is left."
            case _:
                return f"It is not clear whether this is a yes. {HOW}"

    def _taken_as_yes(self, approval: tables.Approval, who: str, way: str, text: str | None) -> str:
        """A yes that only a model read, or a `text` that it took for the draft as the person wrote it anew, counts later, unless it is
        taken back. What could not go out is told at once."""
        change = Change(text).over(approval.edit)
        if broken := final(self.services, self.events, approval, "approve", change).broken:
            raise AnswerRefused(f"It breaks a rule: {'; '.join(broken)}. That needs the link: there you change it, or let it out.")
        until = self.services.clock() + TAKE_BACK
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, approval.id)
            if record.state != "open":
                raise AnswerRefused(self._past(record))
            if record.taken and record.taken["who"].casefold() != who.casefold():
                raise AnswerRefused(f"Another’s answer was taken as a yes a moment ago. {HOW}")
            record.taken, record.taken_until = {"who": who, "by": f"{who} ({way})", "text": text}, until
        self.services.bus.publish("approval", id=approval.id)
        at = in_words(until, zone_of_page(self.events.live(approval.run_id).workflow))
        what = "Taken as a yes" if text is None else "Taken as the text as you want it, and a yes to that"
        yes = "answer “yes” alone, and it goes at once" if text is None else "answer “yes” alone, and the draft goes as it was"
        return f"{what}. It goes out on {at}. Answer “stop”, or use the link, and it does not; {yes}."

    def take_back(self, approval_id: int, who: str) -> None:
        """What was taken as a yes is none."""
        with self.services.store.write() as session:
            record = session.get_one(tables.Approval, approval_id)
            record.taken = record.taken_until = None
            audit(session, self.services.clock(), who, "took back what was read as a yes", f"approval {approval_id}")
        self.services.bus.publish("approval", id=approval_id)

    def _by_model(self, approval: tables.Approval, said: str) -> assent.Said:
        """What a model reads in a reply: a yes (which counts only later), a note, the text as the writer changed it, or nothing clear.
        What turns a yes round is never one, whatever the model says."""
        system = (
            "A person was shown a draft and answered by mail. Say what the answer means: yes, a note on what should be different, "
            "changed where the answer is nothing but the draft itself, written anew by the person, or unclear. " + material_note()
        )
        user = f"The draft:\n{as_material('draft', approval.text[:2000])}\n\nThe answer:\n{as_material('answer', said[:2000])}"
        try:
            context = Context(self.services.web, self.services.connect, {})
            values, _, _ = ask(context, self.services.first("model"), system, user, SHAPE, max_tokens=200)
        except OutsideError as error:
            log.warning("an answer by mail could not be read by a model: %s", error.message)
            return assent.Said("unclear")
        match values.get("choice"):
            case "yes" if not assent.turned(said):
                return assent.Said("yes", said)
            case "note":
                return assent.Said("note", said)
            case "changed" if is_rewrite(approval.text, said):
                return assent.Said("changed", said)
            case _:
                return assent.Said("unclear")

    def _answer(
        self,
        approval: tables.Approval,
        who: str,
        way: str,
        verdict: Verdict,
        *,
        text: str | None = None,
        note: str = "",
        given: Mapping[str, Any] | None = None,
    ) -> None:
        questions.answer(self.services, self.events, approval.id, verdict, f"{who} ({way})", text, note, given=given, person=who)

    def _past(self, approval: tables.Approval) -> str:
        words = {"approve": "approved", "back": "sent back", "decline": "declined"}.get(approval.state, "")
        by = f" by {approval.decided_by}" if approval.decided_by else ""
        if not words:
            return "This question is not open any more."
        with self.services.store.read() as session:
            newer = session.scalar(
                select(tables.Approval.id).where(
                    tables.Approval.run_id == approval.run_id, tables.Approval.id > approval.id, tables.Approval.state == "open"
                )
            )
        more = " A newer version waits for you: answer the mail about that." if newer else ""
        return f"This draft was {words} already{by}.{more}"

    def _say(self, asked: tables.Piece, approval: tables.Approval, answer: mailbox.Answer, words: str) -> None:
        """Answer a reply with words, once."""
        key = f"answer-{hashlib.sha256(answer.message_id.encode()).hexdigest()[:32]}"
        who = str(asked.content["to"])
        mine = mailbox.is_from(answer.sender, who)
        text = f"{words}\n\nRead and answer here:\n{link_of(self.services, approval.id, who)}" if mine else words
        content = {"to": answer.sender, "subject": f"Re: {answer.subject.removeprefix('Re: ')}"[:150], "text": text}
        content |= {"thread": answer.message_id, "mailbox": asked.content.get("mailbox", "")}
        now = self.services.clock()
        with self.services.store.write() as session:
            telling.put(session, ASKED_BY_MAIL, key, asked.connection, content, now, approval=approval.id)


def _asked(session: Session, keys: list[str]) -> tables.Piece | None:
    """The mail about a question that one of these keys is of."""
    piece = tables.Piece
    known = piece.receipt["message_id"].as_string()
    wanted = [key for key in keys if key]
    if not wanted:
        return None
    return session.scalar(select(piece).where(piece.kind == ASKED_BY_MAIL, known.in_(wanted)).order_by(piece.id.desc()).limit(1))
