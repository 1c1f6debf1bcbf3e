"""Lists of readers by the API: a letter for any reader, one to oneself, joining with a mail that asks back, and what came back."""

from __future__ import annotations

import imaplib
import re
import time
from email.message import EmailMessage
from typing import Any
from unittest import mock

from practice_town.app import Town
from practice_town.imap import PASSWORD, USER
from tests.api.visitor import WithApi
from tests.protocols.mailserver import free_port
from tests.runtime.house import WHO
from tests.runtime.test_mailing import WithList
from ulmus.protocols import mail, mailbox
from ulmus.runtime import leaving, workflows
from ulmus.store import tables

REPORT = """\
From: Mail Delivery <mailer-daemon@relay.example>
To: drafts@a.example
Subject: Undelivered
Content-Type: multipart/report; report-type=delivery-status; boundary="b"

--b
Content-Type: text/plain

Your letter could not be delivered.

--b
Content-Type: message/delivery-status

Reporting-MTA: dns; relay.example

Final-Recipient: rfc822; {address}
Action: {action}
Status: {status}
Diagnostic-Code: smtp; 550 5.1.1 No such mailbox

--b
Content-Type: {kind}

Message-ID: {message_id}
Subject: News
From: drafts@a.example

--b--
"""


def report(
    address: str, message_id: str, action: str = "failed", status: str = "5.1.1", kind: str = "text/rfc822-headers"
) -> bytes:
    told = REPORT.format(address=address, message_id=message_id, action=action, status=status, kind=kind)
    return told.replace("\n", "\r\n").encode()


class WithLists(WithList, WithApi):
    def open_list(self, **more: Any) -> str:
        told = {"address": "Email", "state": "State", "open": True, "server": "mail", "words": "Every Monday."}
        view = self.visitor("maker").put("/lists/readers", {**told, **more})
        return str(view["join"]).rpartition("/")[2]

    def asked_back(self, address: str) -> str:
        self.wait_for(lambda: any(m["to"] == address for m in self.town.state.mails))
        found = re.search(r"/join/[\w-]+/([\w.-]+)", self.mail_to(address)["text"])
        assert found is not None
        return found.group(1)

    def states(self) -> dict[str, str]:
        return {row["Email"]: row["State"] for row in self.rows()}


class Joining(WithLists):
    def test_whoever_says_yes_by_mail_stands_on_the_list_and_nobody_before(self) -> None:
        token, stranger = self.open_list(), self.visitor()
        self.assertEqual(stranger.get(f"/join/{token}"), {"name": "Readers", "words": "Every Monday.", "asks_name": True})
        stranger.post(f"/join/{token}", {"address": "Gil <GIL@readers.example>", "name": 'Gil <script> "x"'})
        answer = self.asked_back("GIL@readers.example")
        self.assertNotIn("GIL@readers.example", self.states(), "what a stranger types changes nothing")
        self.assertEqual(stranger.get(f"/join/{token}/{answer}"), {"name": "Readers", "address": "GIL@readers.example"})
        self.assertNotIn("GIL@readers.example", self.states(), "opening the link does nothing")
        for _ in range(2):
            stranger.post(f"/join/{token}/{answer}")
        self.assertEqual([row["Name"] for row in self.rows() if row["Email"] == "GIL@readers.example"], ["Gil script x"])
        self.assertEqual(self.states()["GIL@readers.example"], "joined")

    def test_one_who_left_comes_back_by_their_own_wish_only(self) -> None:
        token, stranger = self.open_list(), self.visitor()
        with self.services.store.write() as session:
            leaving.leave(session, "ada@readers.example", "x", 1.0)
        stranger.post(f"/join/{token}", {"address": "ada@readers.example"})
        answer = self.asked_back("ada@readers.example")
        self.assertEqual(self.states()["ada@readers.example"], "left")
        stranger.post(f"/join/{token}/{answer}")
        self.assertEqual(self.states()["ada@readers.example"], "joined")
        self.assertEqual(leaving.why_not(self.services, "ada@readers.example"), "")

    def test_forged_closed_and_foreign_links_and_programs(self) -> None:
        token, stranger = self.open_list(), self.visitor()
        stranger.post(f"/join/{token}", {"address": "gil@readers.example"})
        answer = self.asked_back("gil@readers.example")
        stranger.get("/join/nothing", 404)
        stranger.get("/join/", 404)
        stranger.post(f"/join/{token}/{answer[:-2]}xx", status=404)
        stranger.post(f"/join/{token}", {"address": "no address"}, 422)
        stranger.post(f"/join/{token}", {"address": "a@a.example, b@b.example"}, 422)
        before = len(self.town.state.mails)
        stranger.post(f"/join/{token}", {"address": "robot@readers.example", "leave_this_empty": "x"})
        self.open_list(open=False)
        stranger.get(f"/join/{token}", 404)
        stranger.post(f"/join/{token}/{answer}", status=404)
        self.assertNotEqual(self.open_list(), token, "one that was closed has a new address")
        self.assertEqual(len(self.town.state.mails), before)

    def test_a_mailbox_is_not_filled_by_strangers(self) -> None:
        token, stranger = self.open_list(), self.visitor()
        for _ in range(6):
            stranger.post(f"/join/{token}", {"address": "victim@readers.example"})
        self.wait_for(lambda: len(self.town.state.mails) >= 3)
        time.sleep(0.3)
        self.assertEqual(len(self.town.state.mails), 3)
        for n in range(4):
            stranger.post(f"/join/{token}", {"address": f"v{n}@readers.example"})
        stranger.post(f"/join/{token}", {"address": "v9@readers.example"}, 429)

    def test_what_a_list_needs_is_said(self) -> None:
        maker = self.visitor("maker")
        self.assertIn("no column", maker.put("/lists/readers", {"address": "Nope"}, 422)["message"])
        self.assertIn(
            "mail server", maker.put("/lists/readers", {"address": "Email", "state": "State", "open": True}, 422)["message"]
        )
        maker.put("/lists/nowhere", {"address": "Email"}, 404)
        self.visitor("reviewer").put("/lists/readers", {"address": "Email"}, 403)


class Looking(WithLists):
    def mailing(self) -> dict[str, Any]:
        run = self.send(text=f"{'Dear <<reader.Name>> of <<reader.Town>>'}")
        self.until(run, "done")
        self.town.state.mails.clear()
        return dict(self.piece(run).content)

    def test_a_letter_for_any_reader_and_one_to_oneself(self) -> None:
        mailing, reviewer = self.mailing(), self.visitor("reviewer")
        self.assertEqual(reviewer.post("/mailings/letter", {"mailing": mailing})["subject"], "For Ada")
        found = reviewer.post("/mailings/letter", {"mailing": mailing, "reader": "ostrey"})
        self.assertEqual(found["to"], ["Bea Moss <bea@readers.example>"])
        self.assertIn("Dear Bea <b> of Ostrey", found["text"])
        reviewer.post("/mailings/letter", {"mailing": mailing, "reader": "nobody such"}, 404)
        reviewer.post("/mailings/trial", {"mailing": mailing, "connection": "mail", "reader": "bea"})
        (got,) = self.town.state.mails
        self.assertEqual((got["to"], got["subject"], got["leave"]), ("reviewer@a.example", "To try: For Bea <b>", ""))
        link = re.search(r"https://\S+/leave/(\w+)", got["text"])
        assert link is not None
        self.assertIn("Nobody leaves", self.visitor().get(f"/leave/{link.group(1)}", 404)["message"])
        self.assertEqual(self.visitor().client.post(f"/leave/{link.group(1)}").status_code, 404)
        reviewer.post("/mailings/trial", {"mailing": mailing, "connection": "none"}, 502)
        self.visitor("reader").post("/mailings/trial", {"mailing": mailing, "connection": "mail"}, 403)

    def test_who_left_is_listed_and_may_be_written_to_again_by_an_owner(self) -> None:
        self.mailing()
        with self.services.store.write() as session:
            leaving.leave(session, "ada@readers.example", "News", 5.0)
        maker = self.visitor("maker")
        found = maker.get("/leavers", find="ada")
        self.assertEqual(found["count"], 1)
        self.assertEqual(found["leavers"][0], {"address": "ada@readers.example", "why": "left", "mailing": "News", "at": 5.0})
        maker.delete("/leavers/ada@readers.example", 403)
        self.owner.delete("/leavers/ada@readers.example")
        self.owner.delete("/leavers/ada@readers.example", 404)
        self.assertEqual(maker.get("/leavers")["count"], 0)

    def test_the_letters_of_a_mailing_by_state(self) -> None:
        self.list([{"Name": n, "Email": f"{n}@readers.example", "State": ""} for n in ("gone.a", "b")])
        run = self.send(text="Dear <<reader.Name>>")
        self.until(run, "done")
        path = f"/mailings/{self.piece(run).id}/letters"
        found = self.visitor("reader").get(path, state="refused")
        self.assertEqual(found["counts"], {"refused": 1, "sent": 1})
        self.assertEqual([one["address"] for one in found["letters"]], ["gone.a@readers.example"])
        self.assertEqual(len(self.visitor("reader").get(path, find="b@")["letters"]), 1)


class Bouncing(WithLists):
    def setUp(self) -> None:
        super().setUp()
        port = free_port()
        self.office = Town(imap_port=port).start()
        self.addCleanup(self.office.stop)
        self.reach(port)
        self.port = port
        with self.services.store.write() as session:
            settings = {"host": "127.0.0.1", "port": port, "tls": False, "user": USER}
            sealed = self.services.sealer.seal({"password": PASSWORD})
            session.add(tables.Connection(key="box", kind="mailbox", name="Box", settings=settings, sealed=sealed))

    def deliver(self, *messages: bytes) -> None:
        with imaplib.IMAP4("127.0.0.1", self.port, timeout=10) as client:
            client.login(USER, PASSWORD)
            for message in messages:
                client.append("INBOX", "", imaplib.Time2Internaldate(time.time()), message)

    def test_what_comes_back_for_good_is_marked_and_its_reader_gets_no_more(self) -> None:
        run = self.send(text="Dear <<reader.Name>>")
        self.until(run, "done")
        ids = {m["to"]: m["message_id"] for m in self.town.state.mails}
        self.open_list(mailbox="box", open=False)
        self.deliver(
            report("ada@readers.example", ids["ada@readers.example"]),
            report("bea@readers.example", ids["bea@readers.example"], "delayed", "4.4.1"),
            # Somebody who knows one letter's Message-ID cannot put another reader off the list.
            report("finn@readers.example", ids["bea@readers.example"]),
            report("finn@readers.example", "<made-up@a.example>"),
            b"From: x@y.example\r\nSubject: Hello\r\n\r\nJust a letter.\r\n",
        )
        returns = self.engine.returns
        self.assertEqual(returns.look("box"), 1)
        self.assertEqual({a: one.state for a, one in self.letters().items()}["ada@readers.example"], "bounced")
        self.assertEqual(self.states()["ada@readers.example"], "bounced")
        self.assertEqual(self.states()["finn@readers.example"], "")
        self.assertIn("Came back", self.letters()["bea@readers.example"].message)
        self.assertEqual(returns.look("box"), 0)
        self.assertEqual(self.owner.get(f"/pieces/{self.piece(run).id}/results")["counts"], {"bounce": 1})
        self.town.state.mails.clear()
        self.until(self.send(state=""), "done")
        self.assertNotIn("ada@readers.example", self.got())

    def test_a_message_that_nobody_can_read_hides_none_of_the_others(self) -> None:
        run = self.send(text="Dear <<reader.Name>>")
        self.until(run, "done")
        self.open_list(mailbox="box", open=False)
        ids = {m["to"]: m["message_id"] for m in self.town.state.mails}
        self.deliver(
            b"From: x@y.example\r\nSubject: bad\r\n\r\nBad.\r\n", report("ada@readers.example", ids["ada@readers.example"])
        )
        real = mailbox.reports_in

        def cannot(raw: bytes) -> list[mailbox.Report]:
            if b"Subject: bad" in raw:
                raise IndexError("a header beyond the library")
            return real(raw)

        with mock.patch.object(mailbox, "reports_in", cannot):
            self.assertEqual(self.engine.returns.look("box"), 1)
        self.assertEqual(self.states()["ada@readers.example"], "bounced")

    def test_a_mailbox_that_cannot_be_read_is_said_at_the_list(self) -> None:
        self.open_list(mailbox="box", open=False)
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "box")
            record.sealed = self.services.sealer.seal({"password": "wrong"})
        self.assertEqual(self.engine.returns.look("box"), 0)
        self.assertIn("user and password", self.visitor("reader").get("/lists")[0]["wrong"])

    def answer(self, to: str, sender: str, words: str, **heads: str) -> bytes:
        message = EmailMessage()
        message["From"], message["Subject"], message["In-Reply-To"] = sender, "Re: News", to
        for name, value in heads.items():
            message[name.replace("_", "-")] = value
        message.set_content(words)
        return message.as_bytes()

    def test_answers_stand_beside_what_they_answer_each_once_and_machines_are_not_counted(self) -> None:
        run = self.send(text="Dear <<reader.Name>>")
        self.until(run, "done")
        self.open_list(mailbox="box", open=False)
        ids = {m["to"]: m["message_id"] for m in self.town.state.mails}
        yes = self.answer(ids["ada@readers.example"], "Ada <Ada@readers.example>", "Yes, please.")
        away = self.answer(ids["bea@readers.example"], "bea@readers.example", "I am away.", Auto_Submitted="auto-replied")
        self.deliver(yes, yes, away, self.answer("<else@b.example>", "x@b.example", "To somebody else"))
        self.assertEqual(self.engine.returns.look("box"), 1)
        found = self.visitor("reader").get(f"/pieces/{self.piece(run).id}/results")
        self.assertEqual(found["counts"], {"answer": 1})
        self.assertEqual([(one["who"], one["text"].strip()) for one in found["answers"]], [("ada@readers.example", "Yes, please.")])

    def test_a_line_sees_what_came_back(self) -> None:
        run = self.send(text="Dear <<reader.Name>>")
        self.until(run, "done")
        key = self.engine.live(run).state.values["out"]["key"]
        self.assertEqual(key, self.piece(run).key)
        line = {"id": "see", "kind": "read_results", "settings": {"of": "<<item.body.of>>", "after": 0}}
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "See", "start": start, "steps": [line]})
        workflows.go_live(self.engine, id_, WHO)

        def seen(of: str) -> Any:
            looked = self.engine.runs.push(id_, {"title": "x", "body": {"of": of}})
            assert looked is not None
            self.until(looked, "done")
            return self.engine.live(looked).state.values["see"]

        self.assertEqual(seen(key)["answers"], 0)
        self.open_list(mailbox="box", open=False)
        self.deliver(self.answer(self.mail_to("ada@readers.example")["message_id"], "ada@readers.example", "Yes."))
        self.engine.returns.look("box")
        came = seen(key)
        self.assertEqual((came["answers"], came["text"].strip(), came["items"][0]["who"]), (1, "Yes.", "ada@readers.example"))
        self.assertEqual(seen("<nothing@a.example>")["items"], [])

    def test_an_answer_to_a_letter_stands_beside_it_where_its_line_says_in_which_mailbox(self) -> None:
        settings = {"server": "mail", "to": "dov@leads.example", "subject": "Hello", "text": "Hello", "mailbox": "box"}
        line = {"id": "out", "kind": "send_letter", "settings": settings}
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "One", "start": start, "steps": [line]})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x", "body": {}})
        assert run is not None
        self.until(run, "done")
        self.assertEqual(self.engine.returns.boxes(self.services.clock()), {"box"})
        self.deliver(self.answer(self.mail_to("dov@leads.example")["message_id"], "dov@leads.example", "Tell me more."))
        self.assertEqual(self.engine.returns.look("box"), 1)
        self.assertEqual(self.owner.get(f"/pieces/{self.piece(run).id}/results")["answers"][0]["text"].strip(), "Tell me more.")

    def test_reports_as_servers_write_them_and_what_is_none(self) -> None:
        whole = report("a@b.example", "<k@a.example>", kind="message/rfc822")
        (one,) = mailbox.reports_in(whole)
        self.assertEqual((one.message_id, one.recipient, one.for_good), ("<k@a.example>", "a@b.example", True))
        self.assertFalse(mailbox.reports_in(report("a@b.example", "<k@a.example>", status="4.2.2"))[0].for_good)
        self.assertEqual(mailbox.reports_in(whole.replace(b"delivery-status", b"delivery-statu5")), [])
        self.assertEqual(mailbox.reports_in(whole[: len(whole) // 2]), [])
        self.assertEqual(mailbox.reports_in(b"\xff\xfe" * 50), [])


class Pressing(WithLists):
    TEXT = "Dear <<reader.Name>>, [look](https://shop.example/a?x=1&y=2), [yours](https://shop.example/?w=<<reader.Name>>) or https://b.example."

    def test_presses_are_counted_once_for_each_reader_and_link_and_lead_on(self) -> None:
        for written in ("markdown", "plain"):
            with self.subTest(written=written):
                self.town.state.mails.clear()
                run = self.send(presses=True, text=self.TEXT, written=written)
                self.until(run, "done")
                ada, stranger = self.mail_to("ada@readers.example"), self.visitor()
                self.assertIn("It is counted which of its links are pressed.", ada["text"])
                if written == "markdown":
                    self.assertIn("w=Ada", ada["html"], "what is a reader's own leads there by itself")
                    self.assertNotIn("shop.example/a", ada["html"])
                places = [found.rstrip(".") for found in re.findall(r"https://ulmus\.example(/to/[\w.-]+)", ada["text"])]
                where = {stranger.client.get(place).headers["Location"] for place in [*places, *places]}
                self.assertIn("https://shop.example/a?x=1&y=2", where)
                found = self.owner.get(f"/pieces/{self.piece(run).id}/results")
                self.assertEqual(found["counts"], {"press": 1})
                self.assertEqual({one["readers"] for one in found["pressed"]}, {1})
                self.assertEqual({one["link"] for one in found["pressed"]}, where)
                # Markdown makes no link of it; where the text is plain, a full stop behind it is none of the address.
                self.assertEqual("https://b.example" in where, written == "plain")
                self.assertEqual(stranger.client.get("/to/forged").status_code, 404)

    def test_a_program_that_only_asks_for_the_head_counts_for_nothing(self) -> None:
        run = self.send(presses=True, text="Dear <<reader.Name>>, [look](https://shop.example/a)")
        self.until(run, "done")
        place = re.search(r"/to/[\w.-]+", self.mail_to("ada@readers.example")["text"])
        assert place is not None
        self.assertEqual(self.visitor().client.head(place.group()).status_code, 302)
        self.assertEqual(self.owner.get(f"/pieces/{self.piece(run).id}/results")["counts"], {})

    def test_a_look_and_a_letter_to_oneself_lead_there_directly_and_count_nothing(self) -> None:
        run = self.send(presses=True, text=self.TEXT)
        self.until(run, "done")
        mailing = dict(self.piece(run).content)
        self.assertIn("https://shop.example/a?x=1&amp;y=2", mailing["first"]["html"])
        self.assertIn(
            "https://shop.example/a", self.visitor("reader").post("/mailings/letter", {"mailing": mailing, "reader": "bea"})["text"]
        )

    def test_who_leaves_is_counted_at_the_mailing_they_left_by(self) -> None:
        run = self.send()
        self.until(run, "done")
        token = self.mail_to("ada@readers.example")["leave"].strip("<>").rpartition("/")[2]
        self.visitor().client.post(f"/leave/{token}")
        self.assertEqual(self.owner.get(f"/pieces/{self.piece(run).id}/results")["counts"], {"left": 1})


class Composing(WithLists):
    def test_many_mails_are_as_each_made_alone(self) -> None:
        run = self.send()
        self.until(run, "done")
        letter = self.visitor("reader").post("/mailings/letter", {"mailing": self.piece(run).content})
        from ulmus.core.pieces import Letter

        made = Letter.model_validate(letter)
        sender = mail.Mailer("h", 25, False, "", "", "a@a.example", "Ä House")
        alone = mail.compose(sender, made, "key", 0.0, {})
        many = mail.Many(sender, made, {})
        for _ in range(2):
            ready = many.mail(made, "key", 0.0)
        import email
        from email.policy import default

        again = email.message_from_bytes(ready.body, policy=default)
        assert isinstance(again, EmailMessage)
        for name in ("From", "To", "Subject", "Message-ID", "Date", "List-Id", "List-Unsubscribe", "List-Unsubscribe-Post"):
            self.assertEqual(str(again[name]), str(alone[name]), name)
        for kind in ("plain", "html"):
            one, other = again.get_body((kind,)), alone.get_body((kind,))
            assert one is not None
            assert other is not None
            self.assertEqual(one.get_content().replace("\r\n", "\n").strip(), other.get_content().strip())
