"""``make bench``: figures and ratios of one run, beside their targets. Nothing here is asserted by a test."""

from __future__ import annotations

import itertools
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

import httpx
from playwright.sync_api import Page, sync_playwright

from scripts import bench_engine
from scripts.tell import tell
from tests.browser.place import Demo, enter, free_port, launch
from ulmus.core.workflow import Line, Workflow
from ulmus.runtime import carry, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.steps.base import Result

STEPS = 200


def engine_overhead() -> None:
    """A run of many steps whose outside call takes no time: what is left is the engine."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        services = Services.open(folder)
        engine = Engine(services)
        steps = [Line(id=f"s{i}", kind="read_page", settings={"url": "http://a.example"}) for i in range(STEPS)]
        start = Line(id="feed", kind="feed_item", settings={"url": "http://a.example/feed"})
        moments: list[float] = []
        done = threading.Event()

        def perform(line: Line, context: object) -> Result:
            moments.append(time.perf_counter())
            if line.id == f"s{STEPS - 1}":
                done.set()
            return Result({"title": "x", "text": "x", "author": "", "date": "", "link": "", "words": 1})

        with mock.patch.object(carry, "perform", perform):
            engine.start(polling=False)
            with services.store.write() as session:
                workflow_id = workflows.create(session, Workflow(name="Bench", start=start, steps=steps), 1.0, "bench")
            workflows.go_live(engine, workflow_id, "bench")
            with services.store.write() as session:
                run_id = engine.begin(session, workflow_id, {"title": "x"}, "Bench")
            engine.settle([run_id])
            done.wait(120)
            time.sleep(0.2)
        gaps = [(b - a) * 1000 for a, b in itertools.pairwise(moments)]
        engine.stop()
        services.close()
    tell("engine overhead per step, median", statistics.median(gaps), "ms", 5)
    tell("engine overhead per step, 95th percentile", sorted(gaps)[int(len(gaps) * 0.95)], "ms", None)


def server() -> None:
    """An installed server with a month of data: time to the first page, memory at rest."""
    demo = Demo().start()
    demo.stop()
    port = free_port()
    began = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-m", "ulmus.cli", "serve", "--data", str(demo.folder / "ulmus"), "--port", str(port)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        while True:
            try:
                if httpx.get(f"http://127.0.0.1:{port}/", trust_env=False).status_code == 200:
                    break
            except httpx.HTTPError:
                time.sleep(0.01)
        tell("server start to first page served", time.perf_counter() - began, "s", 3)
        time.sleep(4)
        status = Path(f"/proc/{process.pid}/status").read_text()
        rss = next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmRSS")) / 1024
        tell("memory of the server at rest", rss, "MB", 150)
    finally:
        process.terminate()
        process.wait()
        demo.close()


@contextmanager
def visiting(demo: Demo) -> Iterator[Page]:
    """A signed-in page."""
    with sync_playwright() as playwright:
        browser = launch(playwright)
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        yield page
        browser.close()


MARKED = """
(count) => new Promise((done) => {
  const began = performance.now();
  const marked = () => [...document.querySelectorAll('[role=gridcell]')].filter((c) => c.innerText.includes('out of date')).length;
  const look = () => (marked() >= count ? done(performance.now() - began) : requestAnimationFrame(look));
  const editor = document.querySelector('.cm-content[aria-label=Prompt]');
  editor.focus();
  document.execCommand('insertText', false, 'x');
  look();
})
"""


def browser() -> None:
    """Sizes and times in Chromium."""
    demo = Demo().start()
    try:
        with visiting(demo) as page:
            sizes: dict[str, int] = {}
            page.on(
                "response",
                lambda r: sizes.__setitem__(r.url, int(r.headers.get("content-length", 0))) if r.url.endswith(".js") else None,
            )
            enter(page, demo.url)
            page.wait_for_timeout(500)
            tell("first load, compressed JavaScript", sum(sizes.values()) / 1000, "kB", 300)
            page.goto(f"{demo.url}/workflows/3?line=post")
            page.locator(".cm-content[aria-label=Prompt]").wait_for()
            tell("with the workbench and its editor", sum(sizes.values()) / 1000, "kB", 300)
            times = []
            for _ in range(7):
                times.append(float(page.evaluate(MARKED, 12)))
                page.keyboard.press("Control+z")
                page.get_by_role("button", name="All proofs are fresh").wait_for()
                page.wait_for_timeout(200)
            tell("edit to all dependent cells marked, median", statistics.median(times), "ms", 100)
            tell("edit to all dependent cells marked, slowest of 7", max(times), "ms", 100)
    finally:
        demo.close()


def main() -> None:
    """Run everything."""
    engine_overhead()
    bench_engine.main()
    server()
    browser()


if __name__ == "__main__":
    main()
