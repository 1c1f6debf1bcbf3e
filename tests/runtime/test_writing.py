"""The writing of events: many in a transaction, each on its own where one of them is at fault."""

from __future__ import annotations

import threading
from functools import partial
from typing import Any
from unittest import mock

from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError

from tests.runtime.house import WHO
from tests.runtime.test_blocks_live import Flowing, read, step
from ulmus.core import flow
from ulmus.runtime import dispatcher, writer
from ulmus.runtime.journal import Pages, state_word
from ulmus.runtime.writer import EngineStopped
from ulmus.store import tables


class Together(Flowing):
    def waiting(self, count: int = 6) -> list[int]:
        """Runs that wait for a call."""
        first = self.run_page([step("back", "wait", how="call")], {"x": "1"}, lambda i, c: "x")
        runs = [first, *(self.begun({"x": str(n)}) for n in range(count - 1))]
        for run in runs:
            self.until(run, "resting")
        return runs

    def heard(self, n: int = 0) -> flow.Heard:
        return flow.Heard(at=self.services.clock(), address="back", item={"n": n})

    def test_events_of_many_threads_are_all_written(self) -> None:
        runs = self.waiting(12)
        threads = [threading.Thread(target=self.engine.record, args=(run, self.heard(n))) for n, run in enumerate(runs)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual([self.values(run)["back"]["item"] for run in runs], [{"n": n} for n in range(12)])
        self.assertEqual({self.run_of(run).state for run in runs}, {"done"})

    def test_one_that_fails_harms_none_of_the_others(self) -> None:
        runs = self.waiting(3)
        told = self.gathered(runs, also={1: self.explode})
        self.assertIsNone(told[0])
        self.assertIsInstance(told[1], ZeroDivisionError)
        self.assertIsNone(told[2])
        self.assertEqual([self.run_of(run).state for run in runs], ["done", "resting", "done"])
        self.engine.record(runs[1], self.heard())
        self.assertEqual(self.run_of(runs[1]).state, "done")

    @staticmethod
    def explode(session: Any) -> None:
        session.add(tables.Audit(at=0, who="x", did="half done"))
        session.flush()
        raise ZeroDivisionError

    def gathered(self, runs: list[int], also: dict[int, Any]) -> dict[int, BaseException | None]:
        """Events of several runs in one batch; what each heard of it."""
        return self.written([(run, self.heard(n), also.get(n)) for n, run in enumerate(runs)])

    def written(self, what: list[tuple[Any, ...]]) -> dict[int, BaseException | None]:
        from ulmus.runtime.writer import _Entry

        told: dict[int, BaseException | None] = {}
        entries = [
            _Entry(run, event, also=(more or (None,))[0], told=partial(told.__setitem__, n))
            for n, (run, event, *more) in enumerate(what)
        ]
        self.engine.writer.write(entries)
        return told

    def test_nothing_of_a_failed_write_stays(self) -> None:
        runs = self.waiting(1)
        self.gathered(runs, also={0: self.explode})
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).where(tables.Audit.did == "half done")), 0)

    def test_an_event_that_cannot_happen_is_refused_alone(self) -> None:
        runs = self.waiting(2)
        told = self.written([(runs[0], flow.Done(at=0, address="nowhere", output={})), (runs[0], self.heard())])
        self.assertIsInstance(told[0], flow.FlowError)
        self.assertIsNone(told[1])
        self.assertEqual(self.run_of(runs[0]).state, "done")

    def test_a_disk_that_is_busy_for_a_moment_loses_nothing(self) -> None:
        runs = self.waiting(1)
        real, left = self.services.store.writing, [2]

        def write() -> Any:
            if left[0]:
                left[0] -= 1
                raise OperationalError("INSERT", {}, Exception("database is locked"))
            return real()

        with mock.patch.object(self.services.store, "writing", write):
            self.engine.writer.post(runs[0], self.heard())
            self.until(runs[0], "done")
        self.assertEqual(left, [0])

    def test_after_the_end_nobody_waits_for_what_is_not_written(self) -> None:
        runs = self.waiting(1)
        self.engine.stop()
        with self.assertRaises(EngineStopped):
            self.engine.record(runs[0], self.heard())
        self.open()
        self.until(runs[0], "resting")

    def test_what_a_step_gave_is_brought_again_when_it_could_not_be_written(self) -> None:
        real, left = self.services.store.writing, [0]

        def write() -> Any:
            if left[0] > 0:
                left[0] -= 1
                raise OperationalError("INSERT", {}, Exception("disk is full"))
            return real()

        def gives(name: str, context: Any) -> str:
            left[0] = 8  # more than are tried at once
            return "x"

        with (
            mock.patch.object(dispatcher, "WRITE_AGAIN", 0.05),
            mock.patch.object(writer, "TRY_AGAIN", 0.001),
            mock.patch.object(self.services.store, "writing", write),
        ):
            run = self.run_page([read()], {"x": "1"}, gives)
            self.until(run, "done")
        self.assertEqual((self.played.calls, left), (["page"], [0]))

    def test_what_the_row_says_is_what_the_journal_says(self) -> None:
        ask = step("editor", "ask", draft="post", who=WHO)
        run = self.run_page([read(), step("post", "draft", model="model", prompt="x"), ask], {"x": "1"}, lambda i, c: "text")
        self.until(run, "asking")
        with self.services.store.read() as session:
            state = Pages().load(session, run).state
        self.assertEqual(state_word(state), self.run_of(run).state)
        self.assertEqual(self.run_of(run).step, "editor")

    def test_a_journal_never_has_a_gap(self) -> None:
        runs = self.waiting(4)
        self.gathered(runs, also={2: self.explode})
        self.reopen()
        for run in runs:
            self.engine.record(run, self.heard(), strict=False)
        with self.services.store.read() as session:
            for run in runs:
                numbers = list(
                    session.scalars(
                        select(tables.JournalEntry.seq).where(tables.JournalEntry.run_id == run).order_by(tables.JournalEntry.seq)
                    )
                )
                self.assertEqual(numbers, list(range(len(numbers))))


class Spending(Flowing):
    def test_what_runs_cost_is_booked_by_day(self) -> None:
        from ulmus.core.cost import Usage
        from ulmus.steps.api import Result

        spends = lambda i, c: Result({"text": "x"}, usage=Usage(calls=1, tokens_in=10, tokens_out=5, cost=0.25))  # noqa: E731
        run = self.run_page([read("a"), read("b")], {"x": "1"}, spends)
        self.until(run, "done")
        self.until(self.begun({"x": "2"}), "done")
        with self.services.store.read() as session:
            booked = session.scalars(select(tables.Spending)).one()
        self.assertAlmostEqual(booked.cost, 1.0)
        self.assertEqual(booked.tokens, 60)
        self.assertAlmostEqual(sum(self.run_of(r).cost for r in (run, run + 1)), 1.0)


class Ends(Flowing):
    def test_an_item_in_a_cancelled_run_comes_to_nothing_outside(self) -> None:
        out = step("out", "publish_post", channel="pond", text="<<start.x>>")
        wait = step("rest", "wait", how="for", seconds=60)
        run = self.run_page([wait, out], {"x": "a post"}, lambda i, c: "x")
        self.until(run, "resting")
        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.engine.record(run, flow.TimerFired(at=self.services.clock(), address="rest"), strict=False)
        self.assertEqual((self.run_of(run).state, self.posts()), ("cancelled", []))

    def test_lanes_publish_side_by_side_and_one_that_fails_is_taken_up_alone(self) -> None:
        def lane(name: str, text: str) -> dict[str, Any]:
            return {
                "id": name,
                "when": "start.x is not empty",
                "steps": [step(f"to_{name}", "publish_post", channel="pond", text=text)],
            }

        fork = step("ways", "fork", which="every", lanes=[lane("a", "To a"), lane("b", "<<start.long>>")])
        run = self.run_page([fork], {"x": "1", "long": "x" * 400}, lambda i, c: "x")
        self.assertIn("at most 300", self.until(run, "failed").message)
        self.assertEqual(self.posts(), ["To a"])
        taken = flow.TakenUp(at=self.services.clock(), address="ways:2/to_b", values={"start": {"x": "1", "long": "short"}})
        self.engine.record(run, taken)
        self.until(run, "done")
        self.assertEqual(sorted(self.posts()), ["To a", "short"])

    def test_what_every_item_publishes_goes_out_once_each(self) -> None:
        out = step("out", "publish_post", channel="pond", text="Post <<it>>")
        block = step("all", "for_each", list="<<start.x>>", item="it", parallel=4, steps=[out])
        self.fault("network", "lost", 3)
        run = self.run_page([block], {"x": "1\n2\n3\n4\n5"}, lambda i, c: "x")
        self.until(run, "done", seconds=30)
        self.assertEqual(sorted(self.posts()), [f"Post {n}" for n in range(1, 6)])
