"""Approvals answered by mail: plain ones taken, others asked back, and no foreign reply ever."""

from __future__ import annotations

import email
import random
from email.message import EmailMessage
from email.policy import default
from typing import Any
from unittest import mock

from tests.runtime.house import WHO, WithHouse, page
from tests.short import WHOLE
from ulmus.core import assent
from ulmus.protocols import mail, mailbox
from ulmus.runtime import workflows
from ulmus.store import tables


class ByMail(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            settings = {"host": "127.0.0.1", "port": 1, "tls": False, "user": "desk@a.example"}
            session.add(tables.Connection(key="box", kind="mailbox", name="Desk", settings=settings))
        self.out: list[EmailMessage] = []
        real = mail.compose

        def kept(*arguments: Any) -> EmailMessage:
            made = real(*arguments)
            self.out.append(email.message_from_bytes(made.as_bytes(), policy=default))
            return made

        patched = mock.patch.object(mail, "compose", kept)
        patched.start()
        self.addCleanup(patched.stop)

    def asked(self, **settings: Any) -> tuple[int, EmailMessage]:
        """A run that asks, and the mail that tells of it, once it went out."""
        id_ = self.made(page(self.town.url, editor={"replies": "box", **settings}))
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        self.question(run)
        return run, self.mail(1)

    def mail(self, count: int) -> EmailMessage:
        """The so-maniest mail that went out, once it is noted that it did."""

        def sent() -> bool:
            with self.services.store.read() as session:
                return session.query(tables.Piece).filter_by(kind="approval_mail", state="sent").count() >= count

        self.wait_for(sent, lambda: f"{len(self.out)} of {count} mails")
        return self.out[count - 1]

    def reply(self, to: EmailMessage, text: str, sender: str = WHO, **heads: str) -> bool:
        """A reply as a mail program writes it; gives whether it was taken for one."""
        answer = EmailMessage()
        own = f"<{random.random()}@mail.example>"
        told = {"From": f"Ines <{sender}>", "To": "desk@a.example", "Subject": f"Re: {to['Subject']}", "Message-ID": own}
        told |= {"In-Reply-To": to["Message-ID"], **heads}
        for name, value in told.items():
            if value:
                answer[name] = value
        quoted = "\n".join(f"> {line}" for line in to.get_body(("plain",)).get_content().splitlines())
        answer.set_content(f"{text}\n\nOn Sat, Nov 28, 2026 at 5:12 PM Ulmus <drafts@a.example> wrote:\n{quoted}\n")
        read = mailbox.answer_in(answer.as_bytes())
        return read is not None and self.engine.returns.take(read)

    def states(self, run: int) -> list[str]:
        with self.services.store.read() as session:
            found = session.query(tables.Approval).filter_by(run_id=run).order_by(tables.Approval.id)
            return [one.state for one in found]

    def test_a_plain_yes_lets_it_out(self) -> None:
        run, asked = self.asked()
        self.assertEqual(asked["Reply-To"], "desk@a.example")
        self.assertIn("“yes” alone", asked.get_body(("plain",)).get_content())
        self.assertTrue(self.reply(asked, "Yes, looks good. Thanks!\n\nInes"))
        self.until(run, "done")
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Approval).one().decided_by, f"{WHO} (by mail)")

    def test_a_note_has_it_written_again_and_the_next_mail_is_answered_as_well(self) -> None:
        run, asked = self.asked()
        self.reply(asked, "Yes, but shorter please.")
        self.wait_for(lambda: self.states(run) == ["back", "open"], lambda: str(self.states(run)))
        again = self.mail(2)
        self.reply(asked, "Yes")  # an answer to the old round decides nothing
        self.assertEqual(self.states(run), ["back", "open"])
        self.assertIn("newer version waits", self.mail(3).get_body(("plain",)).get_content())
        self.reply(again, "Ja, gerne")
        self.until(run, "done")

    def test_what_is_not_clear_is_asked_back_and_a_bare_no_too(self) -> None:
        run, asked = self.asked()
        with mock.patch("ulmus.runtime.asking.replies.ask", return_value=({"choice": "unclear"}, None, [])):
            self.reply(asked, "I suppose one could do that with it at some time")
        back = self.mail(2)
        self.assertEqual((back["To"], back["In-Reply-To"][:1]), (WHO, "<"))
        self.assertIn("not clear", back.get_body(("plain",)).get_content())
        self.reply(back, "No")  # an answer to that is one to the question
        self.assertIn("What should be different", self.mail(3).get_body(("plain",)).get_content())
        self.assertEqual(self.states(run), ["open"])
        with mock.patch("ulmus.runtime.asking.replies.ask", return_value=({"choice": "note"}, None, [])):
            self.reply(back, "The price of the packets is two euros fifty")
        self.wait_for(lambda: self.states(run) == ["back", "open"])

    def by_model(self, choice: str, to: EmailMessage, text: str) -> None:
        with mock.patch("ulmus.runtime.asking.replies.ask", return_value=({"choice": choice}, None, [])):
            self.reply(to, text)

    def plain(self, count: int) -> str:
        body = self.mail(count).get_body(("plain",))
        assert body is not None
        return str(body.get_content())

    def test_a_yes_that_only_a_model_read_counts_later_and_can_be_taken_back(self) -> None:
        run, asked = self.asked()
        self.by_model("yes", asked, "Lovely, that one captures it")
        self.assertIn("Taken as a yes. It goes out on", self.plain(2))
        self.assertEqual(self.states(run), ["open"])
        self.reply(asked, "Stop")
        self.assertEqual(self.waiting(run), None)
        self.by_model("yes", asked, "Lovely, that one captures it")
        self.assertIsNotNone(self.waiting(run))
        self.due()
        self.until(run, "done")
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Approval).one().decided_by, f"{WHO} (by mail)")

    def waiting(self, run: int) -> float | None:
        with self.services.store.read() as session:
            return session.query(tables.Approval).filter_by(run_id=run, state="open").one().taken_until

    def test_a_model_is_never_believed_a_yes_that_is_turned_round(self) -> None:
        run, asked = self.asked()
        for text in (
            "It captures it if you cut the end",
            "Captures it, rather short",
            "Does it?",
            "Captures it once the price is in",
        ):
            with mock.patch("ulmus.runtime.asking.replies.assent.read", return_value=assent.Said("unclear")):
                self.by_model("yes", asked, text)
        self.assertEqual(self.states(run), ["open"])
        self.assertIsNone(self.waiting(run))

    def test_a_text_written_anew_goes_out_as_written(self) -> None:
        run, asked = self.asked()
        with self.services.store.read() as session:
            draft = session.query(tables.Approval).one().text
        changed = f"Seedlings! {draft}"
        self.by_model("changed", asked, changed)
        self.assertIn("the text as you want it", self.plain(2))
        self.assertEqual(self.states(run), ["open"], "a model may take a remark for the text: it counts later")
        self.due()
        self.until(run, "done")
        self.assertIn("Seedlings!", self.posts()[0])

    def test_a_text_taken_for_the_draft_is_taken_back_like_a_yes(self) -> None:
        run, asked = self.asked()
        with self.services.store.read() as session:
            draft = session.query(tables.Approval).one().text
        self.by_model("changed", asked, f"{draft} What a dull post this is")
        self.reply(asked, "Stop")
        self.assertIsNone(self.waiting(run))
        self.reply(asked, "Yes")
        self.until(run, "done")
        self.assertNotIn("dull", self.posts()[0])

    def test_what_cannot_go_out_when_its_time_comes_is_told(self) -> None:
        run, asked = self.asked()
        self.by_model("yes", asked, "Lovely, that one captures it")
        with mock.patch("ulmus.runtime.execution.broken_rules", return_value=("401 of 300 characters",)):
            self.due()
            self.assertIn("did not count after all", self.plain(3))
        self.assertEqual(self.states(run), ["open"])

    def due(self) -> None:
        """The time for taking back is over."""
        with self.services.store.write() as session:
            session.query(tables.Approval).update({"taken_until": self.services.clock() - 1})

    def test_what_a_model_calls_the_text_written_anew_must_be_like_it(self) -> None:
        run, asked = self.asked()
        self.by_model("changed", asked, "Everybody come to the bar tonight, all drinks are on me, tell your friends")
        self.assertEqual(self.states(run), ["open"])

    def test_a_reply_without_its_thread_is_known_by_its_signed_address(self) -> None:
        with self.services.store.write() as session:
            box = session.get_one(tables.Connection, "box")
            box.settings = {**box.settings, "plus": True}
        run, asked = self.asked()
        address = str(asked["Reply-To"])
        self.assertRegex(address, r"desk\+[0-9a-f]{32}@a\.example")
        forged = address.replace(address[5:9], "0000")
        self.assertFalse(self.reply(asked, "Yes", **{"In-Reply-To": "", "To": forged}))
        self.assertEqual(self.states(run), ["open"])
        self.assertTrue(self.reply(asked, "Yes", **{"In-Reply-To": "", "To": address}))
        self.until(run, "done")

    def test_the_same_mail_read_twice_is_answered_once(self) -> None:
        _, asked = self.asked()
        for _ in range(2):
            self.reply(asked, "No", **{"Message-ID": "<same@mail.example>"})
        self.mail(2)
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Piece).filter_by(kind="approval_mail").count(), 2)

    def test_a_draft_that_breaks_a_rule_is_not_let_out_by_mail(self) -> None:
        run, asked = self.asked()
        with self.services.store.write() as session:
            session.query(tables.Approval).update({"state": "open"})
        with mock.patch("ulmus.runtime.execution.broken_rules", return_value=("401 of 300 characters",)):
            self.reply(asked, "Yes")
        self.assertEqual(self.states(run), ["open"])
        self.assertIn("401 of 300", self.mail(2).get_body(("plain",)).get_content())

    def test_away_messages_and_others_decide_nothing(self) -> None:
        run, asked = self.asked()
        self.reply(asked, "Yes", **{"Auto-Submitted": "auto-replied"})
        self.reply(asked, "Yes", **{"Precedence": "bulk"})
        self.assertEqual(self.states(run), ["open"])
        self.reply(asked, "Yes", sender="mallory@a.example")
        self.assertEqual(self.states(run), ["open"])
        told = self.mail(2)
        self.assertEqual(told["To"], "mallory@a.example")
        self.assertIn("Only", told.get_body(("plain",)).get_content())
        self.assertNotIn("/answer/", told.get_body(("plain",)).get_content())

    def test_where_a_server_checks_senders_only_its_word_counts(self) -> None:
        run, asked = self.asked()
        with self.services.store.write() as session:
            box = session.get_one(tables.Connection, "box")
            box.settings = {**box.settings, "checks": "mx.a.example"}
        domain = WHO.partition("@")[2]
        good = f"mx.a.example; dkim=pass header.d={domain}; spf=pass smtp.mailfrom={WHO}"
        for found in (
            "",
            f"mx.other.example; dkim=pass header.d={domain}",
            f"mx.a.example; dkim=fail header.d={domain}; spf=pass smtp.mailfrom=x@b.example",
            f"mx.a.example; dkim=pass header.d=evil-{domain}",
            "mx.a.example; dkim=pass header.d=example",
            "mx.a.example; none",
            "; ; nonsense",
        ):
            self.reply(asked, "Yes", **{"Authentication-Results": found})
            self.assertEqual(self.states(run), ["open"], found)
        self.assertIn("did not vouch", self.mail(2).get_body(("plain",)).get_content())
        self.reply(asked, "Yes", **{"Authentication-Results": good})
        self.until(run, "done")

    def test_an_answer_that_meets_a_fault_keeps_no_other_from_being_read(self) -> None:
        run, asked = self.asked()
        answer = mailbox.Answer((asked["Message-ID"],), WHO, "Yes", False, "<b@mail.example>", "Re: x")
        read = mailbox.Returns([], [answer, answer], 1, 9)
        with (
            mock.patch("ulmus.runtime.returns.mailbox.returns", return_value=read),
            mock.patch("ulmus.runtime.returns.connected.reader"),
            mock.patch.object(self.engine.returns, "take", side_effect=[ValueError("odd"), True]) as taken,
        ):
            self.engine.returns.look("box")
        self.assertEqual(taken.call_count, 2)
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.MailboxLook, "box").memory, {"validity": 1, "last": 9})
        self.assertEqual(self.states(run), ["open"])

    def test_forged_replies_in_their_hundreds(self) -> None:
        run, asked = self.asked()
        known, domain = asked["Message-ID"].strip("<>").split("@")
        rolls = random.Random(7)
        for n in range(1000 if WHOLE else 250):
            near = list(known)
            for _ in range(rolls.randint(1, 4)):
                near[rolls.randrange(len(near))] = rolls.choice("0123456789abcdef")
            made = rolls.choice(
                (
                    "".join(near) if "".join(near) != known else "0" * 32,
                    "approval-1",
                    f"{n}",
                    known[:-1],
                    known.upper() + "x",
                    f"{known}%",
                )
            )
            thread = f"<{made}@{domain}>"
            self.assertFalse(self.reply(asked, "Yes", **{"In-Reply-To": thread}), thread)
        self.assertEqual(self.states(run), ["open"])
        self.assertEqual(len(self.out), 1)

    def test_who_does_not_answer_is_reminded_until_they_do(self) -> None:
        run, _ = self.asked(remind=1.5)
        again = self.mail(2)
        self.assertIn("Still waiting: To approve", again["Subject"])
        self.reply(again, "Yes")
        self.until(run, "done")

        def over() -> bool:
            with self.services.store.read() as session:
                return (
                    session.query(tables.Piece)
                    .filter_by(kind="approval_mail")
                    .filter(tables.Piece.state.in_(("queued", "intent")))
                    .count()
                    == 0
                )

        self.wait_for(over)
        self.assertLess(len(self.out), 5)
        with self.services.store.read() as session:
            receipts = [piece.receipt or {} for piece in session.query(tables.Piece).filter_by(kind="approval_mail")]
        self.assertEqual(len(self.out), sum("message_id" in receipt for receipt in receipts))
        self.assertTrue(all("message_id" in receipt or "left_out" in receipt for receipt in receipts), receipts)

    def test_a_question_is_answered_in_words(self) -> None:
        document = page(self.town.url)
        question = {"question": "Which variety?", "who": WHO, "mail": "mail", "replies": "box"}
        document["steps"] = [{"id": "which", "kind": "ask_question", "settings": question}]
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        self.question(run)
        self.reply(self.mail(1), "The Widow Amblin, but only the seed of last year.\n\n-- \nInes")
        self.until(run, "done")
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Approval).one().final_text, "The Widow Amblin, but only the seed of last year.")

    def test_the_mailboxes_of_questions_are_looked_into(self) -> None:
        self.asked()
        self.assertEqual(self.engine.returns.boxes(self.services.clock()), {"box"})
