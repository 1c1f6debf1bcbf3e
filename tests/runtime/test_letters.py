"""Letters from a run to the mailbox: once each, to whom they are for, in threads, and what nobody can tell is asked of a person."""

from __future__ import annotations

from typing import Any

from tests.runtime.house import WHO, WithHouse
from ulmus.runtime import asking, workflows

LEADS = [
    {"name": "Ottoline Varley", "email": "ottoline@varley.example"},
    {"name": "Petra Lindqvist", "email": "petra@lockhouse.example"},
    {"name": "Nobody", "email": "no address"},
]


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings}


class Letters(WithHouse):
    def page(self, *steps: dict[str, Any]) -> int:
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Letters", "start": start, "steps": list(steps)})
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def letter(self, id_: str = "letter", **settings: Any) -> dict[str, Any]:
        told = {
            "server": "mail",
            "to": "<<item.body.email>>",
            "subject": "For <<item.body.name>>",
            "text": "Dear <<item.body.name>>,\n\n**hello**",
        }
        return step(id_, "send_letter", **{**told, **settings})

    def run_on(self, id_: int, item: dict[str, Any]) -> int:
        run = self.engine.runs.push(id_, {"title": "Letters", "body": item})
        assert run is not None
        return run

    @property
    def mails(self) -> list[dict[str, Any]]:
        return self.town.state.mails

    def test_one_per_lead_each_once_and_a_bad_address_harms_nobody(self) -> None:
        each = step("all", "for_each", list="<<item.body.leads>>", item="lead", parallel=3)
        each["steps"] = [self.letter(to="<<lead.name>> <<<lead.email>>>", subject="For <<lead.name>>", text="Dear <<lead.name>>")]
        run = self.run_on(self.page(each), {"leads": LEADS})
        self.until(run, "done", "failed")
        self.assertEqual(
            sorted((m["to"], m["subject"]) for m in self.mails),
            [("ottoline@varley.example", "For Ottoline Varley"), ("petra@lockhouse.example", "For Petra Lindqvist")],
        )
        self.assertIn("no mail address", str(self.engine.live(run).state.values["all"]))

    def test_a_second_letter_stands_under_the_first(self) -> None:
        second = self.letter("second", subject="Once more", thread="<<letter.message_id>>")
        third = self.letter("third", subject="And again", thread="<<letter.message_id>> <<second.message_id>>")
        self.until(self.run_on(self.page(self.letter(), second, third), LEADS[0]), "done")
        first, second_, third_ = self.mails
        self.assertEqual(second_["in_reply_to"], first["message_id"])
        self.assertEqual(third_["references"].split(), [first["message_id"], second_["message_id"]])
        self.assertEqual(len({m["message_id"] for m in self.mails}), 3)

    def test_a_lost_answer_leaves_the_letter_to_a_person_and_is_never_sent_again_by_itself(self) -> None:
        self.fault("mail", "lost", 1)
        run = self.run_on(self.page(self.letter()), LEADS[0])
        self.wait_for(lambda: self.piece(run).state == "unsure", lambda: self.piece(run).state, 30)
        piece = self.piece(run)
        self.assertIn("cannot be asked", piece.message)
        self.reopen()
        self.engine.outbox.tick(self.services.clock() + 3600)
        self.assertEqual(len(self.mails), 1, "it is there, and stays the only one")
        self.engine.outbox.decide(piece.id, "sent", "Mara")
        self.until(run, "done")
        self.assertEqual(len(self.mails), 1)

    def test_busy_is_tried_again_and_what_is_refused_is_told(self) -> None:
        self.fault("mail", "busy", 1)
        done = self.page({**self.letter(), "on_failure": {"retries": 2, "wait": 0.05}})
        self.until(self.run_on(done, LEADS[0]), "done")
        self.assertEqual(len(self.mails), 1)

    def test_what_is_approved_is_what_goes_out_with_heads_and_all(self) -> None:
        draft = step("post", "draft", title="T", model="model", standing="x", prompt="One line about seed and boats in the valley.")
        ask = step("editor", "ask", draft="post", who="ines@a.example", mail="", outside=False, rounds=2)
        run = self.run_on(self.page(draft, ask, self.letter(text="Dear <<item.body.name>>,\n\n<<post.text>>")), LEADS[0])
        approval = self.question(run)
        shown = asking.compose(self.services, self.engine.live(run), approval, self.engine.live(run).state.scope(approval.address))
        (composed,) = shown
        self.assertEqual(composed.content["to"], ["ottoline@varley.example"])
        self.assertIn(approval.text, composed.content["text"])
        asking.answer(self.services, self.engine.writer, approval.id, "approve", "Ines", text="Changed at the desk.")
        self.until(run, "done")
        (mail,) = self.mails
        self.assertIn("Changed at the desk.", mail["text"])
        self.assertIn("Changed at the desk.", mail["html"], "in every part that goes out")

    def test_what_cannot_go_out_is_refused_while_the_person_is_there(self) -> None:
        draft = step("post", "draft", title="T", model="model", standing="x", prompt="One line about seed and boats in the valley.")
        ask = step("editor", "ask", draft="post", who="ines@a.example", mail="", outside=False, rounds=2)
        run = self.run_on(self.page(draft, ask, self.letter(text="<<post.text>>")), LEADS[2])
        approval = self.question(run)
        with self.assertRaisesRegex(asking.AnswerRefused, "no mail address"):
            asking.answer(self.services, self.engine.writer, approval.id, "approve", "Ines")
        self.assertEqual(self.mails, [])

    def test_the_mail_about_a_draft_shows_all_that_goes_out_with_it(self) -> None:
        draft = step("post", "draft", title="T", model="model", standing="x", prompt="One line about seed and boats in the valley.")
        ask = step("editor", "ask", draft="post", who="ines@a.example", mail="mail", rounds=2)
        letter = self.letter(text="Dear <<item.body.name>>,\n\n<<post.text>>\n\n<script>alert(1)</script>")
        post = step("out", "publish_post", channel="pond", text="<<post.text>>")
        run = self.run_on(self.page(draft, ask, letter, post), LEADS[0])
        approval = self.question(run)
        self.wait_for(lambda: len(self.mails) == 1)
        (told,) = self.mails
        self.assertEqual(told["to"], "ines@a.example")
        for part in (told["text"], told["html"]):
            self.assertIn("Dear Ottoline Varley", part)
            self.assertIn("For Ottoline Varley", part)
            self.assertIn("What goes out through Pondside", part)
            self.assertIn("/answer/", part)
        self.assertNotIn("<script", told["html"])
        self.assertIn(approval.text.strip()[:40], told["text"])

    def test_a_lone_post_that_is_the_draft_stands_there_once(self) -> None:
        draft = step("post", "draft", title="T", model="model", standing="x", prompt="One line about seed and boats in the valley.")
        ask = step("editor", "ask", draft="post", who="ines@a.example", mail="mail", rounds=2)
        run = self.run_on(self.page(draft, ask, step("out", "publish_post", channel="pond", text="<<post.text>>")), LEADS[0])
        approval = self.question(run)
        self.wait_for(lambda: len(self.mails) == 1)
        self.assertEqual(self.mails[0]["text"].count(approval.text.strip()), 1)
        self.assertNotIn("What goes out", self.mails[0]["text"])
