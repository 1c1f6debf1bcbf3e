"""One failing outside slows only what uses it: doors with limits, closed after failures, opened by a try that goes well."""

from __future__ import annotations

import contextlib
import threading
import time
import unittest
from concurrent.futures import Future
from types import SimpleNamespace
from typing import Any
from unittest import mock

from tests.runtime.house import WHO, WithHouse, page
from ulmus.core import flow
from ulmus.core.workflow import Line
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import execution, outsides, workflows
from ulmus.runtime.outsides import FIRST_REST, IN_A_ROW, LONGEST_WAIT, Outsides, leads_to
from ulmus.steps.api import Result
from ulmus.store import tables

DOWN = OutsideError("It has a fault of its own (500).", retryable=True)


class Held:
    """An executor that carries jobs out when told."""

    def __init__(self) -> None:
        self.jobs: list[Any] = []

    def submit(self, job: Any, *arguments: Any) -> None:
        self.jobs.append((job, arguments))

    def stop(self) -> None:
        pass

    def go(self) -> None:
        jobs, self.jobs = self.jobs, []
        for job, arguments in jobs:
            job(*arguments)


class Doors(unittest.TestCase):
    def setUp(self) -> None:
        self.now = 1000.0
        self.says: list[dict[str, Any]] = []
        bus = SimpleNamespace(publish=lambda topic, **what: self.says.append({"topic": topic, **what}))
        web = SimpleNamespace(allowed=frozenset({"a.example", "b.example"}))
        services: Any = SimpleNamespace(clock=lambda: self.now, bus=bus, web=web)
        self.executor = Held()
        self.doors = Outsides(services, self.executor)
        self.done: list[OutsideError | None] = []

    def come(self, count: int = 1, error: OutsideError | None = None, key: str = "host:a.example") -> None:
        def job(refused: OutsideError | None) -> OutsideError | None:
            self.done.append(refused or error)
            return error

        for _ in range(count):
            self.doors.submit(key, job, run=7)

    def test_so_many_at_a_time_and_the_rest_in_order(self) -> None:
        self.come(outsides.AT_ONCE + 10)
        self.assertEqual(len(self.executor.jobs), outsides.AT_ONCE)
        self.executor.go()
        self.assertEqual(len(self.executor.jobs), 10)
        self.executor.go()
        self.assertEqual(len(self.done), outsides.AT_ONCE + 10)

    def test_a_site_that_is_not_ones_own_is_asked_one_at_a_time(self) -> None:
        self.come(5, key="host:elsewhere.example")
        self.assertEqual(len(self.executor.jobs), 1)
        self.come(5, key="host:a.example")
        self.assertEqual(len(self.executor.jobs), 6)

    def test_another_outside_is_not_held_up(self) -> None:
        self.come(outsides.AT_ONCE + 10)
        self.come(1, key="host:b.example")
        self.assertEqual(len(self.executor.jobs), outsides.AT_ONCE + 1)

    def passes(self, begun: threading.Event, over: threading.Event, error: OutsideError | None = None) -> threading.Thread:
        """Somebody who is watched goes through the door of a site that takes one at a time."""

        def go() -> None:
            with contextlib.suppress(OutsideError), self.doors.passing("host:elsewhere.example", self.stopped.is_set):
                begun.set()
                over.wait(10)
                if error is not None:
                    raise error

        thread = threading.Thread(target=go, daemon=True)
        thread.start()
        return thread

    def test_a_proof_waits_its_turn_before_all_others(self) -> None:
        self.stopped = threading.Event()
        self.come(3, key="host:elsewhere.example")
        begun, over = threading.Event(), threading.Event()
        thread = self.passes(begun, over)
        self.assertFalse(begun.wait(0.3), "one is at it already")
        self.executor.go()
        self.assertTrue(begun.wait(5))
        self.assertEqual((len(self.done), self.executor.jobs), (1, []), "the others wait for the proof")
        over.set()
        thread.join(5)
        self.executor.go()
        self.executor.go()
        self.assertEqual(len(self.done), 3)
        # One that is stopped while it waits leaves nothing behind.
        self.come(1, key="host:elsewhere.example")
        thread = self.passes(threading.Event(), over)
        self.stopped.set()
        thread.join(5)
        self.assertFalse(thread.is_alive())
        self.executor.go()
        self.assertEqual(self.doors.counted(), (0, 0, 0))

    def test_a_proof_tries_a_closed_door_and_its_luck_is_told(self) -> None:
        self.stopped, over = threading.Event(), threading.Event()
        key = "host:elsewhere.example"
        self.come(1, key=key)
        waits = threading.Event()
        thread = self.passes(waits, over)
        with self.doors._lock:
            self.doors._all[key].failures = IN_A_ROW
        self.assertTrue(waits.wait(5), "a door that closes lets it go")
        over.set()
        thread.join(5)
        self.executor.go()
        self.assertEqual(self.doors.counted()[2], 0)
        for _ in range(IN_A_ROW):
            with contextlib.suppress(OutsideError), self.doors.passing(key, self.stopped.is_set):
                raise DOWN
        self.assertEqual(self.doors.counted()[2], 1, "what a proof meets counts as well")
        with self.doors.passing(key, self.stopped.is_set):
            pass
        self.assertEqual(self.doors.counted()[2], 0, "one that goes well opens the door")

    def test_what_comes_later_keeps_its_place_until_then(self) -> None:
        later: Future[OutsideError | None] = Future()
        self.doors.submit("host:elsewhere.example", lambda refused: later)
        self.come(2, key="host:elsewhere.example")
        self.executor.go()
        self.assertEqual((self.done, self.executor.jobs), ([], []))
        later.set_result(None)
        self.executor.go()
        self.executor.go()
        self.assertEqual(len(self.done), 2)

    def test_closed_after_failures_in_a_row_then_one_try_decides(self) -> None:
        for _ in range(IN_A_ROW):
            self.come(1, DOWN)
            self.executor.go()
        self.come(5)
        self.assertEqual(self.executor.jobs, [])
        (trouble,) = self.doors.troubles()
        self.assertEqual((trouble.waiting, trouble.runs, trouble.next_at), (5, frozenset({7}), self.now + FIRST_REST))
        self.now += FIRST_REST
        self.doors.tick(self.now)
        self.assertEqual(len(self.executor.jobs), 1, "one try")
        self.executor.go()
        self.assertEqual(len(self.executor.jobs), 4, "it went well: the rest")
        self.assertEqual(self.doors.troubles(), [])
        self.assertEqual([s["topic"] for s in self.says], ["outside", "outside"])

    def test_a_try_that_fails_makes_the_rest_longer(self) -> None:
        rests = []
        self.come(IN_A_ROW, DOWN)
        self.executor.go()
        for _ in range(12):
            rests.append(self.doors.troubles()[0].next_at - self.now)
            self.come(1, DOWN)
            self.now = self.doors.troubles()[0].next_at
            self.doors.tick(self.now)
            self.executor.go()
        self.assertEqual(rests[:3], [FIRST_REST, 2 * FIRST_REST, 4 * FIRST_REST])
        self.assertEqual(rests[-1], outsides.LONGEST_REST)

    def test_what_the_outside_asked_for_is_kept_to(self) -> None:
        self.come(IN_A_ROW, OutsideError("Slow down (429).", retryable=True, retry_after=77))
        self.executor.go()
        self.assertEqual(self.doors.troubles()[0].next_at, self.now + 77)

    def test_a_refusal_that_is_no_trouble_keeps_the_door_open(self) -> None:
        for _ in range(IN_A_ROW):
            self.come(1, OutsideError("There is nothing here (404)."))
            self.executor.go()
        self.assertEqual(self.doors.troubles(), [])

    def test_what_waited_too_long_is_given_back_with_the_reason(self) -> None:
        self.come(IN_A_ROW, DOWN)
        self.executor.go()
        self.come(2, DOWN)
        self.now += LONGEST_WAIT + 1
        self.doors.tick(self.now)
        self.executor.go()
        last = self.done[-1]
        assert last is not None
        self.assertIn("has not answered since", last.message)
        self.assertIn("fault of its own", last.message)
        self.assertFalse(last.retryable, "the step's own policy is next")

    def test_a_press_ends_the_rest(self) -> None:
        self.come(IN_A_ROW, DOWN)
        self.executor.go()
        self.come(2)
        self.doors.try_now("host:a.example")
        self.assertEqual(len(self.executor.jobs), 1)

    def test_what_leads_nowhere_passes(self) -> None:
        self.come(200, key="")
        self.assertEqual(len(self.executor.jobs), 200)

    def test_where_a_line_leads(self) -> None:
        draft = Line(id="d", kind="draft", settings={"model": "m", "prompt": "x"})
        read = Line(id="p", kind="read_page", settings={"url": "<<feed.link>>"})
        values = {"feed": {"link": "https://a.example:8443/x"}}
        self.assertEqual(leads_to(draft, values), "connection:m")
        self.assertEqual(leads_to(read, values), "host:a.example:8443")
        self.assertEqual(leads_to(read, {"feed": {"link": "http://[broken"}}), "")


class InTheHouse(WithHouse):
    def runs(self, count: int) -> list[int]:
        document = page(self.town.url)
        document["start"] = {"id": "feed", "kind": "by_hand", "settings": {}}
        document["steps"] = [
            {
                **document["steps"][1],
                "settings": {"model": "model", "prompt": "One post."},
                "on_failure": {"retries": 9, "wait": 0.05},
            }
        ]
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        with self.engine.transaction() as tx:
            return [self.engine.begin(tx, id_, {"title": "x"}, f"{n}") for n in range(count)]

    def test_a_model_that_is_down_is_left_in_peace_and_everything_goes_on_after(self) -> None:
        self.fault("model", "down")
        ids = self.runs(20)
        self.wait_for(lambda: bool(self.engine.outsides.troubles()))
        self.wait_for(lambda: self.engine.outsides.troubles()[0].waiting == 20)
        (trouble,) = self.engine.outsides.troubles()
        self.assertEqual(trouble.name, "the model")
        self.assertEqual(trouble.runs, frozenset(ids))
        self.fault("model", "")
        self.engine.outsides.try_now("connection:model")
        for id_ in ids:
            self.until(id_, "done")
        self.assertEqual(self.engine.outsides.troubles(), [])

    def test_a_run_cancelled_while_it_waits_asks_nobody(self) -> None:
        self.fault("model", "down")
        ids = self.runs(8)
        self.wait_for(lambda: bool(self.engine.outsides.troubles()) and self.engine.outsides.troubles()[0].waiting == 8)
        for id_ in ids:
            self.engine.record(id_, flow.Cancelled(at=self.services.clock(), by="Mara"))
        with mock.patch.object(execution, "perform", side_effect=AssertionError("asked for a run that is over")) as asked:
            self.engine.outsides.try_now("connection:model")
            self.wait_for(lambda: not self.engine.outsides.troubles())
        asked.assert_not_called()
        self.assertEqual({self.run_of(id_).state for id_ in ids}, {"cancelled"})

    def test_a_limit_of_the_connection_is_kept(self) -> None:
        with self.services.store.write() as session:
            record = session.get_one(tables.Connection, "model")
            record.settings = {**record.settings, "at_once": 2}
        lock, now, most = threading.Lock(), [0], [0]

        def perform(line: Line, context: Any) -> Result:
            with lock:
                now[0] += 1
                most[0] = max(most[0], now[0])
            time.sleep(0.02)
            with lock:
                now[0] -= 1
            return Result({"text": "A post."})

        with mock.patch.object(execution, "perform", perform):
            for id_ in self.runs(10):
                self.until(id_, "done")
        self.assertEqual(most[0], 2)
