"""Reading in workers: the same answers as at hand, errors told alike, and no harm from a worker that is lost."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

from ulmus.protocols import feeds, pages, workers
from ulmus.protocols.errors import OutsideError

PAGE = (
    "<html><head><title>Page {n}</title></head><body><article><h1>Page {n}</h1>"
    + "<p>Beans stood two dry summers.</p>" * 9
    + "</article></body></html>"
)
FEED = b'<?xml version="1.0"?><rss version="2.0"><channel><title>F</title><item><title>One</title><guid>1</guid></item></channel></rss>'


class Workers(unittest.TestCase):
    def setUp(self) -> None:
        self.workers = workers._Workers()
        self.addCleanup(self.end)

    def end(self) -> None:
        for worker in self.workers._free:
            worker.end()

    def worker(self) -> workers._Worker:
        """A worker that is free."""
        self.workers._count += 1
        self.workers._begin("ulmus.protocols.feeds")
        return self.workers._free[-1]

    def elsewhere(self, function: Any, *arguments: Any) -> Any:
        """What a worker gives."""
        if not self.workers._free:
            self.worker()
        return self.workers._by(self.workers._free.pop(), function, *arguments)

    def test_many_at_once_give_what_one_at_hand_gives(self) -> None:
        alone = [pages.from_html(PAGE.format(n=n)) for n in range(12)]
        with ThreadPoolExecutor(12) as pool:
            together = list(pool.map(lambda n: self.workers.call(pages.from_html, PAGE.format(n=n)), range(12)))
        self.assertEqual(together, alone)
        for _ in range(200):
            if self.workers._free:
                break
            time.sleep(0.05)
        self.assertTrue(self.workers._free, "so many at once are read in workers")
        self.assertLessEqual(len(self.workers._free), workers.WORKERS)

    def test_where_all_is_read_apart_a_lost_worker_holds_up_nobody(self) -> None:
        self.workers = workers._Workers(at_hand=0)
        with ThreadPoolExecutor(6) as pool:
            lost = [pool.submit(self.workers.call, os._exit, 3) for _ in range(3)]
            read = [pool.submit(self.workers.call, feeds.parse, FEED) for _ in range(3)]
            self.assertEqual([one.result(30).title for one in read], ["F"] * 3)
            for one in lost:
                with self.assertRaisesRegex(OutsideError, "cannot be read"):
                    one.result(30)
        self.assertLessEqual(self.workers._count, workers.WORKERS)

    def test_once_all_workers_are_here_none_is_read_at_hand(self) -> None:
        for _ in range(workers.WORKERS):
            self.worker()
        here = os.getpid()
        with ThreadPoolExecutor(12) as pool:
            read_by = list(pool.map(lambda _: self.workers.call(os.getpid), range(60)))
        self.assertNotIn(here, read_by)
        self.assertEqual(len(set(read_by)), workers.WORKERS, "each has its share")
        self.assertEqual(len(self.workers._free), workers.WORKERS)

    def test_where_workers_are_lost_those_that_wait_are_read_at_hand(self) -> None:
        for _ in range(workers.WORKERS):
            os.kill(self.worker()._process.pid, signal.SIGKILL)
        time.sleep(0.1)
        with ThreadPoolExecutor(8) as pool:
            titles = [feed.title for feed in pool.map(lambda _: self.workers.call(feeds.parse, FEED), range(8))]
        self.assertEqual(titles, ["F"] * 8)

    def test_a_few_are_read_at_hand(self) -> None:
        self.assertEqual(self.workers.call(feeds.parse, FEED).title, "F")
        self.assertEqual(self.workers._free, [])

    def test_what_cannot_be_read_is_told_alike(self) -> None:
        with self.assertRaisesRegex(OutsideError, "not a web page"):
            self.elsewhere(pages.from_html, "no markup at all")
        with self.assertRaisesRegex(OutsideError, "empty"):
            self.elsewhere(feeds.parse, b"")
        self.assertEqual(len(self.workers._free), 1, "a worker that told an error goes on")

    def test_a_worker_that_was_killed_costs_nothing_but_time(self) -> None:
        os.kill(self.worker()._process.pid, signal.SIGKILL)
        time.sleep(0.1)
        self.assertEqual(self.elsewhere(feeds.parse, FEED).title, "F")
        self.assertEqual(self.workers._free, [])

    def test_one_that_takes_too_long_is_ended(self) -> None:
        self.worker()
        with mock.patch.object(workers, "LONGEST", 0.0), self.assertRaisesRegex(OutsideError, "too long"):
            self.elsewhere(pages.from_html, PAGE.format(n=1) * 50)
        self.assertEqual(self.workers._free, [])

    def test_idle_workers_are_ended(self) -> None:
        worker = self.worker()
        worker.used -= workers.IDLE
        self.workers._look()
        self.assertEqual(self.workers._free, [])
        self.assertIsNotNone(worker._process.returncode)

    def test_a_worker_ends_when_its_parent_is_gone(self) -> None:
        program = (
            "from ulmus.protocols import workers\n"
            "workers._workers._begin('ulmus.protocols.feeds')\n"
            "print(workers._workers._free[0]._process.pid, flush=True)\n"
            "import time; time.sleep(60)\n"
        )
        parent = subprocess.Popen([sys.executable, "-c", program], stdout=subprocess.PIPE)
        assert parent.stdout is not None
        worker = int(parent.stdout.readline())
        parent.kill()
        parent.wait()
        parent.stdout.close()
        for _ in range(100):
            try:
                os.kill(worker, 0)
            except ProcessLookupError:
                return
            time.sleep(0.05)
        self.fail("the worker outlived its parent")
