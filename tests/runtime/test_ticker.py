"""Time: waits stand in a table and survive everything; a clock that is set stops nothing."""

from __future__ import annotations

import time
from functools import partial
from typing import Any
from unittest import mock

from sqlalchemy import select

from tests.runtime.test_blocks_live import Flowing, step
from ulmus.core import flow
from ulmus.runtime.services import Services
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

    def test_a_clock_set_back_stops_no_looking(self) -> None:
        id_ = self.live(feed={"every": 300})
        with self.services.store.read() as session:
            before = session.get_one(tables.Start, id_).next_at
        self.engine.polling.enabled = True
        back = time.time() - 86_400
        self.services.clock = lambda: back + (time.time() % 10)
        self.town.state.release("furrow-letter")

        def begun() -> int:
            with self.services.store.read() as session:
                return session.query(tables.Run).filter(tables.Run.workflow_id == id_).count()

        self.wait_for(lambda: begun() == 1, seconds=20)
        self.assertGreater(before, back)

    def test_and_where_it_was_set_back_while_the_house_was_closed(self) -> None:
        id_ = self.live()
        self.engine.stop()
        self.services.close()
        self.polling = True
        back = time.time() - 86_400
        with mock.patch.object(Services, "open", side_effect=partial(self._opened, clock=lambda: back + (time.time() % 10))):
            self.open()
        self.town.state.release("furrow-letter")

        def begun() -> int:
            with self.services.store.read() as session:
                return session.query(tables.Run).filter(tables.Run.workflow_id == id_).count()

        self.wait_for(lambda: begun() == 1, seconds=20)

    _opened = staticmethod(Services.open)

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
