"""Figures of workers elsewhere: steps that wait, shared by one worker and by four; and what one step costs elsewhere against at home."""

from __future__ import annotations

import contextlib
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any

from sqlalchemy import func, select

from scripts.tell import tell
from tests.browser.place import free_port
from tests.peers.servers import REDIS, Redis
from ulmus.api.security.workerkeys import make_key
from ulmus.core.workflow import Line, read_file
from ulmus.protocols.net import Web
from ulmus.runtime import execution, workflows
from ulmus.server import Config, Server
from ulmus.steps.api import Context
from ulmus.store import tables

SITES, RUNS, AT_ONCE, SLOW = 32, 96, 4, 2.0
PAGES = 400
PAGE = (
    b"<html><head><title>A page</title></head><body><article><p>"
    + b"Beans are sown in May, when the ground is warm. " * 40
    + b"</p></article></body></html>"
)


_ITEM = '<li class="menu-item"><a href="/section/{0}/" title="Section {0}"><span class="icon"></span>Section {0}</a></li>'
_TEASER = '<div class="card"><a href="/{0}"><img src="/i/{0}.jpg" alt=""></a><h3><a href="/{0}">A teaser, number {0}</a></h3></div>'
_WORDS = "Beans are sown in May, when the ground is warm and the nights are no longer cold; in number {0} that is told once more. "
LONG = (
    "<html><head><title>A long page</title>" + "<script>var a = {b: 1};</script>" * 40 + "</head><body><nav><ul>"
    + "".join(_ITEM.format(n) for n in range(120)) + "</ul></nav><article><h1>A long page</h1>"
    + "".join(f"<p>{_WORDS.format(n) * 4}</p>" for n in range(60)) + "</article><aside>"
    + "".join(_TEASER.format(n) for n in range(250)) + "</aside><footer><p>Imprint</p></footer></body></html>"
).encode()  # fmt: skip
"""A page as magazines have them: an article of some 5,000 words among much else."""


class _Site(BaseHTTPRequestHandler):
    slow = SLOW
    page = PAGE

    def do_GET(self) -> None:
        if self.path != "/robots.txt":
            time.sleep(self.slow)
        self.send_response(200 if self.path != "/robots.txt" else 404)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(self.page)))
        self.end_headers()
        with contextlib.suppress(OSError):
            self.wfile.write(self.page)

    def log_message(self, *_: Any) -> None:
        pass


@contextmanager
def sites(count: int) -> Iterator[list[int]]:
    """So many sites on ports of their own: each is an outside with a gate of its own."""
    made = [ThreadingHTTPServer(("127.0.0.1", 0), _Site) for _ in range(count)]
    for one in made:
        Thread(target=one.serve_forever, daemon=True).start()
    try:
        yield [one.server_address[1] for one in made]
    finally:
        for one in made:
            one.shutdown()
            one.server_close()


@contextmanager
def house(ports: list[int], workers: int, broker: int) -> Iterator[Server]:
    """A house with so many workers, each of `AT_ONCE` steps at once; none: it carries out everything itself."""
    with tempfile.TemporaryDirectory() as name, ExitStack() as stack:
        address = f"redis://127.0.0.1:{broker}/0" if workers else ""
        allowed = frozenset(f"127.0.0.1:{port}" for port in ports)
        server = Server(Config(Path(name), port=free_port(), allowed=allowed, broker=address)).start()
        stack.callback(server.stop)
        for n in range(workers):
            key = make_key(server.services.store, f"w{n}")
            allow = [word for host in allowed for word in ("--allow", host)]
            words = ["worker", "--broker", address, "--house", server.url, "--concurrency", str(AT_ONCE), *allow]
            process = subprocess.Popen(
                [sys.executable, "-W", "ignore", "-m", "ulmus.cli", *words],
                env=os.environ | {"ULMUS_WORKER_KEY": key},
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            stack.callback(lambda process=process: (process.terminate(), process.wait(20)))  # type: ignore[misc]
        yield server


def page(server: Server, each: bool = False) -> int:
    """A page that reads one page, or `each` of a list, some at a time."""
    start = {"id": "item", "kind": "by_hand", "settings": {"fields": [{"name": "url", "label": "url", "type": "long"}]}}
    fails = {"retries": 3, "wait": 0.2}
    steps: list[dict[str, Any]] = [
        {"id": "page", "kind": "read_page", "settings": {"url": "<<it>>" if each else "<<item.url>>"}, "on_failure": fails}
    ]
    if each:
        settings = {"list": "<<item.url>>", "item": "it", "parallel": AT_ONCE}
        steps = [{"id": "all", "kind": "for_each", "settings": settings, "steps": steps}]
    document = {"format": "ulmus-workflow", "version": 1, "name": "Reads", "start": start, "steps": steps}
    with server.services.store.write() as session:
        made = workflows.create(session, read_file(document), 1.0, "bench")
    workflows.go_live(server.engine, made, "bench")
    return made


def took(server: Server, workflow: int, urls: list[str]) -> float:
    """Seconds in which as many runs end."""
    began = time.monotonic()
    runs = [run for url in urls if (run := server.engine.runs.push(workflow, {"url": url})) is not None]
    left = select(func.count()).where(tables.Run.id >= runs[0], tables.Run.ended_at.is_(None))
    while True:
        with server.services.store.read() as session:
            if not session.scalar(left):
                return time.monotonic() - began
        # Looking costs as well: seldom where much is under way.
        time.sleep(0.1 if len(runs) > 1 else 0.005)


def workers() -> None:
    """One worker and four, on steps that wait; and one step elsewhere and at home."""
    if not Path(REDIS).exists():
        print("workers elsewhere: left out, there is no redis-server")
        return
    broker = Redis()
    try:
        with sites(SITES) as ports:
            urls = [f"http://127.0.0.1:{ports[n % SITES]}/{n}" for n in range(RUNS)]
            rates = {}
            for count in (1, 4):
                with house(ports, count, broker.port) as server:
                    workflow = page(server)
                    took(server, workflow, urls[: AT_ONCE * count])  # everybody is there, and has loaded what it needs
                    rates[count] = RUNS / took(server, workflow, urls)
                    tell(f"steps a second, {count} worker{'s' if count > 1 else ''} of {AT_ONCE}", rates[count], "/s", None)
            tell("four workers against one, steps that wait", rates[4] / rates[1], "x", 3.5, least=True)
            _Site.slow = 0.0
            for count in (0, 1):
                with house(ports, count, broker.port) as server:
                    workflow = page(server)
                    took(server, workflow, urls[:4])
                    each = sorted(took(server, workflow, [url]) * 1000 for url in urls[:60])
                    where = "elsewhere" if count else "at home"
                    tell(f"one step {where}, median", statistics.median(each), "ms", None, f"p95 {each[56]:.0f} ms")
    finally:
        _Site.slow = SLOW
        broker.stop()


def reading() -> None:
    """Reading pages, those of eight lists, by two workers of a house, against two bare processes that do nothing else."""
    if not Path(REDIS).exists():
        return
    broker = Redis()
    _Site.slow, _Site.page = 0.0, LONG
    try:
        with sites(8) as ports:
            urls = [f"http://127.0.0.1:{ports[n % len(ports)]}/{n}" for n in range(PAGES)]
            alone = PAGES / bare(urls)
            with house(ports, 2, broker.port) as server:
                workflow = page(server, each=True)
                took(server, workflow, urls[:8])
                shared = PAGES / took(server, workflow, ["\n".join(urls[n::8]) for n in range(8)])
            tell("pages read a second, two bare processes", alone, "/s", None, f"{len(LONG) // 1000} KB each")
            tell("pages read by two workers against that", shared / alone, "x", 0.9, f"{shared:.1f}/s", least=True)
    finally:
        _Site.slow, _Site.page = SLOW, PAGE
        broker.stop()


def bare(urls: list[str]) -> float:
    """Seconds in which two processes read pages, each half of them, some at a time."""
    command = [sys.executable, "-W", "ignore", "-m", "scripts.bench_workers", "bare"]
    both = [subprocess.Popen([*command, *urls[n::2]], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) for n in (0, 1)]
    for process in both:
        assert process.stdout is not None
        process.stdout.readline()
    began = time.monotonic()
    for process in both:
        assert process.stdin is not None
        process.stdin.write("go\n")
        process.stdin.flush()
    for process in both:
        process.wait(300)
    return time.monotonic() - began


def read_all(urls: list[str]) -> None:
    """What a bare process does: it reads one page, says that it is ready, and reads all once it is told to."""
    web = Web(frozenset(url.split("/")[2] for url in urls))

    def read(url: str) -> None:
        line = Line(id="page", kind="read_page", settings={"url": url})
        execution.perform(line, Context(web=web, connect=lambda key, kind: None, values={}))  # type: ignore[arg-type, return-value]

    with ThreadPoolExecutor(AT_ONCE) as pool:
        list(pool.map(read, urls[:8]))
        print("ready", flush=True)
        sys.stdin.readline()
        list(pool.map(read, urls))


if __name__ == "__main__":
    if sys.argv[1:2] == ["bare"]:
        read_all(sys.argv[2:])
    else:
        workers()
        reading()
