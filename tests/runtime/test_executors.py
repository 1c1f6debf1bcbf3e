"""Where steps are carried out: each job once, so many at a time, and what becomes of them at the end."""

from __future__ import annotations

import threading
import time
import unittest
from unittest import mock

from ulmus.runtime.executors import Threads


class InThreads(unittest.TestCase):
    def threads(self, count: int) -> Threads:
        threads = Threads(count)
        self.addCleanup(threads.stop)
        return threads

    def wait_for(self, true: object, what: str) -> None:
        end = time.monotonic() + 10
        while not true():  # type: ignore[operator]
            self.assertLess(time.monotonic(), end, what)
            time.sleep(0.005)

    def test_each_job_is_carried_out_once(self) -> None:
        threads, done, lock = self.threads(7), list[int](), threading.Lock()

        def job(n: int) -> None:
            with lock:
                done.append(n)

        for n in range(500):
            threads.submit(job, n)
        self.wait_for(lambda: len(done) == 500, "all are done")
        self.assertEqual(sorted(done), list(range(500)))

    def test_as_many_at_a_time_as_there_may_be_and_no_more(self) -> None:
        threads, here, most, lock, go = self.threads(4), [0], [0], threading.Lock(), threading.Event()

        def job() -> None:
            with lock:
                here[0] += 1
                most[0] = max(most[0], here[0])
            go.wait(10)
            with lock:
                here[0] -= 1

        for _ in range(12):
            threads.submit(job)
        self.wait_for(lambda: here[0] == 4, "four are at work")
        time.sleep(0.05)
        self.assertEqual(here[0], 4)
        go.set()
        self.wait_for(lambda: here[0] == 0, "all have ended")
        self.assertEqual(most[0], 4)

    def test_little_to_do_takes_few_threads_however_long_it_goes_on(self) -> None:
        threads, done = self.threads(50), threading.Semaphore(0)
        for _ in range(400):
            for _ in range(3):
                threads.submit(done.release)
            for _ in range(3):
                self.assertTrue(done.acquire(timeout=5))
            # A job has ended a moment after what it did last is seen: on a busy machine that moment is long.
            self.wait_for(lambda: not threads._open, "all three have ended")
        self.assertLessEqual(len(threads._threads), 3)

    def test_jobs_that_come_while_others_wait_have_threads_of_their_own(self) -> None:
        """One that waits long holds up none of those that come after it."""
        threads, go, done = self.threads(10), threading.Event(), threading.Event()
        threads.submit(lambda: None)
        time.sleep(0.05)  # that thread is idle now
        threads.submit(go.wait, 10)
        threads.submit(done.set)
        self.assertTrue(done.wait(5))
        go.set()

    def test_one_that_fails_takes_nothing_with_it(self) -> None:
        threads, done = self.threads(1), threading.Event()
        with mock.patch("ulmus.runtime.executors.log.exception") as told:
            threads.submit(lambda: 1 / 0)
            threads.submit(done.set)
            self.assertTrue(done.wait(5))
            told.assert_called_once()

    def test_after_the_end_nothing_is_begun(self) -> None:
        threads, go, began = Threads(1), threading.Event(), list[str]()
        threads.submit(lambda: (began.append("first"), go.wait(10)))
        self.wait_for(lambda: began, "the first is under way")
        threads.submit(began.append, "waiting")
        threading.Timer(0.1, go.set).start()
        threads.stop()
        threads.submit(began.append, "late")
        time.sleep(0.1)
        self.assertEqual(began, ["first"])

    def test_the_end_does_not_wait_for_what_takes_long(self) -> None:
        threads, go = Threads(1), threading.Event()
        over: list[bool] = []
        threads.submit(lambda: over.append(go.wait(30)))
        threads.stop()
        self.assertEqual(over, [])
        go.set()

    def test_being_ready_begins_threads_ahead_and_never_too_many(self) -> None:
        before = threading.active_count()
        threads = self.threads(5)
        threads.ready()
        threads.ready()
        self.assertEqual(threading.active_count() - before, 5)
