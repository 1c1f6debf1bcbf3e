"""Time: waits stand in a table and survive everything; a clock that is set stops nothing."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import select

from tests.runtime.test_blocks_live import Flowing, step
from ulmus.core import flow
from ulmus.store import tables


class Time(Flowing):
    def resting(self, seconds: float = 30, count: int = 1) -> list[int]:
        page = [step("rest", "wait", how="for", seconds=seconds)]
        first = self.run_page(page, {"x": "1"}, lambda i, c: "x")
        runs = [first, *(self.begun({"x": str(n)}) for n in range(count - 1))]
        for run in runs:
            self.until(run, "resting")
        return runs

    def timers(self) -> list[tuple[int, str]]:
        with self.services.store.read() as session:
            return [(t.run_id, t.address) for t in session.scalars(select(tables.Timer).order_by(tables.Timer.run_id))]

    def test_a_wait_stands_in_the_table_until_it_is_over(self) -> None:
        (run,) = self.resting(3600)
        self.assertEqual(self.timers(), [(run, "rest")])
        self.services.clock = lambda: time.time() + 7200
        self.until(run, "done")
        self.wait_for(lambda: self.timers() == [])

    def test_a_clock_set_forward_makes_due_what_it_passed(self) -> None:
        runs = self.resting(3600, 5)
        self.services.clock = lambda: time.time() + 7200
        for run in runs:
            self.until(run, "done")

    def test_a_clock_set_back_leaves_waits_their_length(self) -> None:
        (run,) = self.resting(5)
        self.services.clock = lambda: time.time() - 7200
        # Were it left to last longer by what the clock was set back, it would take two hours.
        self.until(run, "done", seconds=30)

    def test_they_are_there_after_a_restart_also_where_the_table_was_lost(self) -> None:
        (run,) = self.resting(3600)
        self.engine.stop()
        with self.services.store.write() as session:
            session.query(tables.Timer).delete()
        self.open()
        self.wait_for(lambda: self.timers() == [(run, "rest")])
        self.services.clock = lambda: time.time() + 7200
        self.until(run, "done")

    def test_a_wait_of_a_run_that_was_cancelled_is_gone(self) -> None:
        (run,) = self.resting(3600)
        self.engine.record(run, flow.Cancelled(at=self.services.clock(), by="Mara"))
        self.wait_for(lambda: self.timers() == [])

    def test_a_run_that_waits_its_turn_says_so_whatever_wakes_it(self) -> None:
        document: dict[str, Any] = {"limits": {"at_once": 1, "when_full": "queue"}}
        first = self.run_page([step("back", "wait", how="call")], {"x": "1"}, lambda i, c: "x", **document)
        self.until(first, "resting")
        second = self.begun({"x": "2"})
        self.engine.writer.wake(second)
        time.sleep(0.3)
        self.assertEqual(self.run_of(second).state, "queued")
        self.engine.arrivals.arrive(first, {})
        self.until(second, "resting")
