"""Mail received: a real IMAP server, read without leaving a mark; and the start that goes by it."""

from __future__ import annotations

import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import httpx

from practice_town.app import Town
from practice_town.faults import MODES
from tests.peers.servers import needs
from tests.protocols.mailserver import SERVER, MailServer, free_port
from tests.runtime.test_starts import Starts
from ulmus.protocols import mailbox
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import replies
from ulmus.store import tables


class TheOffice(unittest.TestCase):
    """The practice town's own mailbox, and the ways it misbehaves."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.folder.cleanup)
        cls.port = free_port()
        cls.town = Town(Path(cls.folder.name), imap_port=cls.port).start()
        cls.addClassCleanup(lambda: cls.town.stop())
        cls.box = mailbox.Mailbox("127.0.0.1", cls.port, False, "office", "office-key")

    def latest(self, **wanted: Any) -> list[str]:
        return [one.subject for one in mailbox.latest(self.box, "INBOX", **wanted)]

    def write(self, subject: str) -> None:
        letter = {"sender": "Ruben Aske <ruben@aske.example>", "subject": subject, "text": "Grüße aus Tillerby"}
        httpx.post(f"{self.town.url}/mail/write", data=letter, trust_env=False, follow_redirects=True).raise_for_status()

    def test_what_lies_in_it(self) -> None:
        self.assertIn("1 folder can be read", mailbox.probe(self.box))
        self.assertEqual(self.latest(sender="varley"), ["Our beans at the Ostrey fair"])
        self.assertEqual(self.latest(words="runner beans"), ["Packets arrived wet"])
        self.assertNotIn("Our beans at the Ostrey fair", self.latest(days=1))

    def test_a_letter_written_in_the_town_arrives_and_is_there_after_a_restart(self) -> None:
        validity, before, last = mailbox.poll(self.box, "INBOX", 0, 0)
        self.write("Fähre fällt aus")
        arrived = mailbox.poll(self.box, "INBOX", validity, last)[1]
        self.assertEqual([(one.subject, one.text) for one in arrived], [("Fähre fällt aus", "Grüße aus Tillerby")])
        type(self).town.stop()
        type(self).town = Town(Path(self.folder.name), imap_port=self.port).start()
        again = mailbox.poll(self.box, "INBOX", 0, 0)[1]
        self.assertEqual({one.message_id for one in again}, {one.message_id for one in [*before, *arrived]})

    def test_each_way_it_misbehaves_is_told_in_words(self) -> None:
        words = {"down": "hung up", "silent": "did not answer in time", "refuse": "does not accept", "garbage": "hung up"}
        self.assertEqual(set(words), set(MODES["mailbox"]))
        with mock.patch.object(mailbox, "PATIENCE", 0.5):
            for mode, said in words.items():
                with self.subTest(mode), self.assertRaisesRegex(OutsideError, said) as caught:
                    self.town.state.set_fault("mailbox", mode, 1)
                    mailbox.latest(self.box, "INBOX")
                self.assertEqual(caught.exception.retryable, mode != "refuse")
        self.assertTrue(self.latest())


@needs(SERVER)
class Reading(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.server = MailServer()
        cls.addClassCleanup(cls.server.stop)
        cls.box = mailbox.Mailbox("127.0.0.1", cls.server.port, False, "office", "practice")

    def test_mails_as_values_and_only_what_is_new(self) -> None:
        self.server.deliver("A question", "How long is the lock?\n")
        validity, letters, last = mailbox.poll(self.box, "INBOX", 0, 0)
        found = next(one for one in letters if one.subject == "A question")
        self.assertEqual(
            (found.sender, found.sender_name, found.text), ("petra@lockhouse.example", "Petra", "How long is the lock?")
        )
        self.assertEqual(found.date, "2026-03-02T08:00:00+00:00")
        self.assertEqual(mailbox.poll(self.box, "INBOX", validity, last)[1], [])
        self.server.deliver("Another", "x", In_Reply_To="<1@x.example>")
        again = mailbox.poll(self.box, "INBOX", validity, last)[1]
        self.assertEqual([(one.subject, one.in_reply_to) for one in again], [("Another", "<1@x.example>")])

    def test_odd_mails_harm_nobody(self) -> None:
        _, before, _ = mailbox.poll(self.box, "INBOX", 0, 0)
        self.server.put(
            b"From: =?utf-8?q?broken\r\nSubject: =?x?y?z?=\r\nContent-Type: text/plain; charset=nowhere\r\n\r\n\xff\xfe"
        )
        self.server.put(b"not a mail at all")
        self.server.put(
            b'From: a@b.example\r\nSubject: html\r\nContent-Type: text/html; charset="utf-8"\r\n\r\n<p>One</p><p>Two</p>'
        )
        self.server.deliver("Fine", "after them")
        _, letters, _ = mailbox.poll(self.box, "INBOX", 0, 0)
        self.assertEqual(len(letters), len(before) + 4)
        self.assertEqual([one.text for one in letters if one.subject == "html"], ["One\nTwo"])
        self.assertIn("Fine", [one.subject for one in letters])

    def test_what_is_wrong_is_said(self) -> None:
        wrong = mailbox.Mailbox("127.0.0.1", self.server.port, False, "office", "no")
        with self.assertRaisesRegex(OutsideError, "does not accept"):
            mailbox.poll(wrong, "INBOX", 0, 0)
        with self.assertRaisesRegex(OutsideError, "no folder “No such folder”"):
            mailbox.poll(self.box, "No such folder", 0, 0)
        with self.assertRaisesRegex(OutsideError, "could not be read"):
            mailbox.probe(mailbox.Mailbox("127.0.0.1", 1, False, "office", "practice"))
        self.assertIn("can be read", mailbox.probe(self.box))

    def test_the_latest_that_fit(self) -> None:
        for subject, text in (("Boat hire", "Six of us"), ("Seed list", "Beans, please"), ("Boat again", "Now eight")):
            self.server.deliver(subject, text)
        found = mailbox.latest(self.box, "INBOX", subject="boat", most=5)
        self.assertEqual([one.subject for one in found][:2], ["Boat again", "Boat hire"])
        self.assertEqual(len(mailbox.latest(self.box, "INBOX", most=1)), 1)
        self.assertEqual(mailbox.latest(self.box, "INBOX", words="Bohnen für später"), [])
        self.assertEqual(mailbox.latest(self.box, "INBOX", sender="nobody@x.example", days=3), [])

    def test_mails_beyond_the_greatest_size_are_left_out(self) -> None:
        with mock.patch.object(mailbox, "LARGEST", 10):
            self.assertEqual(mailbox.poll(self.box, "INBOX", 0, 0)[1], [])


@needs(SERVER)
class Starting(Starts):
    def test_each_mail_that_comes_starts_one_run(self) -> None:
        server = MailServer()
        self.addCleanup(server.stop)
        self.reach(server.port)
        settings = {"host": "127.0.0.1", "port": server.port, "tls": False, "user": "office"}
        sealed = self.services.sealer.seal({"password": "practice"})
        with self.services.store.write() as session:
            session.add(tables.Connection(key="box", kind="mailbox", name="Office", settings=settings, sealed=sealed))
        server.deliver("Old", "was there before")
        id_ = self.started("mail_received", box="box", subject="question")
        server.deliver("A question", "How deep?")
        server.deliver("An offer", "Buy now")
        for _ in range(2):
            self.engine.polling.look_at(id_)
        self.assertEqual([(i["title"], i["text"]) for i in self.items(id_)], [("A question", "How deep?")])


@needs(SERVER)
class Waiting(Starts):
    def test_a_run_waits_for_a_reply_across_a_restart(self) -> None:
        self.services.clock = time.time
        server = MailServer()
        self.addCleanup(server.stop)
        self.reach(server.port)
        settings = {"host": "127.0.0.1", "port": server.port, "tls": False, "user": "office"}
        sealed = self.services.sealer.seal({"password": "practice"})
        with self.services.store.write() as session:
            session.add(tables.Connection(key="box", kind="mailbox", name="Office", settings=settings, sealed=sealed))
        server.deliver("Before", "too early")
        wait = {
            "id": "back",
            "kind": "wait",
            "settings": {"how": "mail", "box": "box", "sender": "<<start.title>>", "subject": "boat"},
        }
        time.sleep(1.1)  # a mailbox knows the second a mail came in, and no more
        with mock.patch.object(replies, "EVERY", 0.1):
            id_ = self.started("by_hand", [wait])
            run = self.engine.runs.push(id_, {"title": "petra@lockhouse.example"})
            assert run is not None
            self.until(run, "resting")
            self.reopen()
            server.deliver("About the weather", "Rain.")
            server.deliver("The boat", "Yes, please.", sender="Somebody else <x@other.example>")
            server.deliver("Re: The boat", "Yes, please.")
            self.until(run, "done")
        item = self.engine.live(run).state.values["back"]["item"]
        self.assertEqual(
            (item["subject"], item["text"], item["sender"]), ("Re: The boat", "Yes, please.", "petra@lockhouse.example")
        )

    def test_a_mail_from_before_a_wait_is_not_for_it(self) -> None:
        letter = mailbox.Letter(1, "petra@lockhouse.example", "", "", "The boat", "Yes", "", "", "", arrived=100.0)
        watch = replies._Watch(1, "back", "box", 90.5, "petra@lockhouse.example", "boat")
        self.assertTrue(replies.Replies._fits(watch, letter))
        self.assertFalse(replies.Replies._fits(replace(watch, since=101.0), letter))
