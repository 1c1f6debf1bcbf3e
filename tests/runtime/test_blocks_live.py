"""Blocks, policies, limits and waits with the real engine, store and practice town."""

from __future__ import annotations

import threading
from typing import Any
from unittest import mock

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import asking, execution, workflows
from ulmus.steps.api import Context, Result, StepFailed
from ulmus.store import tables

QUICK = {"retries": 0, "wait": 0.01}


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    more = {k: settings.pop(k) for k in ("steps", "lanes", "on_failure", "muted") if k in settings}
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": QUICK, **more}


def read(id_: str = "page", url: str = "http://a.example", **more: Any) -> dict[str, Any]:
    return step(id_, "read_page", url=url, **more)


IT = "<<it>>"


class Played:
    """Outside calls answered here: what a step gives follows from its address on the page."""

    def __init__(self, answers: Any) -> None:
        self.answers, self.calls, self.lock = answers, [], threading.Lock()

    def __call__(self, line: Any, context: Context) -> Result:
        with self.lock:
            self.calls.append(line.id)
        found = self.answers(line.id, context)
        if isinstance(found, Exception):
            raise found
        return found if isinstance(found, Result) else Result({"text": str(found), "title": "t", "words": 1})


class Flowing(WithHouse):
    def run_page(self, steps: list[dict[str, Any]], item: dict[str, Any], answers: Any, **more: Any) -> int:
        played = Played(answers)
        patch = mock.patch.object(execution, "perform", played)
        patch.start()
        self.addCleanup(patch.stop)
        self.played = played
        self.id = self.made(
            {
                "format": "ulmus-workflow",
                "version": 1,
                "name": more.pop("name", "Flow"),
                "start": {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": n, "label": n} for n in item]}},
                "steps": steps,
                **more,
            }
        )
        workflows.go_live(self.engine, self.id, WHO)
        return self.begun(item)

    def begun(self, item: dict[str, Any]) -> int:
        run = self.engine.runs.push(self.id, item)
        assert run is not None
        return run

    def values(self, run_id: int) -> dict[str, Any]:
        return self.engine.live(run_id).state.values


class Blocks(Flowing):
    def test_each_line_of_a_text_with_results_in_order_and_a_bad_one_left_out(self) -> None:
        steps = [
            step("all", "for_each", list="<<start.urls>>", item="it", parallel=3, steps=[read(url=IT)]),
            step("log", "add_row", sheet="log", cells={"Post": "<<each all.results as r>><<r.page.text>>;<<end>>"}),
        ]
        run = self.run_page(
            steps,
            {"urls": "a\nb\nc\n"},
            lambda id_, c: OutsideError("bad") if c.values["it"] == "b" else f"text of {c.values['it']}",
        )
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "text of a;text of c;")
        self.assertEqual(self.values(run)["all"]["failures"], [{"number": 2, "message": "bad"}])

    def test_a_failure_that_cannot_be_kept_as_it_is_fails_the_line_all_the_same(self) -> None:
        for number, error in enumerate(
            (OutsideError("half \ud83d"), StepFailed(OutsideError("bad"), Usage(cost=0.5), {"x": {1: 2}}))
        ):
            with self.subTest(number):
                run = self.run_page([read()], {"it": "x"}, lambda i, c, error=error: error)
                message = self.until(run, "failed").message
                self.assertTrue(message.startswith(("half \ufffd", "bad")), message)
                self.assertEqual(self.run_of(run).cost, 0.5 * number)

    def test_one_failed_item_is_taken_up_and_what_follows_is_done_again(self) -> None:
        broken = [True]
        steps = [
            step("all", "for_each", list="<<start.urls>>", item="it", steps=[read(url=IT)]),
            step("log", "add_row", sheet="log", cells={"Post": "<<all.results.count>>"}),
        ]
        run = self.run_page(
            steps, {"urls": ["a", "b"]}, lambda id_, c: OutsideError("bad") if c.values["it"] == "b" and broken[0] else "ok"
        )
        self.until(run, "done")
        broken[0] = False
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="all:2/page", by="m"))
        self.until(run, "done")
        self.assertEqual([r["Post"] for r in self.rows()], ["1", "2"])
        self.assertEqual(self.played.calls, ["page", "page", "page"])

    def test_the_lane_that_fits_and_values_of_one_that_did_not_run(self) -> None:
        fork = step(
            "way",
            "fork",
            lanes=[
                {"id": "high", "when": 'start.score is "high"', "steps": [read("page")]},
                {"id": "rest", "when": "", "steps": [read("other")]},
            ],
        )
        log = step("log", "add_row", sheet="log", cells={"Post": '<<page.text | otherwise "none">>', "By": "<<way.lane>>"})
        run = self.run_page([fork, log], {"score": "High", "it": "x"}, lambda id_, c: f"by {id_}")
        self.until(run, "done")
        self.until(self.begun({"score": "low"}), "done")
        self.assertEqual([(r["Post"], r["By"]) for r in self.rows()], [("by page", "high"), ("none", "rest")])

    def test_a_muted_lane_is_passed_over(self) -> None:
        fork = step("way", "fork", which="every", lanes=[
            {"id": "one", "when": "start.n is at least 1", "muted": True, "steps": [read("page")]},
            {"id": "two", "when": "start.n > 0", "steps": [read("other")]},
        ])  # fmt: skip
        self.until(self.run_page([fork], {"n": 1}, lambda id_, c: "x"), "done")
        self.assertEqual(self.played.calls, ["other"])

    def test_repeating_until_an_outside_job_is_ready(self) -> None:
        states = iter(["pending", "pending", "ready"])
        block = step("till", "repeat_until", until='job.text is "ready"', rounds=9, steps=[read("job")])
        log = step("log", "add_row", sheet="log", cells={"Post": "<<till.rounds>> <<job.text>>"})
        self.until(self.run_page([block, log], {"it": "x"}, lambda id_, c: next(states)), "done")
        self.assertEqual(self.rows()[0]["Post"], "3 ready")

    def test_what_never_comes_says_so(self) -> None:
        block = step("till", "repeat_until", until='job.text is "ready"', rounds=2, steps=[read("job")])
        run = self.until(self.run_page([block], {"it": "x"}, lambda id_, c: "pending"), "failed")
        self.assertIn("did not come in 2 rounds", run.message)

    def test_waiting_for_a_time(self) -> None:
        run = self.run_page([step("pause", "wait", how="for", seconds=1), read()], {"it": "x"}, lambda id_, c: "x")
        self.until(run, "resting")
        self.assertEqual(self.played.calls, [])
        self.until(run, "done")

    def test_waiting_for_a_call_that_comes_before_or_after(self) -> None:
        wait = step("back", "wait", how="call", longest=60)
        log = step("log", "add_row", sheet="log", cells={"Post": "<<back.came>> <<back.item.state>>", "Link": "<<run.link>>"})
        run = self.run_page([wait, log], {"it": "x"}, lambda id_, c: "x")
        self.until(run, "resting")
        self.engine.arrivals.arrive(run, {"state": "finished"})
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "yes finished")
        self.assertIn("/call/run/", self.rows()[0]["Link"])

    def test_stopping_an_item_with_words(self) -> None:
        stop = step("enough", "stop", words="Not for <<it>>.")
        fork = step(
            "way", "fork", lanes=[{"id": "no", "when": 'it is "b"', "steps": [stop]}, {"id": "yes", "steps": [read(url=IT)]}]
        )
        run = self.run_page(
            [step("all", "for_each", list="<<start.x>>", item="it", steps=[fork])], {"x": ["a", "b"]}, lambda i, c: "x"
        )
        self.until(run, "done")
        self.assertEqual((self.values(run)["all"]["passed_over"], len(self.values(run)["all"]["results"])), (1, 1))

    def test_values_are_set_and_one_is_picked_without_repeating(self) -> None:
        pick = step("topic", "pick_one", list="a\nb\nc", how="fresh", apart=2)
        sets = step("both", "set_values", values={"line": "On <<topic.picked>>", "list": "<<start.many | first 2>>"})
        log = step("log", "add_row", sheet="log", cells={"Post": "<<both.line>>", "By": "<<both.list | count>>"})
        self.until(self.run_page([pick, sets, log], {"many": [1, 2, 3]}, lambda i, c: "x"), "done")
        for _ in range(5):
            self.until(self.begun({"many": [1]}), "done")
        picked = [r["Post"] for r in self.rows()]
        for i in range(4):
            self.assertEqual(len(set(picked[i : i + 3])), 3, picked)
        self.assertEqual(self.rows()[0]["By"], "2")

    def test_running_another_workflow_and_using_its_result(self) -> None:
        self.run_page(
            [read("inner", url="http://a.example/<<start.topic>>")],
            {"topic": "x"},
            lambda id_, c: f"made of {c.values.get('start', {}).get('topic', '')}",
            name="Inner",
        )
        called = self.id
        call = step("sub", "run_workflow", workflow=str(called), item={"topic": "beans"})
        log = step("log", "add_row", sheet="log", cells={"Post": "<<sub.text>>", "By": "<<sub.values.inner.title>>"})
        run = self.run_page([call, log], {}, lambda id_, c: f"made of {c.values.get('start', {}).get('topic', '')}", name="Outer")
        self.until(run, "done")
        self.assertEqual((self.rows()[0]["Post"], self.rows()[0]["By"]), ("made of beans", "t"))

    def test_taken_up_again_it_waits_for_the_new_run_only(self) -> None:
        broken = [True]
        gives = lambda i, c: OutsideError("gone") if broken[0] else "good"  # noqa: E731
        self.run_page([step("first", "wait", how="for", seconds=1), read("inner")], {"it": "x"}, gives, name="Inner")
        call = step("sub", "run_workflow", workflow=str(self.id), item={})
        run = self.run_page([call], {}, gives, name="Outer")
        self.until(run, "failed")
        broken[0] = False
        self.engine.stop()
        with self.services.store.write() as session:  # killed right after it was taken up: no new run is begun yet
            record = session.get_one(tables.Run, run)
            record.state, record.ended_at, record.idle = "running", None, False
            seq = session.scalar(select(func.max(tables.JournalEntry.seq)).where(tables.JournalEntry.run_id == run)) or 0
            event = flow.dump_event(flow.TakenUp(at=self.services.clock(), address="sub"))
            session.add(tables.JournalEntry(run_id=run, seq=seq + 1, event=event))
        self.reopen()  # the failed run of before is looked at, and not taken for the new one
        self.until(run, "done")
        self.assertEqual(self.values(run)["sub"]["text"], "good")

    def test_workflows_that_run_themselves_come_to_an_end(self) -> None:
        first = self.run_page([read("inner")], {"it": "x"}, lambda id_, c: "x", name="Loop")
        self.until(first, "done")
        with self.services.store.write() as session:
            record = session.get_one(tables.WorkflowRecord, self.id)
            record.document = {**record.document, "steps": [step("again", "run_workflow", workflow=str(self.id))]}
        workflows.go_live(self.engine, self.id, WHO)
        run = self.until(self.begun({}), "failed")
        self.assertIn("deep", run.message)

    def test_each_item_is_asked_about_on_its_own(self) -> None:
        ask = step("editor", "ask", draft="post", who=WHO, rounds=2)
        draft = step("post", "draft", model="model", prompt="<<it>>")
        run = self.run_page(
            [step("all", "for_each", list="<<start.x>>", item="it", steps=[draft, ask])],
            {"x": ["a", "b"]},
            lambda i, c: f"draft {c.values['it']}",
        )
        self.wait_for(lambda: len(self.open_questions(run)) == 2)
        first, second = self.open_questions(run)
        self.assertEqual({first.text, second.text}, {"draft a", "draft b"})
        asking.answer(self.engine.services, self.engine.writer, first.id, "approve", "Ines", "better")
        asking.answer(self.engine.services, self.engine.writer, second.id, "decline", "Ines", None, "no")
        self.until(run, "done")
        self.assertEqual([r["post"]["text"] for r in self.values(run)["all"]["results"]], ["better"])

    def open_questions(self, run: int) -> list[tables.Approval]:
        with self.services.store.read() as session:
            found = select(tables.Approval).where(tables.Approval.run_id == run, tables.Approval.state == "open")
            return list(session.scalars(found.order_by(tables.Approval.address)))


class Policies(Flowing):
    def failing(self, **policy: Any) -> int:
        log = step("log", "add_row", sheet="log", cells={"Post": "<<page.text>>"})
        return self.run_page([read(on_failure={**QUICK, **policy}), log], {"it": "x"}, lambda id_, c: OutsideError("gone"))

    def test_going_on_with_a_stated_value(self) -> None:
        self.until(self.failing(after="value", value="not stated"), "done")
        self.assertEqual(self.rows()[0]["Post"], "not stated")

    def test_passing_over(self) -> None:
        self.until(self.failing(after="skip"), "done")
        self.assertEqual([row["Post"] for row in self.rows()], [""], "the line is passed over, and not the run")

    def test_asking_a_person(self) -> None:
        run = self.failing(after="ask")
        self.assertIn("gone", self.until(run, "stuck").message)
        self.engine.record(run, flow.Judged(at=self.services.clock(), address="page", choice="value", value={"text": "by hand"}))
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "by hand")


class Limits(Flowing):
    def test_money_a_run(self) -> None:
        spends = lambda id_, c: Result({"text": "x"}, usage=Usage(calls=1, cost=0.3))  # noqa: E731
        run = self.run_page([read("a"), read("b"), read("c")], {"it": "x"}, spends, limits={"run_money": 0.5})
        self.assertIn("0.6", self.until(run, "held").message)
        self.engine.record(run, flow.Released(at=self.services.clock(), by="Mara"))
        self.until(run, "done")

    def test_money_a_day_is_counted_over_all_runs_and_survives_a_restart(self) -> None:
        spends = lambda id_, c: Result({"text": "x"}, usage=Usage(calls=1, cost=0.3))  # noqa: E731
        draft = step("post", "draft", model="model", prompt="x")
        self.until(self.run_page([draft], {}, spends, limits={"day_money": 0.3}), "done")
        self.reopen()
        run = self.until(self.begun({}), "held")
        self.assertIn("0.3 a day", run.message)
        self.engine.record(run.id, flow.Released(at=self.services.clock(), by="Mara"))
        self.until(run.id, "done")

    def test_a_brands_month(self) -> None:
        with self.services.store.write() as session:
            session.get_one(tables.Brand, "marrowbank").limits = {"month_money": 0.1}
        spends = lambda id_, c: Result({"text": "x"}, usage=Usage(calls=1, cost=0.3))  # noqa: E731
        draft = step("post", "draft", model="model", prompt="x")
        self.until(self.run_page([draft], {}, spends, brand="marrowbank"), "done")
        self.assertIn("Marrowbank", self.until(self.begun({}), "held").message)

    def at_once(self, when_full: str) -> tuple[int, int, threading.Event]:
        go = threading.Event()
        self.addCleanup(go.set)
        first = self.run_page(
            [read()], {"it": "x"}, lambda id_, c: go.wait(10) or "x", limits={"at_once": 1, "when_full": when_full}
        )
        return first, self.begun({"it": "y"}), go

    def test_the_next_run_waits_its_turn(self) -> None:
        first, second, go = self.at_once("queue")
        self.assertEqual(self.run_of(second).state, "queued")
        go.set()
        self.until(first, "done")
        self.until(second, "done")

    def test_a_queued_run_survives_a_restart(self) -> None:
        first, second, go = self.at_once("queue")
        self.reopen()
        self.assertEqual(self.run_of(second).state, "queued")
        go.set()
        self.until(first, "done")
        self.until(second, "done")

    def test_or_is_passed_over(self) -> None:
        first, second, go = self.at_once("skip")
        self.assertEqual(self.run_of(second).state, "skipped")
        go.set()
        self.until(first, "done")

    def test_or_takes_the_place_of_the_one_under_way(self) -> None:
        first, second, go = self.at_once("replace")
        self.until(first, "cancelled")
        go.set()
        self.until(second, "done")


class People(Flowing):
    def test_pausing_and_letting_go_on(self) -> None:
        go = threading.Event()
        self.addCleanup(go.set)
        run = self.run_page([read("a"), read("b")], {"it": "x"}, lambda id_, c: go.wait(10) or "x")
        self.wait_for(lambda: self.played.calls == ["a"])
        self.engine.record(run, flow.Held(at=self.services.clock(), reason="person", message="Paused by Mara."))
        go.set()
        self.until(run, "held")
        self.wait_for(lambda: "a" in self.values(run))
        self.reopen()
        self.assertEqual(self.run_of(run).state, "held")
        self.assertEqual(self.played.calls, ["a"])
        self.engine.record(run, flow.Released(at=self.services.clock(), by="Mara"))
        self.until(run, "done")

    def test_taking_up_from_an_earlier_step_with_edited_values(self) -> None:
        log = step("log", "add_row", sheet="log", cells={"Post": "<<page.text>>"})
        run = self.run_page([read(), log], {"it": "x"}, lambda id_, c: "first")
        self.until(run, "done")
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="log", values={"page": {"text": "edited"}}))
        self.until(run, "done")
        self.assertEqual([r["Post"] for r in self.rows()], ["first", "edited"])
