"""Readers of a mailing: each letter shows how to leave, whoever left gets none whatever the list, also when it was queued before."""

from __future__ import annotations

import email
from email.policy import default
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from ulmus.protocols import mail
from ulmus.runtime import leaving, workflows
from ulmus.store import tables

READERS = [{"name": n, "email": f"{n.lower()}@readers.example"} for n in ("Ada", "Bea", "Cleo")]


class Mailing(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.services.public_url = "https://ulmus.example"

    def run_on(self, readers: list[dict[str, str]], **more: Any) -> int:
        told = {
            "server": "mail",
            "to": "<<reader.name>> <<<reader.email>>>",
            "subject": "News",
            "text": "Dear <<reader.name>>, *news*.",
            "mailing": "Seed & *water*",
            **more,
        }
        letter = {"id": "letter", "kind": "send_letter", "settings": told, "on_failure": {"retries": 1, "wait": 0.05}}
        each = {"list": "<<item.body.readers>>", "item": "reader", "parallel": 3}
        steps = [{"id": "all", "kind": "for_each", "settings": each, "steps": [letter]}]
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "News", "start": start, "steps": steps})
        workflows.go_live(self.engine, id_, "o@a.example")
        run = self.engine.runs.push(id_, {"title": "News", "body": {"readers": readers}})
        assert run is not None
        return run

    def sent(self, run: int) -> list[str]:
        self.until(run, "done", "failed", seconds=30)
        return sorted(m["to"] for m in self.town.state.mails)

    def token(self, address: str) -> str:
        return leaving.place(self.services, "Seed & *water*", address).rsplit("/", 1)[1]


class Leaving(Mailing):
    def test_each_letter_says_why_and_how_to_leave_in_its_words_and_its_headers(self) -> None:
        raw: list[bytes] = []
        real = mail.compose

        def kept(*arguments: Any) -> Any:
            made = real(*arguments)
            raw.append(made.as_bytes())
            return made

        with mock.patch.object(mail, "compose", kept):
            self.sent(self.run_on(READERS[:1]))
        letter = email.message_from_bytes(raw[0], policy=default)
        place = leaving.place(self.services, "Seed & *water*", "ada@readers.example")
        self.assertEqual(letter["List-Unsubscribe"], f"<{place}>")
        self.assertEqual(letter["List-Unsubscribe-Post"], "List-Unsubscribe=One-Click")
        self.assertEqual(letter["List-Id"], "Seed & water <seed-water.a.example>")
        for kind in ("plain", "html"):
            words = letter.get_body((kind,)).get_content().replace("&amp;", "&")
            self.assertIn("on the list “Seed & *water*”", words)
            self.assertIn(place, words)

    def test_whoever_left_gets_none_and_the_others_do(self) -> None:
        answer = self.visitor().client.post(f"/leave/{self.token('Bea@Readers.example')}", data={"List-Unsubscribe": "One-Click"})
        self.assertEqual(answer.status_code, 200)
        run = self.run_on(READERS, mailing="Another list")
        self.assertEqual(self.sent(run), ["ada@readers.example", "cleo@readers.example"])
        self.assertIn("left by “Seed & *water*”", str(self.engine.live(run).state.values["all"]))

    def test_whoever_leaves_after_it_was_queued_gets_nothing(self) -> None:
        kind_sends = mail.send
        left: list[str] = []

        def queued() -> int:
            with self.services.store.read() as session:
                return session.query(tables.Piece).where(tables.Piece.kind == "send_letter").count()

        def leaves(sender: mail.Mailer, made: Any, *more: Any) -> None:
            self.wait_for(lambda: queued() == 3)
            if not left:
                # Whichever goes first: another of those that wait leaves meanwhile.
                first = made["To"].addresses[0].addr_spec
                left.append(next(reader["email"] for reader in READERS if reader["email"] != first))
                with self.services.store.write() as session:
                    leaving.leave(session, left[0], "Seed", 0.0)
            kind_sends(sender, made, *more)

        with self.services.store.write() as session:
            session.get_one(tables.Connection, "mail").settings = {
                **session.get_one(tables.Connection, "mail").settings,
                "at_once": 1,
            }
        with mock.patch.object(mail, "send", leaves):
            run = self.run_on(READERS)
            sent = self.sent(run)
        self.assertEqual(sent, sorted(reader["email"] for reader in READERS if reader["email"] not in left))
        self.assertIn("left by “Seed”", str(self.engine.live(run).state.values["all"]))

    def test_opening_the_address_changes_nothing_pressing_does_and_one_may_come_back(self) -> None:
        stranger, token = self.visitor(), self.token("ada@readers.example")
        self.assertEqual(
            stranger.get(f"/leave/{token}"), {"mailing": "Seed & *water*", "address": "ada@readers.example", "left": False}
        )
        self.assertEqual(stranger.client.get(f"/leave/{token}").status_code in (200, 503), True)
        self.assertFalse(stranger.get(f"/leave/{token}")["left"])
        for leave in (True, True, False):
            stranger.post(f"/leave/{token}", {"leave": leave})
            self.assertEqual(stranger.get(f"/leave/{token}")["left"], leave)
        stranger.get("/leave/forged", 404)
        self.assertEqual(stranger.client.post("/leave/forged").status_code, 404)

    def test_a_letter_of_a_mailing_has_one_reader_and_other_letters_go_as_before(self) -> None:
        run = self.run_on(READERS[:1], to="a@a.example, b@a.example")
        self.until(run, "done", "failed")
        self.assertIn("one reader", str(self.engine.live(run).state.values["all"]))
        with self.services.store.write() as session:
            leaving.leave(session, "ada@readers.example", "x", 0.0)
        self.assertEqual(
            self.sent(self.run_on(READERS[:1], mailing="")), ["ada@readers.example"], "a letter to one person is none of a list"
        )
