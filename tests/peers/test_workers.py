"""Workers in processes of their own, with a real broker between them and the house: work shared, a worker and the broker killed on the way."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from typing import IO, Any
from unittest import mock

import redis
from sqlalchemy import select

from tests.peers.servers import REDIS, Redis, needs
from tests.runtime.house import WHO
from tests.runtime.workers import WithWorkers
from ulmus.core.workflow import read_file
from ulmus.runtime import workflows
from ulmus.runtime.elsewhere import BrokerAway
from ulmus.store import tables
from ulmus.workers.broker import checked, queue_of

RUNS = 12


@needs(REDIS)
class OverABroker(WithWorkers):
    def setUp(self) -> None:
        self.redis = Redis()
        self.addCleanup(self.redis.stop)
        self.address = f"redis://127.0.0.1:{self.redis.port}/0"
        super().setUp()

    def begun(self, apart: int = 0) -> subprocess.Popen[str]:
        """A worker process, whose clock may be so many seconds `apart`."""
        told: IO[Any] = tempfile.TemporaryFile("w+")  # noqa: SIM115
        self.addCleanup(told.close)
        allow = [word for host in (f"127.0.0.1:{self.town.port}",) for word in ("--allow", host)]
        words = ["worker", "--broker", self.address, "--house", self.server.url, "--concurrency", "4", *allow]
        process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-m", "tests.peers.apart", str(apart), *words],
            env=os.environ | {"ULMUS_WORKER_KEY": self.key},
            stdout=told,
            stderr=told,
            text=True,
        )
        self.addCleanup(self.ended, process)
        return process

    @staticmethod
    def ended(process: subprocess.Popen[str]) -> None:
        if process.poll() is None:
            process.kill()
        process.wait(20)

    def reading(self) -> list[int]:
        """Runs that each read two pages, the second after the first, one after another."""
        url = f"{self.town.url}/sites/furrow-letter/"
        fails = {"retries": 6, "wait": 0.2}
        steps = [{"id": f"page{n}", "kind": "read_page", "settings": {"url": url}, "on_failure": fails} for n in (1, 2)]
        start = {"id": "item", "kind": "by_hand", "settings": {"fields": [{"name": "x", "label": "x", "type": "text"}]}}
        document = {"format": "ulmus-workflow", "version": 1, "name": "Reads", "start": start, "steps": steps}
        with self.services.store.write() as session:
            workflow = workflows.create(session, read_file(document), 1.0, WHO)
        workflows.go_live(self.engine, workflow, WHO)
        begun = [self.engine.runs.push(workflow, {"x": str(n)}) for n in range(RUNS)]
        return [run for run in begun if run is not None]

    def leases(self) -> list[tables.Lease]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Lease)))

    def test_ids_and_nothing_else_are_in_the_broker_and_a_run_goes_to_its_end(self) -> None:
        run = self.new_item(self.live())
        line = redis.Redis(port=self.redis.port)
        queue = queue_of(self.services.store.identity)
        self.wait_for(lambda: line.llen(queue) == 1)
        (waiting,) = line.lrange(queue, 0, -1)
        for secret in (b"furrow", b"pond-token", b"price", b"Marrowbank"):
            self.assertNotIn(secret, waiting)
        line.close()
        self.begun()
        self.answer(run)
        self.until(run, "done")
        self.assertEqual((len(self.posts()), {one.kind for one in self.leases()}), (1, {"read_page", "draft"}))

    def test_a_broker_that_would_give_out_again_too_soon_is_refused_at_start(self) -> None:
        checked(self.address)
        with mock.patch("ulmus.workers.broker.AGAIN_AFTER", 100), self.assertRaisesRegex(BrokerAway, "gives out again after"):
            checked(self.address)
        with self.assertRaises(BrokerAway):
            checked(f"{self.address}?visibility_timeout=10")

    def test_a_worker_and_the_broker_are_killed_on_the_way(self) -> None:
        from ulmus.runtime import elsewhere

        heard, elsewhere.HEARD = elsewhere.HEARD, 6.0
        self.addCleanup(setattr, elsewhere, "HEARD", heard)
        # What is lost between the broker and a worker is offered again soon.
        self.elsewhere._waits = 20.0
        workers = [self.begun(apart=3600), self.begun(apart=-3600)]
        runs = self.reading()
        self.wait_for(lambda: sum(bool(one.ended_at) for one in self.leases()) >= 3)
        workers[0].send_signal(signal.SIGKILL)
        workers[0].wait(20)
        self.redis.process.send_signal(signal.SIGKILL)
        self.redis.process.wait(20)
        time.sleep(1.0)
        self.redis.begin()
        self.begun()
        for run in runs:
            self.until(run, "done", "failed", "stuck", seconds=150)
        self.assertEqual([self.run_of(run).state for run in runs], ["done"] * RUNS)
        self.wait_for(lambda: all(one.ended_at is not None for one in self.leases()))


if __name__ == "__main__":
    unittest.main()
