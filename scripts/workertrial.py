"""``make workertrial``: workers, broker and house killed in any order with hundreds of tasks under way; nothing is lost, nothing is posted
or written twice, and what the model answered is booked, once.

Each run reads some pages of slow sites, has a model write, posts that to a network that keeps doubles, and writes a row. The clocks of two
workers are an hour before and behind the house's. ``--kills``, ``--runs`` and ``--workers`` say how many; ``--gone`` for
how many seconds the broker is away in the middle.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Lock, Thread
from typing import Any

from sqlalchemy import func, select

from practice_town.app import Town
from scripts.bench_workers import SITES, _Site, sites
from tests.browser.place import free_port
from tests.peers.servers import Redis
from tests.runtime.workers import HandedOn
from ulmus.api.security.workerkeys import make_key
from ulmus.core.workflow import read_file
from ulmus.runtime import workflows
from ulmus.runtime.elsewhere import Elsewhere
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import tables

PAGES = 8
SLOW = 5.0
"""Seconds a site takes."""
APART = {0: 3600, 1: -3600}
"""By how many seconds the clocks of some workers are apart from the house's."""
COST = 0.01
"""What an answer of the model costs."""


class _Model(BaseHTTPRequestHandler):
    """A model that takes its time and counts what it has answered."""

    answered = 0
    lock = Lock()

    def do_POST(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        time.sleep(2.0)
        usage = {"prompt_tokens": 0, "completion_tokens": 10}
        told = {"choices": [{"message": {"role": "assistant", "content": "Beans are sown in May."}, "finish_reason": "stop"}]}
        body = json.dumps(told | {"usage": usage}).encode()
        with contextlib.suppress(OSError):
            self.send_response(200)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)
            with self.lock:
                type(self).answered += 1

    def log_message(self, *_: Any) -> None:
        pass


class Trial:
    """A house, its broker and its workers, each in a process of its own."""

    def __init__(self, folder: Path, ports: list[int], stack: ExitStack, workers: int) -> None:
        self.data, self.ports, self.stack, self.count = folder / "house", ports, stack, workers
        self.town = Town().start()
        stack.callback(self.town.stop)
        self.town.state.network.keeps_doubles, self.town.state.network.takes_time = True, 0.1
        model = ThreadingHTTPServer(("127.0.0.1", 0), _Model)
        Thread(target=model.serve_forever, daemon=True).start()
        self.model = model.server_address[1]
        self.allow = [word for port in (*ports, self.model, self.town.port) for word in ("--allow", f"127.0.0.1:{port}")]
        self.with_killed = 0
        self.broker = Redis()
        stack.callback(self.broker.stop)
        self.address = f"redis://127.0.0.1:{self.broker.port}/0"
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.keys: list[str] = []
        self.log = stack.enter_context((folder / "log").open("wb"))

    def prepare(self, runs: int) -> None:
        """Open runs whose first step nobody has carried out."""
        reached = (*self.ports, self.model, self.town.port)
        services = Services.open(self.data, frozenset(f"127.0.0.1:{port}" for port in reached))
        engine = Engine(services)
        engine.handlers.carried_out(Elsewhere(services, HandedOn(), engine.writer, engine.executor))
        engine.start(polling=False)
        fails = {"retries": 10, "wait": 2}
        steps: list[dict[str, object]] = [
            {"id": f"page{n}", "kind": "read_page", "settings": {"url": f"<<item.url>>/{n}"}, "on_failure": fails}
            for n in range(PAGES)
        ]
        write = {"model": "model", "prompt": "Say what is new in one line: <<page0.text | shorten 200 words>>"}
        steps.append({"id": "post", "kind": "draft", "settings": write, "on_failure": fails})
        posts = {"channel": "pond", "text": "<<item.url>>: <<post.text>>"}
        steps.append({"id": "out", "kind": "publish_post", "settings": posts, "on_failure": fails})
        steps.append({"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<item.url>>"}}})
        start = {"id": "item", "kind": "by_hand", "settings": {"fields": [{"name": "url", "label": "url", "type": "text"}]}}
        document = {"format": "ulmus-workflow", "version": 1, "name": "Trial", "start": start, "steps": steps}
        with services.store.write() as session:
            session.add(tables.Sheet(key="log", name="Log", columns=[{"name": "Post", "type": "text"}]))
            model = {
                "base_url": f"http://127.0.0.1:{self.model}/v1",
                "model": "m",
                "prices": {"input": 0.0, "output": COST * 100_000},
            }
            seal = services.sealer.seal
            session.add(tables.Connection(key="model", kind="model", name="Model", settings=model, sealed=seal({"key": "k"})))
            pond = {"endpoint": f"{self.town.url}/pondside/micropub", "limit": 300, "lists_within": 1.0}
            session.add(
                tables.Connection(key="pond", kind="posting", name="Pond", settings=pond, sealed=seal({"token": "pond-token"}))
            )
            workflow = workflows.create(session, read_file(document), 1.0, "trial")
        workflows.go_live(engine, workflow, "trial")
        for n in range(runs):
            engine.runs.push(workflow, {"url": f"http://127.0.0.1:{self.ports[n % SITES]}/{n}"})
        self.keys = [make_key(services.store, f"w{n}") for n in range(self.count)]
        engine.stop()
        services.close()

    def begin(self, *words: str, key: str = "", apart: int = 0) -> subprocess.Popen[bytes]:
        """A process of ours, whose clock may be so many seconds `apart`."""
        command = [sys.executable, "-W", "ignore", "-m", "tests.peers.apart", str(apart), *words, *self.allow]
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
        return self.begin(
            "worker", "--broker", self.address, "--house", self.url, "--concurrency", "8", key=self.keys[n], apart=APART.get(n, 0)
        )

    def kill(self, worker: subprocess.Popen[bytes]) -> None:
        """Kill a worker; what it had of the model, and had not brought yet, nobody can know of."""
        with self.reading() as connection:
            query = "SELECT count(*) FROM leases WHERE kind = 'draft' AND ended_at IS NULL AND worker LIKE ?"
            self.with_killed += int(connection.execute(query, (f"%/{worker.pid}",)).fetchone()[0])
        worker.send_signal(signal.SIGKILL)
        worker.wait(20)

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """The house's database, to be looked at."""
        connection = sqlite3.connect(f"file:{self.data / 'ulmus.db'}?mode=ro", uri=True, timeout=20)
        try:
            yield connection
        finally:
            connection.close()

    def open_runs(self) -> int:
        with self.reading() as connection:
            return int(connection.execute("SELECT count(*) FROM runs WHERE ended_at IS NULL").fetchone()[0])


def main() -> None:
    """Kill, begin again, look."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--kills", type=int, default=300)
    asked.add_argument("--runs", type=int, default=500)
    asked.add_argument("--workers", type=int, default=4)
    asked.add_argument("--gone", type=float, default=120.0)
    asked.add_argument("--pause", type=float, default=6.0, help="the most seconds between two kills")
    asked.add_argument("--seed", type=int, default=1)
    told = asked.parse_args()
    with tempfile.TemporaryDirectory() as name, sites(SITES) as ports, ExitStack() as stack:
        _Site.slow = SLOW
        trial = Trial(Path(name), ports, stack, told.workers)
        trial.prepare(told.runs)
        counts = carried_out(trial, told)
        services = Services.open(trial.data)
        with services.store.read() as session:
            done = session.scalar(select(func.count()).select_from(tables.Run).where(tables.Run.state == "done"))
            rows = [row["Post"] for row in session.scalars(select(tables.SheetRow.cells))]
            booked = round((session.scalar(select(func.sum(tables.Run.cost))) or 0.0) / COST)
        services.close()
        posts = [post["content"] for post in trial.town.state.posts]
    answered = _Model.answered
    print(f"{told.runs} runs, {told.workers} workers (clocks an hour apart); killed: {counts}")
    print(
        f"done {done}; rows {len(rows)}, {len(rows) - len(set(rows))} twice; posts {len(posts)}, {len(posts) - len(set(posts))} twice"
    )
    print(f"answers of the model {answered}, booked {booked}; with a worker when it was killed: {trial.with_killed}")
    well = done == told.runs == len(rows) == len(posts) == len(set(rows)) == len(set(posts))
    raise SystemExit(0 if well and answered - trial.with_killed <= booked <= answered else 1)


def carried_out(trial: Trial, told: argparse.Namespace) -> dict[str, int]:
    """Have the runs carried out while everything is killed, until all have ended; gives what was killed how often."""
    drawn = random.Random(told.seed)
    counts = {"worker": 0, "broker": 0, "house": 0}
    house = trial.house()
    workers = [trial.worker(n) for n in range(told.workers)]
    for number in range(told.kills):
        time.sleep(drawn.uniform(0.5, told.pause))
        in_the_middle = number == told.kills // 2
        what = "broker" if in_the_middle else drawn.choices(["worker", "broker", "house"], [4, 1, 1])[0]
        counts[what] += 1
        if what == "worker":
            n = drawn.randrange(told.workers)
            trial.kill(workers[n])
            workers[n] = trial.worker(n)
        elif what == "broker":
            trial.broker.process.send_signal(signal.SIGKILL)
            trial.broker.process.wait(20)
            time.sleep(told.gone if in_the_middle else drawn.uniform(0.0, 2.0))
            trial.broker.begin()
        else:
            house.send_signal(signal.SIGKILL)
            house.wait(20)
            house = trial.house()
        # A worker that gave up on a house or broker that was away is begun again, as a machine does.
        workers = [one if one.poll() is None else trial.worker(n) for n, one in enumerate(workers)]
        if number % 50 == 49:
            print(f"{number + 1} kills, {trial.open_runs()} runs open", flush=True)
    end = time.monotonic() + 1800
    while trial.open_runs() and time.monotonic() < end:
        workers = [one if one.poll() is None else trial.worker(n) for n, one in enumerate(workers)]
        time.sleep(2.0)
    time.sleep(5.0)  # an answer that nobody waited for may be on its way
    house.terminate()
    house.wait(30)
    return counts


if __name__ == "__main__":
    main()
