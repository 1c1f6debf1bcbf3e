"""Killed at any moment (SIGKILL), started again: nothing is lost, nothing is sent twice.

A process of its own works on the data folder; this one kills it again and again while five runs go through,
answers their questions, and counts at the practice town what really went out.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse
from ulmus.runtime import workflows
from ulmus.runtime.journal import Pages
from ulmus.store import tables

RUNS, KILLS, SEED = 5, 14, 20261123

WORKER = """
import sys, time
from pathlib import Path
from sqlalchemy import select
from ulmus.runtime import asking
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import tables
services = Services.open(Path(sys.argv[1]), frozenset({sys.argv[2]}))
engine = Engine(services)
for _ in range(100):
    try:
        engine.start()
        break
    except RuntimeError:
        time.sleep(0.02)
print("up", flush=True)
while True:
    with services.store.read() as session:
        waiting = list(session.scalars(select(tables.Approval.id).where(tables.Approval.state == "open")))
    for id_ in waiting:
        try:
            asking.answer(engine, id_, "approve", "Ines")
        except asking.AnswerRefused:
            pass
    time.sleep(0.01)
"""


class Killed(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made_live()
        self.engine.stop()
        self.worker: subprocess.Popen[bytes] | None = None
        self.addCleanup(self.kill)

    def made_live(self) -> int:
        from tests.runtime.house import page

        id_ = self.made(page(self.town.url))
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        return id_

    def start(self) -> None:
        arguments = [sys.executable, "-c", WORKER, str(self.folder), f"127.0.0.1:{self.town.port}"]
        self.worker = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)

    def kill(self) -> None:
        if self.worker is not None:
            os.kill(self.worker.pid, signal.SIGKILL)
            self.worker.wait()
            assert self.worker.stdout is not None
            self.worker.stdout.close()
            self.worker = None

    def done(self) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).where(tables.Run.state == "done")) or 0

    def test_each_post_and_each_row_once(self) -> None:
        chance = random.Random(SEED)
        self.town.state.habits["pace"] = 4
        for _ in range(RUNS):
            self.town.state.release("furrow-letter")
        for n in range(KILLS):
            if n % 3 == 0:
                self.fault("network", "lost", 2)  # the network takes the post and drops the reply
            self.start()
            assert self.worker is not None
            assert self.worker.stdout is not None
            self.worker.stdout.readline()
            time.sleep(chance.uniform(0.0, 0.5))
            self.kill()
        self.fault("network", "")
        self.start()
        self.wait_for(lambda: self.done() == RUNS, lambda: f"{self.done()} of {RUNS}; {self.states()}", 60)
        self.kill()
        self.assertEqual(len(self.posts()), RUNS)
        self.assertEqual(len(set(self.posts())), RUNS)
        self.assertEqual(sorted(r["Post"] for r in self.rows()), sorted(self.posts()))
        with self.services.store.read() as session:
            for run_id in session.scalars(select(tables.Run.id)):
                self.assertTrue(Pages().load(session, run_id).state.ended)

    def states(self) -> list[tuple[str, str]]:
        with self.services.store.read() as session:
            return [(r.state, r.message) for r in session.scalars(select(tables.Run))]
