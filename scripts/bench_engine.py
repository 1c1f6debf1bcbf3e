"""Figures of the engine: durable steps, fan-out, cost per event, calls, recovery, feeds."""

from __future__ import annotations

import math
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

import httpx
from sqlalchemy import func, select

from scripts.tell import tell
from tests.browser.place import free_port
from tests.peers.servers import POSTFIX, Postfix
from ulmus.core import flow, pieces
from ulmus.core.workflow import Limits, Line, Workflow
from ulmus.core.workflow.plans import EachPlan, PerformPlan
from ulmus.protocols import feeds, mail, pages
from ulmus.protocols.letters import page as letter_page
from ulmus.protocols.workers import in_worker
from ulmus.runtime import execution, links, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.server import Config, Server, spare_collecting
from ulmus.steps.api import Result
from ulmus.store import tables

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
    with mock.patch.object(execution, "perform", perform):
        engine.start(polling=False)
        spare_collecting()
        try:
            yield services, engine
        finally:
            engine.stop()
            services.close()


def made(services: Services, engine: Engine, steps: list[Line], settings: dict[str, Any] | None = None) -> int:
    """A live workflow of these steps."""
    start = Line(id="start", kind="by_hand", settings=settings or {})
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
            with engine.transaction() as tx:
                [engine.begin(tx, workflow_id, {"title": "x"}, "Bench") for _ in range(RUNS)]
            began = time.perf_counter()
            done.wait(120)
            rate = count[0] / (time.perf_counter() - began)
        (folder / "bare.db").unlink()
        bare = (before + commits_per_second(folder)) / 2
        tasks = huey_per_second(folder)
    tell(
        "durable no-op steps a second",
        rate,
        "/s",
        0.7 * bare,
        f"{rate / bare:.2f} of {bare:.0f} bare commits a second",
        least=True,
    )
    tell("durable steps against huey's tasks a second", rate / tasks, "x", 5, f"huey {tasks:.0f}/s", least=True)


ITEMS, AT_ONCE = 2000, 64


@contextmanager
def town() -> Iterator[str]:
    """A practice town in a process of its own."""
    port = free_port()
    with tempfile.TemporaryDirectory() as name:
        arguments = [sys.executable, "-m", "practice_town", "--data", name, "--port", str(port), "--smtp-port", str(free_port())]
        process = subprocess.Popen(arguments, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        url = f"http://127.0.0.1:{port}"
        try:
            for _ in range(200):
                try:
                    httpx.get(url, trust_env=False)
                    break
                except httpx.HTTPError:
                    time.sleep(0.05)
            yield url
        finally:
            process.terminate()
            process.wait()


def memory() -> float:
    """Resident memory of this process, in MB."""
    status = Path("/proc/self/status").read_text()
    return next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmRSS")) / 1024


def fan_out() -> None:
    """A *for each* over 2,000 items, 64 at a time, each a fetch of 50 ms and a model call of 300 ms, while the API is asked.

    Once with the fetch alone (a record of a data service), and once with a page that is read: finding a page's main text
    takes the processor's time, which two cores have to share with the practice town.
    """
    fetch = Line(id="page", kind="ask_service", settings={"service": "records", "path": "<<it>>", "path_in": "$.text"})
    read = Line(id="page", kind="read_page", settings={"url": "<<it>>"})
    _fan_out("of 2,000 fetches and model calls", fetch, "record")
    _fan_out("of 2,000 pages read and model calls", read, "page")


#: Asks the API twenty times a second until its input ends, and tells how many milliseconds each answer took.
ASKER = """
import http.client, select, sys, time
line = http.client.HTTPConnection("127.0.0.1", int(sys.argv[1]))
while not select.select([sys.stdin], [], [], 0.05)[0]:
    began = time.perf_counter()
    line.request("GET", "/api/session")
    line.getresponse().read()
    print((time.perf_counter() - began) * 1000)
"""


def _fan_out(what: str, first: Line, place: str) -> None:
    with town() as url, tempfile.TemporaryDirectory() as name:
        services = Services.open(Path(name), frozenset({url.removeprefix("http://")}))
        with services.store.write() as session:
            settings = {"base_url": f"{url}/timed/v1", "model": "timed", "prices": {"input": 1, "output": 1}, "max_seconds": 30}
            sealed = services.sealer.seal({"key": "k"})
            session.add(tables.Connection(key="model", kind="model", name="timed", settings=settings, sealed=sealed))
            records = {"base_url": f"{url}/timed"}
            session.add(tables.Connection(key="records", kind="service", name="records", settings=records, sealed=sealed))
        server = Server(Config(Path(name), port=free_port()), services).start()
        engine = server.engine
        try:
            inside = [
                first,
                Line(id="post", kind="draft", settings={"model": "model", "prompt": "One line.\n<<page.text>>"}),
            ]
            urls = "\n".join(f"{url}/timed/{place}/{n}" for n in range(ITEMS))
            block = {"list": "<<start.urls>>", "item": "it", "parallel": AT_ONCE}
            steps = [Line(id="all", kind="for_each", settings=block, steps=inside)]
            fields = {"fields": [{"name": "urls", "label": "u", "type": "long"}]}
            workflow_id = made(services, engine, steps, fields)
            pages.load()  # a library that stays once it was needed is no growth
            before = memory()
            asker = subprocess.Popen(
                [sys.executable, "-c", ASKER, f"{server.port}"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
            )
            began = time.perf_counter()
            run = engine.runs.push(workflow_id, {"urls": urls, "title": "x"})
            assert run is not None
            while not ended(services, run):
                time.sleep(0.05)
            took = time.perf_counter() - began
            grown = memory() - before
            asked = sorted(map(float, asker.communicate()[0].split()))
            count = engine.live(run).state.values["all"]["count"]
            failed = engine.live(run).state.values["all"]["failed"]
        finally:
            server.stop()
    # The last of so many at a time are fewer, and take as long.
    ideal = math.ceil(ITEMS / AT_ONCE) * 0.35
    tell(f"fan-out {what} ({failed} failed)", took / ideal, "x", 1.10, f"{took:.1f} s, ideal {ideal:.1f} s")
    assert (count, failed) == (ITEMS, 0), "not every item was carried out"
    tell("its growth of memory", grown, "MB", 100)
    tell("the API meanwhile, 95th percentile", asked[int(len(asked) * 0.95)], "ms", 100)


LETTERS = 1000


def letters() -> None:
    """A thousand letters through one connection to Postfix, against a bare loop on a line that is kept open."""
    if not Path(POSTFIX).exists() or os.getuid() != 0:
        print("letters: needs Postfix, and root to run it")
        return
    server = Postfix()
    try:
        mailer = mail.Mailer("127.0.0.1", server.port, False, "", "", "a@a.example", "A", idle=mail.Idle())
        page = letter_page("A line about **seed**.", "Seed", "markdown")
        letter = pieces.Letter(to=("b@lead.example",), subject="Seed", text="A line about seed.", html=page)
        began = time.perf_counter()
        for n in range(LETTERS):
            mail.send(mailer, mail.compose(mailer, letter, f"k{n}", 0.0, {}))
        bare = LETTERS / (time.perf_counter() - began)
        with tempfile.TemporaryDirectory() as name:
            services = Services.open(Path(name), frozenset({f"127.0.0.1:{server.port}"}))
            settings = {"host": "127.0.0.1", "port": server.port, "starttls": False, "sender": "a@a.example", "at_once": 1}
            with services.store.write() as session:
                session.add(tables.Connection(key="mail", kind="mail", name="mail", settings=settings))
            engine = Engine(services)
            engine.start(polling=False)
            try:
                sent = {"server": "mail", "to": "<<it>>", "subject": "Seed", "text": "A line about **seed**."}
                inside = [Line(id="letter", kind="send_letter", settings=sent)]
                block = {"list": "<<start.to>>", "item": "it", "parallel": 64}
                steps = [Line(id="all", kind="for_each", settings=block, steps=inside)]
                workflow_id = made(services, engine, steps, {"fields": [{"name": "to", "label": "u", "type": "long"}]})
                to = "\n".join(f"b{n}@lead.example" for n in range(LETTERS))
                began = time.perf_counter()
                run = engine.runs.push(workflow_id, {"to": to, "title": "x"})
                assert run is not None
                while not ended(services, run):
                    time.sleep(0.2)
                rate = LETTERS / (time.perf_counter() - began)
                failed = engine.live(run).state.values["all"]["failed"]
            finally:
                engine.stop()
                services.close()
    finally:
        server.stop()
    tell(f"letters through one connection ({failed} failed)", rate / bare, "x", 0.9, f"{rate:.0f}/s, bare {bare:.0f}/s", least=True)


def ended(services: Services, run: int) -> bool:
    """Whether a run is over."""
    with services.store.read() as session:
        return session.scalar(select(tables.Run.ended_at).where(tables.Run.id == run)) is not None


def cost_per_event() -> None:
    """The interpreter alone: the 1,000th event of a run against the 100,000th."""
    inner = (flow.PlannedStep("a", PerformPlan()),)
    step = flow.PlannedStep("all", EachPlan(item="it", parallel=8), steps=inner)
    state = flow.begin(flow.Plan("start", (step,), Limits(steps=1_000_000)), flow.Begun(at=0.0, item={}))
    flow.apply(state, flow.Opened(at=0.0, address="all", items=list(range(110_000))))
    times: dict[str, list[float]] = {"early": [], "late": []}
    for n in range(1, 101_000):
        event = flow.Done(at=0.0, address=f"all:{n}/a", output={"n": n})
        began = time.perf_counter()
        flow.apply(state, event)
        state.take_news()
        took = time.perf_counter() - began
        if 1_000 <= n < 2_000:
            times["early"].append(took)
        elif 100_000 <= n < 101_000:
            times["late"].append(took)
    early, late = statistics.median(times["early"]), statistics.median(times["late"])
    tell("the 100,000th event against the 1,000th", late / early, "x", 1.2, f"{late * 1e6:.1f} µs")


def call_latency() -> None:
    """From a call's arrival at the server to the beginning of its run's first step."""
    began_at: dict[int, float] = {}
    seen = threading.Semaphore(0)

    def perform(line: Line, context: Any) -> Result:
        began_at[int(context.values["start"]["body"]["n"])] = time.perf_counter()
        seen.release()
        return Result({"title": "x", "text": "x"})

    with tempfile.TemporaryDirectory() as name, mock.patch.object(execution, "perform", perform):
        server = Server(Config(Path(name), port=free_port())).start()
        try:
            start = Line(id="start", kind="call")
            steps = [Line(id="page", kind="read_page", settings={"url": "http://a.example/<<start.body.n>>"})]
            with server.services.store.write() as session:
                workflow_id = workflows.create(session, Workflow(name="Bench", start=start, steps=steps), 1.0, "bench")
            workflows.go_live(server.engine, workflow_id, "bench")
            url = f"{server.url}/call/{links.sign_key(server.services.sealer.key, 'call', workflow_id)}"
            waits = []
            with httpx.Client(trust_env=False) as client:
                for n in range(300):
                    sent = time.perf_counter()
                    client.post(url, json={"n": n})
                    seen.acquire(timeout=5)
                    waits.append((began_at[n] - sent) * 1000)
                    time.sleep(0.003)
        finally:
            server.stop()
    tell(
        "a call's first step begins, 95th percentile",
        sorted(waits)[int(len(waits) * 0.95)],
        "ms",
        25,
        f"median {statistics.median(waits):.1f}",
    )


def recovery() -> None:
    """A server that finds 5,000 open runs: time to its first decision, and to its last."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        first: list[float] = []
        count = [0]

        def perform(line: Line, context: object) -> Result:
            first.append(time.perf_counter())
            count[0] += 1
            return Result({"title": "x", "text": "x"})

        services = Services.open(folder)
        engine = Engine(services)
        steps = [Line(id=f"s{i}", kind="read_page", settings={"url": "http://a.example"}) for i in range(3)]
        workflow_id = made(services, engine, steps)
        with engine.transaction() as tx:
            for _ in range(5000):
                engine.begin(tx, workflow_id, {"title": "x"}, "Bench")
        services.close()
        began = time.perf_counter()
        services = Services.open(folder)
        engine = Engine(services)
        with mock.patch.object(execution, "perform", perform):
            engine.start(polling=False)
            while not first:
                time.sleep(0.002)
            to_first = first[0] - began
            while count[0] < 15_000 and time.perf_counter() < began + 120:
                time.sleep(0.05)
            to_last = time.perf_counter() - began
            engine.stop()
        services.close()
    tell("5,000 open runs: start to the first decision", to_first, "s", 5)
    tell("5,000 open runs: start until all have ended", to_last, "s", None, f"{count[0]} steps")


def feeds_in_one_pass() -> None:
    """1,000 feeds of 50 items each looked at in one pass, against parsing them alone on two cores."""
    body = feed(50)
    began = time.perf_counter()
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(parse_many, [(body, 500), (body, 500)]))
    alone = time.perf_counter() - began
    with (
        tempfile.TemporaryDirectory() as name,
        mock.patch.object(feeds, "poll", lambda web, url, *a: feeds.FeedPoll(in_worker(feeds.parse, body, None, url), "", "")),
    ):
        services = Services.open(Path(name))
        engine = Engine(services)
        engine.start(polling=False)
        steps = [Line(id="page", kind="read_page", settings={"url": "http://a.example"})]
        ids = []
        with services.store.write() as session:
            for n in range(1000):
                start = Line(id="feed", kind="feed_item", settings={"url": f"http://a.example/{n}"})
                ids.append(workflows.create(session, Workflow(name=f"F{n}", start=start, steps=steps), 1.0, "bench"))
        for id_ in ids:
            workflows.go_live(engine, id_, "bench")
        began = time.perf_counter()
        engine.polling.enabled = True
        engine.polling.tick(services.clock())
        while looked(services) < 1000 and time.perf_counter() < began + 300:
            time.sleep(0.05)
        took = time.perf_counter() - began
        engine.stop()
        services.close()
    tell(
        "1,000 feeds in one pass against parsing alone on two cores", took / alone, "x", 1.5, f"{took:.1f} s against {alone:.1f} s"
    )


def feed(items: int) -> bytes:
    """An RSS feed of so many items."""
    one = "<item><title>Item {n}</title><link>http://a.example/{n}</link><guid>{n}</guid><description>{words}</description></item>"
    words = "The seed was sown on the terraces in March. " * 6
    inside = "".join(one.format(n=n, words=words) for n in range(items))
    return f'<?xml version="1.0"?><rss version="2.0"><channel><title>F</title>{inside}</channel></rss>'.encode()


def parse_many(job: tuple[bytes, int]) -> None:
    """Parse a feed so many times."""
    body, count = job
    for _ in range(count):
        feeds.parse(body, None, "http://a.example/feed")


def looked(services: Services) -> int:
    """How many starts have been looked at."""
    with services.store.read() as session:
        return session.scalar(select(func.count()).where(tables.Start.looked_at.is_not(None))) or 0


def main() -> None:
    """All of them, or those named."""
    parts = [durable_steps, fan_out, cost_per_event, call_latency, recovery, feeds_in_one_pass, letters]
    for part in parts:
        if not sys.argv[1:] or part.__name__ in sys.argv[1:]:
            part()


if __name__ == "__main__":
    main()
