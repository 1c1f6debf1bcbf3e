"""An assignment: tools used one after another, each in the journal; acts that ask first; limits; proofs that only show."""

from __future__ import annotations

from typing import Any

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.core.workflow import Workflow, check
from ulmus.readmodels.approvals import approval_view
from ulmus.readmodels.journals import Journals
from ulmus.runtime import asking, workflows
from ulmus.steps import kinds
from ulmus.store import tables

GOAL = "Find what is new about seed, read two articles and post the best to the pond."


def assignment(town: str, **settings: Any) -> dict[str, Any]:
    """A page with an assignment that may search, read and post."""
    tools = [
        {"id": "look", "kind": "search", "settings": {"service": "search", "query": "<<given.query>>", "most": 4}},
        {"id": "article", "kind": "read_page", "settings": {"url": "<<given.link>>"}},
        {"id": "post", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<given.text>>"}},
    ]
    given = {"goal": GOAL, "model": "model", "who": "ida@agency.example", "rounds": 10, **settings}
    return {
        "format": "ulmus-workflow",
        "version": 1,
        "name": "Standing assistant",
        "start": {"id": "start", "kind": "by_hand"},
        "steps": [{"id": "assistant", "kind": "assignment", "settings": given, "steps": tools}],
    }


class Assignments(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            search = {"description": f"{self.town.url}/search/opensearch.xml"}
            key = self.services.sealer.seal({"key": "search-key"})
            session.add(tables.Connection(key="search", kind="search", name="Town search", settings=search, sealed=key))

    def begun(self, **settings: Any) -> int:
        return self.started(assignment(self.town.url, **settings))

    def started(self, document: dict[str, Any]) -> int:
        workflow_id = self.made(document)
        workflows.go_live(self.engine, workflow_id, WHO)
        with self.engine.transaction() as tx:
            return self.engine.begin(tx, workflow_id, {"title": "By hand"}, "By hand")

    def events(self, run_id: int) -> list[flow.Event]:
        with self.services.store.read() as session:
            rows = session.query(tables.JournalEntry).filter_by(run_id=run_id).order_by(tables.JournalEntry.seq)
            return [flow.load_event(row.event) for row in rows]

    def test_it_searches_reads_asks_before_it_posts_and_answers_with_sources(self) -> None:
        run = self.begun()
        self.until(run, "asking")
        self.assertEqual(self.posts(), [])
        question = self.question(run)
        self.assertTrue(question.address.endswith("/post"), question.address)
        self.assertGreater(len(question.text), 40)
        seen = approval_view(self.services, self.engine, Journals(self.services.store), question.id)
        # What bears it out is what its tools gave, and never what its model said.
        self.assertEqual({one.step for one in seen.sources}, {"look", "article"})
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 1)
        state = self.engine.live(run).state
        gave = state.values["assistant"]
        self.assertEqual(gave["used"], 4)
        self.assertGreaterEqual(len(gave["sources"]), 2)
        self.assertGreater(len(gave["text"]), 60)
        used = [e.address.split("/")[1] for e in self.events(run) if isinstance(e, flow.Done | flow.Sent) and "/" in e.address]
        self.assertEqual(used, ["look", "article", "article", "post"])
        thoughts = [
            e
            for e in self.events(run)
            if isinstance(e, flow.Done) and e.address.split(":")[0] == "assistant" and "/" not in e.address
        ]
        self.assertEqual(len(thoughts), 5)
        self.assertTrue(all(e.usage.calls for e in thoughts))

    def test_a_no_with_a_note_goes_back_to_it_and_nothing_goes_out(self) -> None:
        run = self.begun()
        self.until(run, "asking")
        self.answer(run, "back", note="Not today.")
        self.until(run, "done")
        self.assertEqual(self.posts(), [])
        last = [e for e in self.events(run) if isinstance(e, flow.Done)][-1]
        self.assertIn("Not today.", str(last.detail["messages"]))

    def test_without_asking_it_acts_by_itself(self) -> None:
        run = self.begun(permission="never")
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_it_asks_a_person_a_question_and_goes_on_with_the_answer(self) -> None:
        document = assignment(self.town.url, goal="Find what is new about seed, read one article, and ask the editor.")
        asked = {"question": "<<given.question>>", "who": "ida@agency.example"}
        document["steps"][0]["steps"][2] = {"id": "editor", "kind": "ask_question", "settings": asked}
        run = self.started(document)
        question = self.question(run)
        self.assertEqual(question.text, "What should be said about seed?")
        for verdict, words in (("back", "Write your answer"), ("approve", "Write your answer first")):
            with self.assertRaisesRegex(asking.AnswerRefused, words):
                self.answer(run, verdict, note="n")  # type: ignore[arg-type]
        self.answer(run, text="Say that the pea is back.")
        self.until(run, "done")
        last = [e for e in self.events(run) if isinstance(e, flow.Done)][-1]
        self.assertIn("Say that the pea is back.", str(last.detail["messages"]))

    def test_its_other_questions_are_answered_in_their_own_way(self) -> None:
        who = "ida@agency.example"
        fields = [{"name": "bed", "label": "Bed", "required": True}]
        kinds: dict[str, tuple[dict[str, Any], dict[str, Any], str]] = {
            "ask_yes_no": ({"question": "<<given.question>>"}, {"yes": False}, "Reason: So I say."),
            "ask_choice": ({"question": "<<given.question>>", "among": {"Pea": "a", "Bean": "b"}}, {"number": 2}, "Bean"),
            "ask_form": ({"question": "<<given.question>>", "fields": fields}, {"bed": "the long one"}, "the long one"),
        }
        for kind, (settings, given, told) in kinds.items():
            with self.subTest(kind=kind):
                goal = "Find what is new about seed, read one article, and ask the editor to choose which one."
                document = assignment(self.town.url, goal=goal)
                document["steps"][0]["steps"][2] = {"id": "editor", "kind": kind, "settings": {"who": who, **settings}}
                run = self.started(document)
                asked, note = self.question(run), "So I say." if kind != "ask_form" else ""
                asking.answer(self.services, self.engine.writer, asked.id, "approve", who, None, note, given=given, person=who)
                self.until(run, "done")
                last = [e for e in self.events(run) if isinstance(e, flow.Done)][-1]
                self.assertIn(told, str(last.detail["messages"]))

    def test_a_question_on_the_page_gives_its_answer_to_the_lines_below(self) -> None:
        ask = {"id": "answer", "kind": "ask_question", "settings": {"question": "How many came?", "who": "ida@agency.example"}}
        log = {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<answer.text>> by <<answer.by>>"}}}
        run = self.started({**assignment(self.town.url), "steps": [ask, log]})
        self.answer(run, text="Six hundred.")
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "Six hundred. by Ines")

    def test_limits_of_uses_and_rounds_make_it_answer_with_what_it_has(self) -> None:
        for limit in ({"calls": 1}, {"rounds": 2}):
            run = self.begun(**limit)
            self.until(run, "done")
            self.assertEqual(self.engine.live(run).state.values["assistant"]["used"], 1)
        self.assertEqual(self.posts(), [])

    def test_its_money_ends_it_with_words(self) -> None:
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "model")
            record.settings = {**record.settings, "prices": {"input": 200.0, "output": 200.0}}
        run = self.begun(money=0.02)
        ended = self.until(run, "failed")
        self.assertIn("its limit is 0.02", ended.message)

    def test_a_server_without_tools_is_told_of_them_in_words(self) -> None:
        self.fault("model", "notools")
        run = self.begun(permission="never")
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 1)
        self.assertEqual(self.engine.live(run).state.values["assistant"]["used"], 4)

    def test_a_tool_that_fails_is_told_to_it_and_the_rest_goes_on(self) -> None:
        self.fault("search", "garbage")
        document = assignment(self.town.url)
        document["steps"][0]["steps"][0]["on_failure"] = {"retries": 0, "wait": 0}
        run = self.started(document)
        self.until(run, "asking", "done")
        failed = [e for e in self.events(run) if isinstance(e, flow.Failed)]
        self.assertTrue(failed[0].address.endswith("/look"))

    def test_a_crash_while_it_waits_for_leave_loses_nothing(self) -> None:
        run = self.begun()
        self.until(run, "asking")
        before = self.events(run)
        self.reopen()
        self.assertEqual(self.events(run), before)
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(len(self.posts()), 1)

    def test_the_page_is_checked(self) -> None:
        document = assignment(self.town.url)
        document["steps"][0]["settings"]["who"] = ""
        document["steps"][0]["steps"].append({"id": "rest", "kind": "wait", "settings": {}})
        problems = [p.message for p in check(Workflow.model_validate(document), kinds())]
        self.assertTrue(any("cannot be a tool" in p for p in problems), problems)
        self.assertTrue(any("who decides" in p for p in problems), problems)
        document["steps"][0]["steps"] = []
        problems = [p.message for p in check(Workflow.model_validate(document), kinds())]
        self.assertTrue(any("no tool in it yet" in p for p in problems), problems)

    def test_a_field_cannot_take_the_name_of_an_output_of_its_own(self) -> None:
        for name, wrong in (("sources", True), ("text", True), ("verdict", False)):
            document = assignment(self.town.url, answer="fields", fields=[{"name": name}])
            problems = [p.message for p in check(Workflow.model_validate(document), kinds())]
            self.assertEqual(any("the line’s own" in p for p in problems), wrong, problems)
        listed = assignment(self.town.url, answer="list", fields=[{"name": "text"}])
        self.assertFalse(any("the line’s own" in p.message for p in check(Workflow.model_validate(listed), kinds())))

    def test_a_proof_shows_what_it_would_do_and_sends_nothing(self) -> None:
        workflow_id = self.made(assignment(self.town.url))
        workflow = self.document(workflow_id)
        with self.services.store.write() as session:
            sample = tables.Sample(
                workflow_id=workflow_id, label="One", item={"title": "One"}, source="typed", shown=True, created_at=1.0
            )
            session.add(sample)
            session.flush()
        self.proofs.run(workflow_id, workflow, [sample], None, False)
        self.wait_for(lambda: self.proofs.columns(workflow, [sample])[sample.id].cells["assistant"].state in ("fresh", "failed"))
        cell = self.proofs.columns(workflow, [sample])[sample.id].cells["assistant"]
        self.assertEqual(cell.state, "fresh", cell.result and cell.result.output)
        assert cell.result is not None
        self.assertEqual([t["tool"] for t in cell.result.detail["talk"]], ["look", "article", "article", "post"])
        self.assertEqual(self.posts(), [])
        self.assertEqual(self.town.state.posts, [])
