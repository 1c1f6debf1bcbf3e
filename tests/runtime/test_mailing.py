"""A mailing: one letter to each reader of a list, each an effect of its own; who has left or cannot be reached gets none, whatever
happens on the way nobody gets two, and what nobody can tell is one letter and is named."""

from __future__ import annotations

import time
from collections import Counter
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow, pieces
from ulmus.core.pieces import Mailing
from ulmus.core.workflow import read_file
from ulmus.protocols import mail
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import leaving, mailings, outbox, sheets, workflows
from ulmus.runtime.periods import said
from ulmus.store import tables

READERS = [
    {"Name": "Ada", "Email": "ada@readers.example", "State": "", "Town": "Lyd"},
    {"Name": "Bea <b>", "Email": "Bea Moss <bea@readers.example>", "State": "joined", "Town": "Ostrey"},
    {"Name": "Cleo", "Email": "cleo@readers.example", "State": "Left", "Town": "Lyd"},
    {"Name": "Dov", "Email": "ADA@readers.example", "State": "", "Town": "Lyd"},
    {"Name": "Eve", "Email": "no address", "State": "", "Town": "Lyd"},
    {"Name": "", "Email": "finn@readers.example", "State": "", "Town": "Lyd"},
    {"Name": "", "Email": "", "State": "", "Town": ""},
]
TEXT = (
    'Dear <<reader.Name | otherwise "reader">>,\n\n<<item.body.news>>\n\n'
    "<<if reader.Town is item.body.town>>\n\nSee you in **<<reader.Town>>**!\n\n<<otherwise>>\n\nCome and see us.\n\n<<end>>\n\n"
    "[Yours](https://shop.example/?who=<<reader.Email>>&x=1)"
)


class WithList(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.services.public_url = "https://ulmus.example"
        self.list(READERS)

    def list(self, rows: list[dict[str, str]]) -> None:
        with self.services.store.write() as session:
            old = session.get(tables.Sheet, "readers")
            if old is not None:
                session.delete(old)
                session.flush()
            names = list(rows[0])
            sheet = sheets.create(session, "Readers", [{"name": name, "type": "text"} for name in names])
            sheets.add_rows(session, sheet, rows)

    def page(self, live: bool = True, **settings: Any) -> int:
        told = {
            "server": "mail",
            "sheet": "readers",
            "address": "Email",
            "state": "State",
            "subject": "For <<reader.Name>>",
            "text": TEXT,
        }
        line = {"id": "out", "kind": "send_mailing", "settings": {**told, **settings}}
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "News", "start": start, "steps": [line]})
        if live:
            workflows.go_live(self.engine, id_, WHO)
        return id_

    def send(self, **settings: Any) -> int:
        body = {"news": "*Beans* <<reader.Name>>", "town": "lyd"}
        run = self.engine.runs.push(self.page(**settings), {"title": "News", "body": body})
        assert run is not None
        return run

    def letters(self) -> dict[str, tables.MailingLetter]:
        with self.services.store.read() as session:
            return {one.folded: one for one in session.scalars(select(tables.MailingLetter))}

    def got(self) -> list[str]:
        return sorted(m["to"] for m in self.town.state.mails)

    def mail_to(self, address: str) -> dict[str, Any]:
        return next(m for m in self.town.state.mails if m["to"] == address)


class Sending(WithList):
    def test_each_reader_gets_one_filled_in_and_the_others_are_counted_with_why(self) -> None:
        run = self.send()
        self.until(run, "done", "failed")
        self.assertEqual(self.got(), ["ada@readers.example", "bea@readers.example", "finn@readers.example"])
        ada, bea, finn = (self.mail_to(f"{name}@readers.example") for name in ("ada", "bea", "finn"))
        self.assertEqual((ada["subject"], bea["subject"], finn["subject"]), ("For Ada", "For Bea <b>", "For"))
        self.assertIn("Dear Bea &lt;b&gt;,", bea["html"])
        self.assertIn("Dear Bea <b>,", bea["text"])
        self.assertIn("Dear reader,", finn["text"])
        self.assertIn("<em>Beans</em> &lt;&lt;reader.Name&gt;&gt;", ada["html"], "a value is never a text with slots")
        self.assertIn("<strong>Lyd</strong>", ada["html"])
        self.assertIn("Come and see us", bea["html"])
        self.assertNotIn("Come and see us", ada["html"] + ada["text"])
        self.assertIn("who=Bea%20Moss%20%3Cbea%40readers.example%3E&amp;x=1", bea["html"])
        for m in (ada, bea, finn):
            leave = leaving.place(self.services, "Readers", m["to"])
            self.assertEqual(m["leave"], f"<{leave}>")
            self.assertIn(leave, m["html"])
            self.assertIn(leave, m["text"])
            self.assertEqual(m["list"], "Readers <readers.a.example>")
        self.assertEqual(len({m["message_id"] for m in self.town.state.mails}), 3)
        output = self.engine.live(run).state.values["out"]
        self.assertEqual((output["readers"], output["sent"], output["left_out"], output["refused"]), (3, 3, 3, 0))
        piece = pieces.read("mailing", self.piece(run).content)
        assert isinstance(piece, Mailing)
        self.assertEqual(
            {one.why: one.count for one in piece.left_out},
            {"are “left” on the list": 1, "stand on it twice": 1, "have no mail address that could be one": 1},
        )
        self.assertEqual(piece.first.subject, "For Ada")

    def test_a_condition_a_pace_and_a_name_of_its_own(self) -> None:
        run = self.send(keep='Town is "lyd"', name="Seed news", pace=120)
        self.until(run, "done", "failed")
        self.assertEqual(self.got(), ["ada@readers.example", "finn@readers.example"])
        first, second = sorted(m["came"] for m in self.town.state.mails)
        self.assertGreaterEqual(second - first, 0.3)
        self.assertIn("on the list “Seed news”", self.town.state.mails[0]["text"])

    def test_nobody_to_write_to_is_said(self) -> None:
        run = self.send(keep='Town is "Nowhere"')
        self.until(run, "stuck", "failed", "done")
        self.assertIn("Nobody on the list gets this", self.run_of(run).message)
        self.assertIn("who do not fit the condition", self.run_of(run).message)

    def test_whoever_left_by_any_mailing_gets_none_and_the_list_says_so(self) -> None:
        self.until(self.send(), "done")
        with self.services.store.write() as session:
            leaving.leave(session, "Finn@readers.example", "Another", 1.0)
        states = {row["Email"]: row["State"] for row in self.rows()}
        self.assertEqual((states["finn@readers.example"], states["ada@readers.example"]), ("left", ""))
        self.town.state.mails.clear()
        self.until(self.send(state=""), "done")
        self.assertEqual(self.got(), ["ada@readers.example", "bea@readers.example", "cleo@readers.example"])
        with self.services.store.write() as session:
            leaving.come_back(session, "finn@readers.example")
        self.assertEqual({row["Email"]: row["State"] for row in self.rows()}["finn@readers.example"], "joined")

    def test_whoever_leaves_while_it_goes_out_gets_none(self) -> None:
        real = mail.send

        def leaves(*arguments: Any) -> bool:
            with self.services.store.write() as session:
                leaving.leave(session, "finn@readers.example", "x", 1.0)
            return real(*arguments)

        with mock.patch.object(mail, "send", leaves):
            run = self.send()
            self.until(run, "done")
        self.assertEqual(self.got(), ["ada@readers.example", "bea@readers.example"])
        self.assertEqual(self.letters()["finn@readers.example"].state, "left")
        self.assertEqual(self.engine.live(run).state.values["out"]["left_out"], 4)

    def test_an_address_that_is_refused_harms_nobody_and_one_that_is_busy_is_tried_again(self) -> None:
        names = ("gone.a", "b", "full.c", "d")
        self.list([{"Name": n, "Email": f"{n}@readers.example", "State": ""} for n in names])
        with mock.patch.object(mailings, "AGAIN", 0.2):
            run = self.send(text="Dear <<reader.Name>>")
            self.until(run, "done", "failed")
        self.assertEqual(self.got(), [f"{n}@readers.example" for n in ("b", "d", "full.c")])
        output = self.engine.live(run).state.values["out"]
        self.assertEqual((output["sent"], output["refused"]), (3, 1))
        self.assertIn("No such mailbox", self.letters()["gone.a@readers.example"].message)

    def test_a_block_that_ends_elsewhere_is_a_fault_of_the_line(self) -> None:
        run = self.send(text='A <<if reader.Name is "x">>b\n\n- c <<end>>\n- d')
        self.until(run, "stuck", "failed")
        self.assertIn("begins inside one paragraph", self.run_of(run).message)

    def test_a_column_that_is_not_there_is_said_at_its_line(self) -> None:
        from ulmus.core.workflow import check
        from ulmus.runtime.services import world
        from ulmus.steps import kinds

        id_ = self.page(live=False, text="Dear <<reader.Nom>> of <<reader.Town>> and <<nothing.here>>")
        with self.services.store.read() as session:
            told = [p.message for p in check(self.document(id_), kinds(), world(session)) if p.step == "out"]
        self.assertIn("no column “Nom”", " ".join(told))
        self.assertIn("nothing", " ".join(told))

    def test_a_line_called_reader_keeps_its_slots_apart(self) -> None:
        from ulmus.core.workflow.kinds import templates_of
        from ulmus.core.workflow.reading import roots
        from ulmus.steps import kinds

        line = self.document(self.page()).line("out")
        assert line is not None
        self.assertEqual(roots(line, kinds()), {"item"})
        self.assertTrue(any("reader" in text for _, text in templates_of(kinds()["send_mailing"], line.settings)))


class Quota(WithList):
    def test_a_mailing_stops_at_a_quota_and_a_person_lets_the_rest_go(self) -> None:
        self.list([{"Name": f"R{n}", "Email": f"r{n}@readers.example", "State": ""} for n in range(7)])
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "mail")
            record.settings = {**record.settings, "pieces_a_day": 4}
        run = self.send(text="Dear <<reader.Name>>")
        self.wait_for(lambda: self.piece(run).state == "held", lambda: self.piece(run).state)
        self.assertEqual(len(self.got()), 4)
        self.assertIn("its 4 pieces of today", self.piece(run).message)
        self.engine.outbox.move(self.piece(run).id, None, "Mara")
        self.until(run, "done")
        self.assertEqual(len(set(self.got())), 7)
        self.assertEqual(len(self.got()), 7)


class Said(WithList):
    def test_what_went_out_counts_as_it_was_read_whatever_its_form(self) -> None:
        run = self.send(subject="News", text="Dear <<reader.Name>>, beans are here.")
        self.until(run, "done")
        piece = self.piece(run)
        self.assertIn("Dear Ada, beans are here.", said(piece.kind, piece.content))
        self.assertNotIn(str(piece.content["word"]), said(piece.kind, piece.content))
        article = {"title": "T", "html": "<h2>Beans</h2><p>are &amp; were</p>"}
        self.assertEqual(said("publish_article", article), "Beans are & were")
        self.assertEqual(said("publish_post", {"text": 5}), "5", "what cannot be read any more says what it can")


class InDoubt(WithList):
    def test_a_lost_answer_is_one_letter_in_doubt_named_and_decided_by_one_press(self) -> None:
        for choice, sent in (("sent", 3), ("again", 4), ("drop", 3)):
            with self.subTest(choice=choice):
                self.town.state.mails.clear()
                self.fault("mail", "lost", 1)
                run = self.send()
                self.until(run, "unsure", seconds=30)
                piece = self.piece(run)
                self.assertIn("The letter to ada@readers.example is in doubt", piece.message)
                self.assertEqual(len(self.town.state.mails), 3, "the others go on")
                self.engine.outbox.decide(piece.id, choice, "Mara")
                self.until(run, "done", "failed")
                self.assertEqual(len(self.town.state.mails), sent)
                self.assertEqual(self.engine.live(run).state.values["out"]["sent"], 3 if choice != "drop" else 2)

    def test_a_server_that_is_away_is_waited_for_and_a_wrong_one_is_said_with_nothing_lost(self) -> None:
        real, refusals = mail.send, iter([OutsideError("away", retryable=True)] * 2)

        def away(*arguments: Any) -> bool:
            error = next(refusals, None)
            if error is not None:
                raise error
            return real(*arguments)

        with mock.patch.object(mail, "send", away):
            run = self.send()
            self.until(run, "done", "failed", seconds=30)
        self.assertEqual(len(self.got()), 3)
        self.town.state.mails.clear()

        sent = 0

        def wrong(*arguments: Any) -> bool:
            nonlocal sent
            if sent == 1:
                raise OutsideError("The password is wrong.")
            sent += 1
            return real(*arguments)

        with mock.patch.object(mail, "send", wrong):
            run = self.send()
            self.until(run, "stuck", "failed")
        self.assertIn("password is wrong", self.run_of(run).message)
        self.assertEqual(len(self.got()), 1)
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="out", by="Mara"))
        self.until(run, "done")
        self.assertEqual(set(Counter(self.got()).values()), {1}, "whoever had it gets no second one")
        self.assertEqual(len(self.got()), 3)
        self.assertEqual(self.engine.live(run).state.values["out"]["sent"], 3)

    def test_a_server_that_always_breaks_off_at_the_end_is_given_up_and_the_rest_can_still_go(self) -> None:
        self.list([{"Name": f"R{n}", "Email": f"r{n}@readers.example", "State": ""} for n in range(12)])
        self.fault("mail", "lost")
        with mock.patch.object(outbox, "MAIL_TRIES", 2):
            run = self.send(text="Dear <<reader.Name>>")
            self.until(run, "failed", "stuck", seconds=40)
        states = Counter(letter.state for letter in self.letters().values())
        # Two tries for each of the line's three.
        self.assertEqual((states["unsure"], states["waiting"]), (6, 6))
        self.town.state.faults.clear()
        self.engine.outsides.forgive("connection:mail")
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="out", by="Mara"))
        self.until(run, "unsure", seconds=30)
        self.engine.outbox.decide(self.all_pieces(run)[-1].id, "sent", "Mara")
        self.until(run, "done")
        self.assertEqual(len(set(self.got())), 12)
        self.assertEqual(max(Counter(self.got()).values()), 1)

    def test_what_a_person_says_while_letters_go_is_not_overwritten_by_them(self) -> None:
        run = self.send()
        self.until(run, "done")
        piece = self.piece(run)
        with self.services.store.write() as session:
            session.get_one(tables.Piece, piece.id).state = "held"
        self.assertFalse(self.engine.outbox._still_going(piece, "going", "", 0.0))
        self.assertEqual(self.piece(run).state, "held")

    def all_pieces(self, run: int) -> list[tables.Piece]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Piece).where(tables.Piece.run_id == run).order_by(tables.Piece.id)))

    def test_an_intent_that_stood_at_the_end_is_in_doubt_and_nobody_else(self) -> None:
        self.list([{"Name": f"R{n}", "Email": f"r{n}@readers.example", "State": ""} for n in range(30)])
        run = self.send(text="Dear <<reader.Name>>", pace=1200)
        self.wait_for(lambda: len(self.town.state.mails) > 5)
        self.reopen()
        self.until(run, "done", "unsure", seconds=30)
        counted = Counter(self.got())
        self.assertEqual(max(counted.values()), 1)
        self.assertGreaterEqual(len(counted), 29)
        states = Counter(letter.state for letter in self.letters().values())
        self.assertEqual(states["sent"] + states["unsure"], 30)
        self.assertLessEqual(states["unsure"], 1)

    def test_a_run_that_is_cancelled_sends_no_more(self) -> None:
        self.list([{"Name": f"R{n}", "Email": f"r{n}@readers.example", "State": ""} for n in range(30)])
        run = self.send(text="Dear <<reader.Name>>", pace=600)
        self.wait_for(lambda: len(self.town.state.mails) > 2)
        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.until(run, "cancelled")
        self.wait_for(lambda: self.piece(run).state == "failed")
        there = len(self.town.state.mails)
        self.assertLess(there, 29)
        time.sleep(0.5)
        self.assertLessEqual(len(self.town.state.mails), there + 1)

    def test_a_page_read_from_a_file_keeps_what_it_says_of_readers(self) -> None:
        document = self.document(self.page())
        self.assertEqual(read_file(document.model_dump_json().encode()).line("out"), document.line("out"))
