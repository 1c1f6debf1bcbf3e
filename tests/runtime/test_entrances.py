"""Anything may come in, at every entrance: what can be kept is, what cannot is said, and no run lives for ever."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from tests.runtime.test_blocks_live import Flowing, read, step
from tests.runtime.test_starts import Starts
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.core.rows import Change
from ulmus.core.values import NotPlain
from ulmus.runtime import execution, polling, workflows
from ulmus.steps import kinds
from ulmus.steps.api import Outgoing, PollResult, Result
from ulmus.store import tables

HALF = "It is \ud83d half"
WORSE: list[Any] = [{"x": math.nan}, {1: "a"}, {"x": object()}, {"x": {1, 2}}, {"x": 10**400}, {"x": b"x"}]


class Outputs(WithHouse):
    """What steps and plug-ins give."""

    def run_with(self, kind: str, settings: dict[str, Any], **functions: Any) -> int:
        """A run of one line of a kind whose functions are these, and a row after it."""
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "W",
            "start": {"id": "start", "kind": "by_hand"},
            "steps": [
                step("s", kind, **settings),
                step("log", "add_row", sheet="log", cells={"Post": "x" if kind == "add_row" else "<<s.text>>"}),
            ],
        }
        patch = mock.patch.object(execution, "kinds", _with(kind, **functions))
        patch.start()
        self.addCleanup(patch.stop)
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        return run

    def test_half_a_pair_is_replaced_and_the_run_goes_on(self) -> None:
        run = self.run_with("read_page", {"url": "http://a.example"}, perform=lambda s, c: Result({"text": HALF}))
        self.until(run, "done")
        self.assertEqual(self.rows()[0]["Post"], "It is \ufffd half")

    def test_what_cannot_be_kept_is_a_failed_step_with_words_and_no_retry(self) -> None:
        for output in WORSE:
            calls: list[int] = []

            def gives(settings: Any, context: Any, output: Any = output, calls: list[int] = calls) -> Result:
                calls.append(1)
                return Result({"text": "x", **output}, usage=Usage(calls=1, cost=0.5))

            with self.subTest(output=str(output)[:30]):
                run = self.run_with("read_page", {"url": "http://a.example"}, perform=gives)
                self.assertIn("cannot be kept", self.until(run, "failed").message)
                self.assertEqual(len(calls), 1)
                self.assertAlmostEqual(self.run_of(run).cost, 0.5, msg="what it cost is booked")

    def test_pieces_rows_and_values(self) -> None:
        settings = {
            "publish_post": {"channel": "pond", "text": "x"},
            "add_row": {"sheet": "log", "cells": {"Post": "x"}},
            "set_values": {"values": {"text": "b"}},
        }
        for part, kind in (("piece", "publish_post"), ("change", "add_row"), ("work", "set_values")):
            for odd in ({"x": math.inf}, {"x": object()}):
                gives: Any = {"piece": Outgoing("pond", odd), "change": Change("log", rows=(odd,)), "work": (odd, {})}[part]
                with self.subTest(part=part, odd=str(odd)):
                    run = self.run_with(kind, settings[kind], **{part: lambda *a, gives=gives: gives})
                    self.assertIn("cannot be kept", self.until(run, "failed").message)


def _with(name: str, **functions: Any) -> Any:
    changed = {**kinds(), name: replace(kinds()[name], **functions)}
    return lambda: changed


class Items(Starts):
    """What starts bring."""

    def test_pushed_items(self) -> None:
        id_ = self.started("by_hand")
        run = self.engine.runs.push(id_, {"title": HALF, "more": [HALF]})
        assert run is not None
        self.settled(id_, 1)
        self.assertEqual(self.items(id_)[0]["title"], "It is \ufffd half")
        for odd in WORSE:
            with self.subTest(odd=str(odd)[:30]), self.assertRaises(NotPlain):
                self.engine.runs.push(id_, {"title": "x", **odd})
        self.assertEqual(len(self.runs(id_)), 1, "nothing half begun")

    def test_items_of_a_look(self) -> None:
        odd = [(str(n), one) for n, one in enumerate(WORSE)]
        found = polling.taken_in(PollResult([("a\ud83d", {"title": HALF}), *odd], {"memory": HALF}, "Found."))
        self.assertEqual(found.items, [("a\ufffd", {"title": "It is \ufffd half"})])
        self.assertIn(f"{len(WORSE)} could not be kept", found.says)

    def test_calls_for_a_run_that_waits(self) -> None:
        id_ = self.started("by_hand", [step("back", "wait", how="call")])
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.until(run, "resting")
        with self.assertRaises(NotPlain):
            self.engine.arrivals.arrive(run, {"x": math.nan})
        self.engine.arrivals.arrive(run, {"x": HALF})
        self.until(run, "done")

    def test_samples(self) -> None:
        id_ = self.started("by_hand")
        with self.services.store.write() as session:
            sample = workflows.add_sample(session, id_, {"title": HALF}, "typed", 1.0)
            self.assertEqual((sample.label, sample.item["title"]), ("It is \ufffd half",) * 2)
        with self.assertRaises(NotPlain), self.services.store.write() as session:
            workflows.add_sample(session, id_, {"title": math.nan}, "typed", 1.0)


class FromBefore(Flowing):
    """Databases that already hold such events open, show and cancel."""

    def test_a_run_with_odd_events_is_opened_shown_and_cancelled(self) -> None:
        run = self.run_page([step("back", "wait", how="call"), read()], {"it": "x"}, lambda i, c: "x")
        self.until(run, "resting")
        self.engine.stop()
        deep = "[" * 200 + "]" * 200
        with self.services.store.write() as session:
            connection = session.connection()
            text = connection.exec_driver_sql("SELECT event FROM journal WHERE run_id = ? AND seq = 0", (run,)).scalar_one()
            begun = json.loads(text)
            begun["item"] |= {"title": "half \ud83d"}
            odd = json.dumps(begun).replace('"it": "x"', f'"it": "x", "nan": NaN, "deep": {deep}')
            self.assertNotEqual(odd, text)
            connection.exec_driver_sql("UPDATE journal SET event = ? WHERE run_id = ? AND seq = 0", (odd, run))
        self.open()
        live = self.engine.live(run)
        self.assertEqual((live.state.values["start"]["title"], live.state.values["start"]["nan"]), ("half \ufffd", None))
        with self.services.store.read() as session:
            events = [
                flow.load_event(e)
                for e in session.scalars(select(tables.JournalEntry.event).where(tables.JournalEntry.run_id == run))
            ]
        self.assertGreater(len(events), 1)
        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.until(run, "cancelled")

    def test_such_a_run_goes_on_too(self) -> None:
        run = self.run_page([step("back", "wait", how="call"), read()], {"it": "x"}, lambda i, c: "x")
        self.until(run, "resting")
        self.engine.stop()
        with self.services.store.write() as session:
            connection = session.connection()
            connection.exec_driver_sql(
                "UPDATE journal SET event = replace(event, '\"x\"', '\"\\ud83d\"') WHERE run_id = ? AND seq = 0", (run,)
            )
        self.open()
        self.engine.arrivals.arrive(run, {"a": 1})
        self.until(run, "done")


class Together(Flowing):
    def test_one_that_cannot_be_kept_harms_none_of_the_others_and_no_lock_is_slept_under(self) -> None:
        from time import monotonic

        waits = [step("back", "wait", how="call")]
        first = self.run_page(waits, {"x": "1"}, lambda i, c: "x")
        second = self.begun({"x": "2"})
        for run in (first, second):
            self.until(run, "resting")
        bad = flow.Heard(at=1.0, address="back", item={"x": object()})
        began = monotonic()
        with self.assertRaises(NotPlain):
            self.engine.record(first, bad)
        self.engine.record(second, flow.Heard(at=1.0, address="back", item={}))
        self.assertLess(monotonic() - began, 1.0)
        self.assertEqual((self.run_of(first).state, self.until(second, "done").state), ("resting", "done"))
        self.engine.record(first, flow.Heard(at=1.0, address="back", item={}))
        self.until(first, "done")


class Whose(Flowing):
    def test_an_answer_of_any_text_is_taken(self) -> None:
        ask = step("editor", "ask", draft="post", who=WHO)
        run = self.run_page([step("post", "draft", model="model", prompt="x"), ask], {"x": "1"}, lambda i, c: "text")
        self.answer(run, text=HALF)
        self.until(run, "done")
        self.assertEqual(self.values(run)["post"]["text"], "It is \ufffd half")
