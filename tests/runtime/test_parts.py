"""The runtime's smaller parts: news, filled settings, kinds' own promises, demo data, values of a run."""

from __future__ import annotations

import datetime as dt
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from sqlalchemy import func, select

from practice_town.app import Town
from tests.protocols.outside import WithTown
from tests.runtime.house import page, reachable
from ulmus import demo
from ulmus.core.flow import Rewrite
from ulmus.core.workflow import Line, read_file, read_settings
from ulmus.core.workflow.plans import STARTS, PollPlan, StepPlan
from ulmus.places import DEMO
from ulmus.protocols import chat
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import execution
from ulmus.runtime.bus import MOST_WAITING, Bus
from ulmus.runtime.polling import fingerprint
from ulmus.runtime.runs import title_of
from ulmus.runtime.services import Services, run_values
from ulmus.steps import kinds
from ulmus.steps.api import Connection, Context, PolledStart, StepFailed
from ulmus.steps.connections.model import ModelSettings
from ulmus.steps.connections.posting import PostingSettings
from ulmus.store import tables


class ReadSettings(unittest.TestCase):
    LINE = Line(id="page", kind="read_page", settings={"url": "<<feed.link>>"})

    def test_a_line_is_read_once(self) -> None:
        with mock.patch.object(execution, "read_settings", side_effect=read_settings) as reading:
            line = self.LINE.model_copy()
            for n in range(4):
                filled: Any = execution.filled(kinds()["read_page"], line, {"feed": {"link": f"https://a.example/{n}"}})
                self.assertEqual(filled.url, f"https://a.example/{n}", "and filled in anew each time")
        self.assertEqual(reading.call_count, 1)

    def test_a_copy_with_other_settings_is_another_line(self) -> None:
        execution.read(self.LINE)
        other: Any = execution.read(self.LINE.model_copy(update={"settings": {"url": "https://b.example/"}}))
        self.assertEqual(other.url, "https://b.example/")

    def test_what_is_wrong_is_told_each_time(self) -> None:
        line = Line(id="page", kind="read_page", settings={"adress": "x"})
        for _ in range(2):
            with self.assertRaisesRegex(OutsideError, "not set up: .*must be filled in.*Unknown here"):
                execution.read(line)


class News(unittest.TestCase):
    def test_everyone_who_listens_hears_and_nobody_after(self) -> None:
        bus = Bus()
        with bus.listen() as one, bus.listen() as two:
            bus.publish("run", id=7)
            self.assertEqual(one.get_nowait(), {"topic": "run", "id": 7})
            self.assertEqual(two.get_nowait()["id"], 7)
        bus.publish("run", id=8)
        self.assertTrue(one.empty())

    def test_a_listener_that_sleeps_does_not_hold_up_the_speaker(self) -> None:
        bus = Bus()
        with bus.listen() as sleepy:
            for i in range(MOST_WAITING + 50):
                bus.publish("run", id=i)
            self.assertEqual(sleepy.qsize(), MOST_WAITING)


class Filling(unittest.TestCase):
    values = {"feed": {"link": "http://a.example", "title": "T"}, "post": {"text": " Words "}}

    def filled(self, kind: str, **settings: Any) -> Any:
        return execution.filled(kinds()[kind], Line(id="x", kind=kind, settings=settings), self.values)

    def test_texts_cells_and_rules_are_filled_in(self) -> None:
        self.assertEqual(self.filled("read_page", url="<<feed.link>>/x").url, "http://a.example/x")
        self.assertEqual(self.filled("add_row", sheet="s", cells={"A": "<<feed.title>>!"}).cells, {"A": "T!"})
        rules = self.filled("draft", prompt="p", rules=[{"rule": "contains", "text": "<<feed.link>>"}, {"rule": "no_emoji"}]).rules
        self.assertEqual(rules[0].text, "http://a.example")

    def test_prompts_are_left_for_the_step_to_fill_in(self) -> None:
        self.assertEqual(self.filled("draft", prompt="<<feed.title>>").prompt, "<<feed.title>>")

    def test_settings_that_cannot_be_read_are_told_in_words(self) -> None:
        with self.assertRaisesRegex(OutsideError, "not set up: Empty; it must be filled in"):
            self.filled("read_page", url="")

    def test_faults_of_ours_are_not_shown(self) -> None:
        with (
            mock.patch.object(execution.log, "exception") as logged,
            self.assertRaisesRegex(OutsideError, r"made a mistake here \(KeyError\)"),
        ):
            execution.guarded(lambda: {}["inner"])
        logged.assert_called_once()

    def test_what_comes_from_outside_and_who_is_asked(self) -> None:
        workflow = read_file(page("http://town.example"))
        self.assertEqual(execution.outside_roots(workflow), {"feed", "page", "post"})  # a draft of material is material
        self.assertEqual(execution.asked_about(workflow), {"post"})


class Kinds(unittest.TestCase):
    def test_every_kind_declares_what_the_house_relies_on(self) -> None:
        for kind in kinds().values():
            with self.subTest(kind=kind.name):
                self.assertTrue(kind.title)
                self.assertTrue(kind.about.endswith("."))
                plan = kind.plan_of({})  # whatever stands in its settings, how it is carried out can be told
                self.assertIsInstance(plan, STARTS if kind.stage == "start" else StepPlan)
                self.assertEqual(isinstance(plan, PollPlan), isinstance(kind, PolledStart))
                self.assertTrue(kind.brief or kind.says or not kind.output.model_fields, "a result can be told in one breath")
                for name, field in kind.output.model_fields.items():
                    self.assertTrue(field.description, f"{kind.name} gives {name} without saying what it is")
                json.dumps(kind.settings.model_json_schema())

    def test_unknown_settings_are_refused_by_every_kind(self) -> None:
        for kind in kinds().values():
            _, wrong = read_settings(kind.settings, {"colour": "red"})
            self.assertIn("colour", [name for name, _ in wrong], kind.name)

    def test_a_start_is_the_same_start_however_often_it_looks(self) -> None:
        line = Line(id="feed", kind="feed_item", settings={"url": "http://a.example", "every": 5})
        often = line.model_copy(update={"settings": {"url": "http://a.example", "every": 900}})
        other = line.model_copy(update={"settings": {"url": "http://b.example", "every": 5}})
        self.assertEqual(fingerprint(line), fingerprint(often))
        self.assertNotEqual(fingerprint(line), fingerprint(other))

    def test_what_runs_and_samples_are_called(self) -> None:
        self.assertEqual(title_of({"title": "A", "link": "b"}), "A")
        self.assertEqual(title_of({"link": "http://b.example"}), "http://b.example")
        self.assertEqual(title_of({}), "Item")
        self.assertEqual(len(title_of({"title": "x" * 999})), 300)

    def test_the_values_of_a_run(self) -> None:
        moment = dt.datetime(2026, 3, 2, 9, 5).timestamp()
        self.assertEqual(run_values(moment, 4, ""), {"date": "2026-03-02", "time": "09:05", "zone": "", "number": 4})


class Drafting(WithTown):
    def context(self, **more: Any) -> Context:
        prices = {"input": 1.0, "output": 2.0}
        settings = ModelSettings(base_url=f"{self.town.url}/model/v1", model="practice-1", prices=prices, max_seconds=5)  # type: ignore[arg-type]
        connection = Connection("model", "model", "the model", settings, {"key": "k"})
        text = "The seed library at Ostrey lends six packets to every grower in the valley this spring. " * 4
        values = {"page": {"text": text + "\nMore to read."}}
        return Context(self.web, lambda key, kind: connection, values, frozenset({"page"}), **more)

    def draft(self, context: Context, **settings: Any) -> Any:
        line = Line(id="post", kind="draft", settings={"model": "model", "prompt": "<<page.text>>", **settings})
        return execution.perform(line, context)

    def test_a_draft_with_its_cost_and_its_prompt(self) -> None:
        result = self.draft(self.context())
        self.assertEqual(result.output["characters"], len(result.output["text"]))
        self.assertEqual(result.usage.calls, 1)
        self.assertAlmostEqual(result.usage.cost, (result.usage.tokens_in + 2 * result.usage.tokens_out) / 1e6)
        self.assertIn("<material", result.detail["messages"][-1]["content"])

    def test_reasons_are_sent_with_the_draft_they_are_about(self) -> None:
        answers = [chat.Answer("Far too long a draft.", 10, 5, True, 0.1), chat.Answer("Short.", 12, 2, True, 0.1)]
        with mock.patch("ulmus.protocols.chat.complete", side_effect=answers) as complete:
            result = self.draft(self.context(), rules=[{"rule": "length", "most": 10}])
        self.assertEqual(result.output["text"], "Short.")
        second = complete.call_args_list[1].args[2]
        self.assertEqual(second[-2], {"role": "assistant", "content": "Far too long a draft."})
        self.assertIn("It has 21 characters; at most 10", second[-1]["content"])
        self.assertEqual((result.usage.calls, result.usage.tokens_in), (2, 22))

    def test_a_should_rule_is_shown_and_not_sent_back(self) -> None:
        result = self.draft(self.context(), rules=[{"rule": "length", "most": 5, "strength": "should"}])
        self.assertEqual(len(result.detail["rounds"]), 1)
        self.assertFalse(result.detail["rounds"][0]["findings"][0]["kept"])

    def test_where_nobody_is_asked_a_broken_rule_stops_with_its_cost(self) -> None:
        with self.assertRaises(StepFailed) as caught:
            self.draft(self.context(), rules=[{"rule": "length", "least": 9000}], revisions=1)
        self.assertIn("still breaks a rule after 1 revision: ", caught.exception.message)
        self.assertEqual(caught.exception.usage.calls, 2)
        self.assertFalse(caught.exception.retryable)

    def test_a_note_goes_with_the_text_it_is_about(self) -> None:
        with mock.patch("ulmus.protocols.chat.complete", return_value=chat.Answer("New.", 1, 1, True, 0.1)) as complete:
            self.draft(self.context(rewrite=Rewrite("Old words.", ("calmer", "shorter"))))
        sent = complete.call_args.args[2]
        self.assertEqual(sent[-2]["content"], "Old words.")
        self.assertIn("this note:\nshorter", sent[-1]["content"])
        self.assertIn("- calmer", sent[-1]["content"])

    def test_a_piece_is_measured_against_its_channel_before_it_leaves(self) -> None:
        channel = Connection("pond", "posting", "Pondside", PostingSettings(endpoint="http://a.example", limit=10))
        context = Context(self.web, lambda key, kind: channel, {"post": {"text": "  Eleven chars  "}})
        line = Line(id="out", kind="publish_post", settings={"channel": "pond", "text": "<<post.text>>"})
        with self.assertRaisesRegex(OutsideError, "at most 10 characters; this has 12"):
            execution.piece(line, context)
        empty = Line(id="out", kind="publish_post", settings={"channel": "pond", "text": "<<post.nothing>>"})
        with self.assertRaisesRegex(OutsideError, "nothing to post"):
            execution.piece(empty, context)


class DemoData(unittest.TestCase):
    def test_weeks_of_history_that_really_happened(self) -> None:
        town = Town().start()
        self.addCleanup(town.stop)
        with tempfile.TemporaryDirectory() as name:
            services = Services.open(Path(name), reachable(town))
            self.assertFalse(demo.is_made(services))
            demo.make(services, town.url, town.smtp_port, 0)
            self.assertTrue(demo.is_made(services))
            with services.store.read() as session:
                states = dict(session.execute(select(tables.Run.state, func.count()).group_by(tables.Run.state)).all())
                first, last = session.execute(select(func.min(tables.Run.started_at), func.max(tables.Run.started_at))).one()
                sent = session.scalar(select(func.count()).where(tables.Piece.state == "sent", tables.Piece.kind == "publish_post"))
                ended = select(tables.WorkflowRecord.name, tables.Run.state).join(
                    tables.Run, tables.Run.workflow_id == tables.WorkflowRecord.id
                )
                by_name = {tuple(row) for row in session.execute(ended).all()}
                live = list(session.scalars(select(tables.WorkflowRecord.state).order_by(tables.WorkflowRecord.state)))
            services.close()
        self.assertEqual((states["asking"], states["failed"], states["declined"]), (2, 1, 1))
        for job in json.loads((DEMO / "jobs.json").read_text("utf-8")):
            self.assertIn((job["name"], "done"), by_name)
        self.assertIn(("Two lines to kitchens we know", "skipped"), by_name, "a lead whose site cannot be read")
        self.assertGreater(last - first, 14 * 86400)
        self.assertEqual(len(town.state.posts), sent)
        self.assertEqual(sorted(p["at"] for p in town.state.posts), [p["at"] for p in town.state.posts])
        self.assertLess(town.state.posts[0]["at"], town.state.posts[-1]["at"] - 7 * 86400)
        self.assertEqual(sorted(set(live)), ["draft", "live", "paused"])

    def test_its_accounts_can_be_shown(self) -> None:
        self.assertEqual([a["role"] for a in demo.accounts()], ["owner", "reviewer"])
        self.assertTrue(all(a["email"].endswith(".example") for a in demo.accounts()))
