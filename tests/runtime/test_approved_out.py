"""What was approved is what goes out: a person's change is in every part, and what cannot go out is said while they are there."""

from __future__ import annotations

from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WHO
from tests.runtime.test_blocks_live import Flowing, step
from ulmus.core import flow
from ulmus.core.workflow import Line
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import asking, execution
from ulmus.runtime.handlers.asking import scope_of
from ulmus.steps.api import Result
from ulmus.store import tables

FIELDS = [{"name": "headline", "type": "text"}, {"name": "seats", "type": "number"}, {"name": "tags", "type": "list"}]
ASK = step("editor", "ask", draft="post", who=WHO)


class Changed(Flowing):
    def run_draft(self, output: dict[str, Any], *steps: dict[str, Any], **settings: Any) -> int:
        draft = step("post", "draft", model="model", prompt="<<start.x>>", **settings)
        run = self.run_page([draft, *steps], {"x": "1"}, lambda i, c: Result(output))
        self.until(run, "asking")
        return run

    def log(self, **cells: str) -> dict[str, Any]:
        return step("log", "add_row", sheet="log", cells=cells)

    def test_the_html_of_a_text_with_markdown_follows(self) -> None:
        output = {"text": "**Old**", "html": "<p><strong>Old</strong></p>", "characters": 7, "words": 1}
        run = self.run_draft(output, ASK, self.log(Post="<<post.html>>", By="<<post.words>>"), answer="markdown")
        self.answer(run, text="Quite **new** words")
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"].strip(), "<p>Quite <strong>new</strong> words</p>")
        self.assertEqual(self.rows()[0]["By"], "3")

    def test_html_is_cleaned_and_is_both(self) -> None:
        output = {"text": "<p>Old</p>", "html": "<p>Old</p>", "characters": 10, "words": 1}
        run = self.run_draft(output, ASK, self.log(Post="<<post.html>>", Link="<<post.text>>"), answer="html")
        self.answer(run, text="<p>New<script>x()</script></p>")
        self.until(run, "done")
        self.assertEqual({self.rows()[0]["Post"], self.rows()[0]["Link"]}, {"<p>New</p>"})

    def test_fields_are_changed_by_name_or_in_the_text(self) -> None:
        output = {"text": "headline: Old\nseats: 4\ntags: a, b", "headline": "Old", "seats": 4, "tags": ["a", "b"]}
        cells = {"Post": "<<post.headline>>", "Link": "<<post.seats>> <<post.tags>>", "By": "<<post.text>>"}
        for change, seats in (({"parts": {"headline": "New"}}, 4), ({"text": "headline: New\nseats: 12\ntags: a, b"}, 12)):
            with self.subTest(change=change):
                run = self.run_draft(output, ASK, self.log(**cells), answer="fields", fields=FIELDS)
                self.answer(run, **change)
                self.until(run, "done")
                self.assertEqual((self.rows()[-1]["Post"], self.rows()[-1]["Link"]), ("New", f"{seats} a\nb"))
                self.assertIn("headline: New", self.rows()[-1]["By"])

    def test_a_change_that_does_not_fit_is_refused_and_loses_nothing(self) -> None:
        output = {"text": "headline: Old\nseats: 4\ntags: a", "headline": "Old", "seats": 4, "tags": ["a"]}
        run = self.run_draft(output, ASK, self.log(Post="<<post.headline>>"), answer="fields", fields=FIELDS)
        for change in ({"parts": {"seats": "many"}}, {"text": "just words"}, {"parts": {"headline": ""}}):
            with self.subTest(change=change), self.assertRaisesRegex(asking.AnswerRefused, "does not fit"):
                self.answer(run, **change)
        self.assertEqual(self.run_of(run).state, "asking")

    def test_items_of_a_list_follow(self) -> None:
        output = {"text": "one\ntwo", "items": ["one", "two"], "characters": 7, "words": 2}
        run = self.run_draft(output, ASK, self.log(Post="<<post.items[2]>>", Link="<<post.items>>"), answer="list")
        self.answer(run, text="one\nsecond\nthird")
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "second")
        self.assertIn("third", self.rows()[0]["Link"])

    def test_values_that_were_set_from_the_draft_before_are_set_anew(self) -> None:
        """Such a page cannot go live any more; runs of one that was live before are put right all the same."""
        made = step("made", "set_values", values={"t": "! <<post.text>>"})
        more = step("more", "set_values", values={"t": "<<made.t>> !"})
        row = self.log(Post="<<more.t>>")
        output = {"text": "Old", "characters": 3, "words": 1}
        run = self.run_old([step("post", "draft", model="model", prompt="x"), made, more, ASK, row], output)
        self.answer(run, text="New")
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "! New !")

    def test_also_where_the_draft_was_made_again_after_a_note(self) -> None:
        made = step("made", "set_values", values={"t": "! <<post.text>>"})
        texts = iter(["First", "Second"])
        run = self.run_old(
            [step("post", "draft", model="model", prompt="x"), made, ASK, self.log(Post="<<made.t>>")],
            lambda i, c: Result({"text": next(texts)}),
        )
        self.answer(run, "back", note="again")
        self.wait_for(lambda: self.question(run).round == 2)
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "! Second")

    def run_old(self, steps: list[dict[str, Any]], output: Any) -> int:
        """A run of a page that went live before such pages were faulty."""
        from unittest import mock

        answers = output if callable(output) else lambda i, c: Result(output)
        with mock.patch("ulmus.core.workflow.checks.unapproved", return_value=[]):
            run = self.run_page(steps, {"x": "1"}, answers)
        self.until(run, "asking")
        return run

    def test_a_page_with_such_a_line_does_not_go_live(self) -> None:
        from ulmus.runtime import workflows

        made = step("made", "set_values", values={"t": "<<post.text>>"})
        row = self.log(Post="<<made.t>>")
        with self.assertRaisesRegex(workflows.NotReady, "changed or turned down"):
            self.run_page([step("post", "draft", model="model", prompt="x"), made, ASK, row], {"x": "1"}, lambda i, c: "x")


class Refused(Flowing):
    RULES = [{"rule": "length", "most": 20, "strength": "must"}]

    def asked(self, text: str, *steps: dict[str, Any], **ask: Any) -> int:
        draft = step("post", "draft", model="model", prompt="<<start.x>>", rules=self.RULES)
        out = step("out", "publish_post", channel="pond", text="<<post.text>>")
        run = self.run_page(
            [draft, step("editor", "ask", draft="post", who=WHO, **ask), *(steps or (out,))], {"x": "1"}, lambda i, c: text
        )
        self.until(run, "asking")
        return run

    def test_what_the_channel_cannot_take_is_said_on_the_screen(self) -> None:
        made = step("made", "set_values", values={"t": "<<post.text>> <<start.x>>"})
        run = self.asked("short", made, step("out", "publish_post", channel="pond", text="<<made.t>>"))
        with self.assertRaisesRegex(asking.AnswerRefused, "at most 300 characters; this has 302"):
            self.answer(run, text="x" * 300, despite=True)
        self.assertEqual(self.run_of(run).state, "asking")
        self.answer(run, text="x" * 18)
        self.until(run, "done")

    def test_a_broken_must_rule_lets_nothing_out_but_by_a_named_act(self) -> None:
        run = self.asked("far more than twenty characters")
        with self.assertRaisesRegex(asking.AnswerRefused, "breaks a rule") as caught:
            self.answer(run)
        self.assertEqual(len(caught.exception.broken), 1)
        self.assertEqual(self.posts(), [])
        self.answer(run, despite=True)
        self.until(run, "done")
        with self.services.store.read() as session:
            approval = session.scalars(select(tables.Approval)).one()
            events = [e for e in session.scalars(select(tables.JournalEntry.event)) if e["event"] == "answered"]
            trail = list(session.scalars(select(tables.Audit.did)))
        self.assertEqual((len(approval.despite), events[0]["despite"]), (1, approval.despite))
        self.assertIn("let out despite a broken rule", trail)

    def test_what_cannot_be_worked_out_from_a_change_is_said_and_one_may_change_it_again(self) -> None:
        draft = step("post", "draft", model="model", prompt="<<start.x>>")
        made = step("made", "set_values", values={"t": "<<post.text>>!"})
        ask = step("editor", "ask", draft="post", who=WHO)
        run = self.run_page([draft, made, ask], {"x": "1"}, lambda i, c: "words")
        self.until(run, "asking")
        with (
            mock.patch.object(execution, "work", side_effect=OutsideError("That cannot be worked out.")),
            self.assertRaisesRegex(asking.AnswerRefused, "cannot be worked out"),
        ):
            self.answer(run, text="other words")
        self.answer(run, text="other words")
        self.until(run, "done")
        self.assertEqual(self.values(run)["made"]["t"], "other words!")

    def test_the_rules_are_measured_on_the_change_and_not_on_the_draft(self) -> None:
        run = self.asked("short")
        with self.assertRaisesRegex(asking.AnswerRefused, "breaks a rule"):
            self.answer(run, text="longer than the twenty it may have")
        self.answer(run, text="short as well")
        self.until(run, "done")
        self.assertEqual(self.posts(), ["short as well"])

    def test_the_mail_says_so_in_its_subject_and_its_body(self) -> None:
        self.asked("far more than twenty characters", mail="mail")
        self.wait_for(lambda: bool(self.town.state.mails))
        kept = self.town.state.mails[0]
        self.assertIn("breaks a rule", kept["subject"])
        self.assertIn("It breaks a rule: ", kept["text"])
        with self.services.store.read() as session:
            self.assertEqual(len(session.scalars(select(tables.Approval)).one().broken), 1, "and so does the queue")

    def test_sending_back_and_declining_are_always_possible(self) -> None:
        run = self.asked("far more than twenty characters")
        self.answer(run, "decline")
        self.until(run, "declined")


class Permission(Flowing):
    """An assignment that may act again after the first time does only what a person saw."""

    def acting(self, *uses: tuple[str, dict[str, Any]], permission: str = "first") -> int:
        turns = [*uses, None]
        post = step("post", "publish_post", channel="pond", text="<<given.text>>", photo="<<given.photo>>")
        row = step("row", "add_row", sheet="log", cells={"Post": "<<given.text>>"})
        agent = step("agent", "assignment", model="model", goal="g", who=WHO, permission=permission, steps=[post, row])

        def thinks(name: str, context: Any) -> Result:
            use = turns[len(context.talk)]
            calls = [{"tool": use[0], "given": use[1]}] if use else None
            return Result({"text": "done"} if calls is None else {"text": "", flow.CALLS: calls})

        return self.run_page([agent], {"x": "1"}, thinks)

    def test_the_default_is_each_time(self) -> None:
        from ulmus.steps import kinds

        self.assertEqual(kinds()["assignment"].settings.model_fields["permission"].default, "each")

    def test_the_same_act_on_the_same_place_is_covered(self) -> None:
        run = self.acting(("post", {"text": "a", "photo": ""}), ("post", {"text": "b", "photo": ""}))
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(self.posts(), ["a", "b"])

    def test_another_kind_of_content_and_another_act_are_not(self) -> None:
        photo = {"text": "b", "photo": "https://a.example/p.png"}
        run = self.acting(("post", {"text": "a", "photo": ""}), ("post", photo), ("row", {"text": "c"}))
        for _ in range(3):
            self.answer(run)
            self.wait_for(lambda: self.run_of(run).state in ("running", "asking", "done"))
        self.until(run, "done")
        with self.services.store.read() as session:
            self.assertEqual(len(list(session.scalars(select(tables.Approval)))), 3)

    def test_the_kind_of_content_is_told_down_to_its_parts(self) -> None:
        line = Line(id="job", kind="run_job", settings={})
        saw = scope_of(line, "shop", {"url": "https://a.example/jobs/new", "body": {"amount": 1, "note": ""}})
        for same in ({"amount": 9}, {"amount": 2, "note": None}):
            self.assertEqual(scope_of(line, "shop", {"url": "https://a.example/jobs/new", "body": same}), saw)
        for other in ({"amount": 9, "all": True}, {"amount": "9"}, {"amount": [9]}, "amount=9"):
            self.assertNotEqual(scope_of(line, "shop", {"url": "https://a.example/jobs/new", "body": other}), saw)

    def test_each_time_is_each_time(self) -> None:
        run = self.acting(("row", {"text": "a"}), ("row", {"text": "b"}), permission="each")
        self.answer(run)
        self.wait_for(lambda: len(self.rows()) == 1)
        self.assertEqual(self.question(run).text, "Post: b")
        self.answer(run)
        self.until(run, "done")
