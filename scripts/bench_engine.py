"""Figures of the engine: durable steps, fan-out, cost per event, calls, recovery, feeds."""

from __future__ import annotations

import sqlite3
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

from scripts.tell import tell
from ulmus.core.workflow import Line, Workflow
from ulmus.runtime import carry, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.steps.base import Result

RUNS = 64
STEPS = 150


def commits_per_second(folder: Path, seconds: float = 1.5) -> float:
    """Bare single-row commits of SQLite with the same pragmas on the same disk."""
    base = sqlite3.connect(folder / "bare.db", isolation_level=None)
    base.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE t (id INTEGER PRIMARY KEY, x TEXT)")
    count, end = 0, time.perf_counter() + seconds
    while time.perf_counter() < end:
        base.execute("INSERT INTO t (x) VALUES ('a journal entry of usual length, give or take some words')")
        count += 1
    base.close()
    return count / seconds


def huey_per_second(folder: Path, seconds: float = 4.0, workers: int = 4) -> float:
    """Tasks a second of huey on its SQLite storage, results kept, with the same durability."""
    from huey import SqliteHuey
    from huey.consumer import Consumer

    app = SqliteHuey(filename=str(folder / "huey.db"), fsync=True, results=True)
    done = [0]

    @app.task()  # type: ignore[untyped-decorator]
    def nothing(n: int) -> int:
        done[0] += 1
        return n

    for n in range(6000):
        nothing(n)
    consumer = Consumer(app, workers=workers, periodic=False, initial_delay=0.01, backoff=1.0, max_delay=0.01)
    consumer.start()
    began = time.perf_counter()
    while time.perf_counter() < began + seconds and done[0] < 6000:
        time.sleep(0.02)
    rate = done[0] / (time.perf_counter() - began)
    consumer.stop(graceful=True)
    return rate


@contextmanager
def house(folder: Path, perform: Callable[[Line, Any], Result]) -> Iterator[tuple[Services, Engine]]:
    """An engine whose steps do what `perform` does."""
    services = Services.open(folder)
    engine = Engine(services)
    with mock.patch.object(carry, "perform", perform):
        engine.start(polling=False)
        try:
            yield services, engine
        finally:
            engine.stop()
            services.close()


def made(services: Services, engine: Engine, steps: list[Line]) -> int:
    """A live workflow of these steps."""
    start = Line(id="start", kind="by_hand")
    with services.store.write() as session:
        workflow_id = workflows.create(session, Workflow(name="Bench", start=start, steps=steps), 1.0, "bench")
    workflows.go_live(engine, workflow_id, "bench")
    return workflow_id


def durable_steps() -> None:
    """Many runs of many steps that do nothing: what the journal can take."""
    output = {"title": "x", "text": "x", "author": "", "date": "", "link": "", "words": 1}
    count = [0]
    done = threading.Event()

    def perform(line: Line, context: object) -> Result:
        count[0] += 1
        if count[0] >= RUNS * STEPS:
            done.set()
        return Result(output)

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        before = commits_per_second(folder / ".")
        with house(folder, perform) as (services, engine):
            steps = [Line(id=f"s{i}", kind="read_page", settings={"url": "http://a.example"}) for i in range(STEPS)]
            workflow_id = made(services, engine, steps)
            with services.store.write() as session:
                ids = [engine.begin(session, workflow_id, {"title": "x"}, "Bench") for _ in range(RUNS)]
            began = time.perf_counter()
            engine.settle(ids)
            done.wait(120)
            rate = count[0] / (time.perf_counter() - began)
        (folder / "bare.db").unlink()
        bare = (before + commits_per_second(folder)) / 2
        tasks = huey_per_second(folder)
    tell(
        "durable no-op steps a second",
        rate,
        "/s",
        0.25 * bare,
        f"{rate / bare:.2f} of {bare:.0f} bare commits a second",
        least=True,
    )
    tell("durable steps against huey's tasks a second", rate / tasks, "x", 2, f"huey {tasks:.0f}/s", least=True)


def main() -> None:
    """All of them."""
    durable_steps()


if __name__ == "__main__":
    main()
