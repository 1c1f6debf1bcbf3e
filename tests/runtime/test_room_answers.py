"""Answers in a team's room: only of who is asked, only where the room shows who is who, each once."""

from __future__ import annotations

from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.protocols import xmpp
from ulmus.protocols.errors import Unreachable
from ulmus.runtime import workflows
from ulmus.store import tables


class InTheRoom(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            settings = {"room": "team@rooms.test", "jid": "ulmus@town.test", "host": "127.0.0.1", "port": 1, "starttls": False}
            session.add(tables.Connection(key="team", kind="chatroom", name="Team", settings=settings))
        self.said: list[str] = []
        patched = mock.patch.object(xmpp, "say", lambda room, parts, key: self.said.extend(parts))
        patched.start()
        self.addCleanup(patched.stop)
        id_ = self.made(page(self.town.url, editor={"room": "team"}))
        workflows.go_live(self.engine, id_, WHO)
        self.run = self.new_item(id_)  # type: ignore[assignment]
        self.asked = self.question(self.run)
        self.wait_for(lambda: len(self.said) == 1)

    def say(self, text: str, author: str = WHO, id_: str = "1") -> None:
        with mock.patch.object(xmpp, "heard", return_value=[xmpp.Said(id_, author, text, self.services.clock())]):
            self.engine.room_answers.look("team")

    def answers(self) -> list[str]:
        with self.services.store.read() as session:
            found = session.scalars(select(tables.Piece).where(tables.Piece.kind == "approval_message").order_by(tables.Piece.id))
            return [str(one.content["text"]) for one in found if "text" in one.content]

    def state(self) -> str:
        with self.services.store.read() as session:
            return session.get_one(tables.Approval, self.asked.id).state

    def test_the_draft_is_shown_with_its_number_and_a_yes_there_counts(self) -> None:
        self.assertIn(f"#{self.asked.id}", self.said[0])
        self.say(f"#{self.asked.id} yes")
        self.until(self.run, "done")
        self.assertIn("Approved", self.answers()[0])
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.Approval, self.asked.id).decided_by, f"{WHO} (in the room)")

    def test_a_note_there_has_it_written_again(self) -> None:
        self.say(f"#{self.asked.id}: not like this, say where")
        self.wait_for(lambda: self.state() == "back")

    def test_a_nickname_another_and_another_number_decide_nothing(self) -> None:
        for n, (text, author) in enumerate(
            (
                (f"#{self.asked.id} yes", ""),
                (f"#{self.asked.id} yes", "stranger@town.test"),
                (f"#{self.asked.id + 50} yes", WHO),
                ("yes", WHO),
                (f"#{self.asked.id} yes, but shorter", "stranger@town.test"),
            )
        ):
            self.say(text, author, str(n))
        self.assertEqual(self.state(), "open")
        self.assertEqual(len(self.answers()), 3)
        self.assertIn("does not show who is who", self.answers()[0])

    def test_known_by_a_chat_address_of_ones_own(self) -> None:
        with self.services.store.write() as session:
            session.add(tables.Person(who=WHO, chat="ines@chat.test"))
        self.say(f"#{self.asked.id} yes", WHO)
        self.assertEqual(self.state(), "open")
        self.say(f"#{self.asked.id} yes", "ines@chat.test", "2")
        self.until(self.run, "done")

    def test_what_was_said_is_taken_once_also_after_a_restart(self) -> None:
        self.say(f"#{self.asked.id} what do you mean", "stranger@town.test")
        self.say(f"#{self.asked.id} what do you mean", "stranger@town.test")
        self.reopen()
        self.say(f"#{self.asked.id} what do you mean", "stranger@town.test")
        self.assertEqual(len(self.answers()), 1)

    def test_a_room_that_does_not_answer_is_looked_into_again(self) -> None:
        def gone(*_: Any) -> Any:
            raise Unreachable("gone", retryable=True)

        with mock.patch.object(xmpp, "heard", gone), self.assertRaises(Unreachable):
            self.engine.room_answers.look("team")
        self.say(f"#{self.asked.id} yes")
        self.until(self.run, "done")
