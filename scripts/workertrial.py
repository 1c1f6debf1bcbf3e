"""``make workertrial``: workers, broker and house killed in any order with hundreds of tasks under way; nothing is lost, nothing written twice.

Each run reads pages of slow sites, one after another, and writes a row. ``--kills`` and ``--runs`` say how many.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from contextlib import ExitStack
from pathlib import Path

from sqlalchemy import func, select

from scripts.bench_workers import SITES, _Site, sites
from tests.browser.place import free_port
from tests.peers.servers import Redis
from tests.runtime.workers import HandedOn
from ulmus.api.public.work import make_key
from ulmus.core.workflow import read_file
from ulmus.runtime import workflows
from ulmus.runtime.elsewhere import Elsewhere
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import tables

STEPS, WORKERS = 4, 3


class Trial:
    """A house, its broker and its workers, each in a process of its own."""

    def __init__(self, folder: Path, ports: list[int], stack: ExitStack) -> None:
        self.data, self.ports, self.stack = folder / "house", ports, stack
        self.allow = [word for port in ports for word in ("--allow", f"127.0.0.1:{port}")]
        self.broker = Redis()
        stack.callback(self.broker.stop)
        self.address = f"redis://127.0.0.1:{self.broker.port}/0"
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.keys: list[str] = []
        self.log = stack.enter_context((folder / "log").open("wb"))

    def prepare(self, runs: int) -> None:
        """Open runs whose first step nobody has carried out."""
        services = Services.open(self.data, frozenset(f"127.0.0.1:{port}" for port in self.ports))
        engine = Engine(services)
        engine.handlers.carried_out(Elsewhere(services, HandedOn(), engine.writer, engine.executor))
        engine.start(polling=False)
        fails = {"retries": 10, "wait": 2}
        steps: list[dict[str, object]] = [
            {"id": f"page{n}", "kind": "read_page", "settings": {"url": f"<<item.url>>/{n}"}, "on_failure": fails}
            for n in range(STEPS)
        ]
        steps.append({"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<item.url>>"}}})
        start = {"id": "item", "kind": "by_hand", "settings": {"fields": [{"name": "url", "label": "url", "type": "text"}]}}
        document = {"format": "ulmus-workflow", "version": 1, "name": "Trial", "start": start, "steps": steps}
        with services.store.write() as session:
            session.add(tables.Sheet(key="log", name="Log", columns=[{"name": "Post", "type": "text"}]))
            workflow = workflows.create(session, read_file(document), 1.0, "trial")
        workflows.go_live(engine, workflow, "trial")
        for n in range(runs):
            engine.runs.push(workflow, {"url": f"http://127.0.0.1:{self.ports[n % SITES]}/{n}"})
        self.keys = [make_key(services.store, f"w{n}") for n in range(WORKERS)]
        engine.stop()
        services.close()

    def begin(self, *words: str, key: str = "") -> subprocess.Popen[bytes]:
        """A process of ours."""
        command = [sys.executable, "-W", "ignore", "-m", "ulmus.cli", *words, *self.allow]
        process = subprocess.Popen(command, env=os.environ | {"ULMUS_WORKER_KEY": key}, stdout=self.log, stderr=self.log)
        self.stack.callback(self.end, process)
        return process

    @staticmethod
    def end(process: subprocess.Popen[bytes]) -> None:
        if process.poll() is None:
            process.kill()
        process.wait(20)

    def house(self) -> subprocess.Popen[bytes]:
        """The house, once it answers."""
        process = self.begin(
            "serve", "--data", str(self.data), "--port", str(self.port), "--executor", "celery", "--broker", self.address
        )
        end = time.monotonic() + 60
        while time.monotonic() < end:
            try:
                urllib.request.urlopen(f"{self.url}/healthz", timeout=5).close()
                return process
            except (OSError, urllib.error.URLError):
                if process.poll() is not None:
                    break
                time.sleep(0.2)
        raise SystemExit("the house did not start: " + Path(self.log.name).read_text("utf-8", "replace")[-3000:])

    def worker(self, n: int) -> subprocess.Popen[bytes]:
        return self.begin("worker", "--broker", self.address, "--house", self.url, "--concurrency", "8", key=self.keys[n])


def main() -> None:
    """Kill, begin again, look."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--kills", type=int, default=60)
    asked.add_argument("--runs", type=int, default=500)
    asked.add_argument("--seed", type=int, default=1)
    told = asked.parse_args()
    drawn = random.Random(told.seed)
    with tempfile.TemporaryDirectory() as name, sites(SITES) as ports, ExitStack() as stack:
        _Site.slow = 0.3
        trial = Trial(Path(name), ports, stack)
        trial.prepare(told.runs)
        house = trial.house()
        workers = [trial.worker(n) for n in range(WORKERS)]
        counts = {"worker": 0, "broker": 0, "house": 0}
        for _ in range(told.kills):
            time.sleep(drawn.uniform(0.5, 3.0))
            what = drawn.choices(["worker", "broker", "house"], [4, 1, 1])[0]
            counts[what] += 1
            if what == "worker":
                n = drawn.randrange(WORKERS)
                workers[n].send_signal(signal.SIGKILL)
                workers[n].wait(20)
                workers[n] = trial.worker(n)
            elif what == "broker":
                trial.broker.process.send_signal(signal.SIGKILL)
                trial.broker.process.wait(20)
                time.sleep(drawn.uniform(0.0, 2.0))
                trial.broker.begin()
            else:
                house.send_signal(signal.SIGKILL)
                house.wait(20)
                house = trial.house()
            # A worker that gave up on a house or broker that was away is begun again, as a machine does.
            workers = [one if one.poll() is None else trial.worker(n) for n, one in enumerate(workers)]
        end = time.monotonic() + 1800
        while time.monotonic() < end:
            workers = [one if one.poll() is None else trial.worker(n) for n, one in enumerate(workers)]
            time.sleep(2.0)
            if _open(trial.data) == 0:
                break
        house.terminate()
        house.wait(30)
        services = Services.open(trial.data)
        with services.store.read() as session:
            done = session.scalar(select(func.count()).select_from(tables.Run).where(tables.Run.state == "done"))
            rows = list(session.scalars(select(tables.SheetRow.cells)))
        services.close()
    twice = len(rows) - len({row["Post"] for row in rows})
    print(f"{told.runs} runs of {STEPS} steps, killed: {counts}; done {done}, rows {len(rows)}, {twice} twice")
    raise SystemExit(0 if done == told.runs == len(rows) and not twice else 1)


def _open(data: Path) -> int:
    """How many runs have not ended."""
    import sqlite3

    with sqlite3.connect(f"file:{data / 'ulmus.db'}?mode=ro", uri=True, timeout=20) as connection:
        return int(connection.execute("SELECT count(*) FROM runs WHERE ended_at IS NULL").fetchone()[0])


if __name__ == "__main__":
    main()
