"""``make bench``: figures and ratios of one run, beside their targets. Nothing here is asserted by a test."""

from __future__ import annotations

import itertools
import re
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

from scripts import bench_draft, bench_engine, bench_gather, bench_mailing, bench_sheets, bench_workers, bench_years
from scripts.tell import tell
from tests.browser.place import Demo, enter, free_port, launch
from ulmus.core.workflow import Line, Workflow
from ulmus.runtime import execution, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.steps.api import Result

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

        with mock.patch.object(execution, "perform", perform):
            engine.start(polling=False)
            with services.store.write() as session:
                workflow_id = workflows.create(session, Workflow(name="Bench", start=start, steps=steps), 1.0, "bench")
            workflows.go_live(engine, workflow_id, "bench")
            with engine.transaction() as tx:
                engine.begin(tx, workflow_id, {"title": "x"}, "Bench")
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
            tell("first load, compressed JavaScript", sum(sizes.values()) / 1000, "kB", 350)
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


LARGE = """
async () => {
  const session = await (await fetch('/api/session')).json();
  const ask = async (path, body) => (await (await fetch('/api' + path, {
    method: 'POST', headers: { 'content-type': 'application/json', 'x-csrf-token': session.csrf }, body: JSON.stringify(body) })).json());
  const steps = [];
  for (let n = 1; n < 199; n++) {
    const text = n === 1 ? 'The line of <<start.title>>' : `<<s${n - 1}.text | shorten 60 characters>> and ${n}`;
    steps.push({ id: `s${n}`, kind: 'set_values', settings: { values: { text } } });
  }
  const sentence = 'A long prompt says many things that matter to the piece. ';
  const prompt = 'Write about <<s5.text>>. ' + Array(50).fill(sentence.repeat(7)).join('\\n');
  const whole = 'Write about <<s5.text>>. ' + sentence.repeat(350);
  steps.push({ id: 'post', kind: 'draft', settings: { model: 'drafting', prompt } });
  steps.push({ id: 'whole', kind: 'draft', settings: { model: 'drafting', prompt: whole } });
  const document = { format: 'ulmus-workflow', version: 1, name: 'Large', start: { id: 'start', kind: 'by_hand' }, steps };
  const { id } = await ask('/workflows', { document });
  for (let n = 0; n < 8; n++) await ask(`/workflows/${id}/samples`, { item: { title: `Sample number ${n}` } });
  await ask(`/workflows/${id}/proofs`, { steps: steps.slice(0, 198).map((s) => s.id) });
  return id;
}
"""
OPENED = """
() => new Promise((done) => {
  const began = performance.now();
  [...document.querySelectorAll('a')].find((a) => a.textContent === 'Large').click();
  const cell = () => document.querySelectorAll('[data-row]')[5]?.querySelectorAll('[role=gridcell]')[7]?.innerText;
  const look = () => (cell() ? done(performance.now() - began) : requestAnimationFrame(look));
  look();
})
"""
FRAMES = """
() => new Promise((done) => {
  const box = document.querySelector('[role=grid]').parentElement;
  const gaps = []; let last = performance.now(); let top = 0; let wait = 10; let bottom = 0;
  const step = (now) => {
    // Asking for the height has the page laid out at once, which scrolling does not.
    if (gaps.length % 10 === 0) bottom = box.scrollHeight - box.clientHeight;
    gaps.push(now - last); last = now; top += 120; box.scrollTop = top;
    if (top < bottom) requestAnimationFrame(step);
    else if (wait--) requestAnimationFrame(step);
    else done(gaps.slice(2));
  };
  requestAnimationFrame(step);
})
"""
TYPED = """
() => new Promise((done) => {
  const editor = document.querySelector('.cm-content[aria-label=Prompt]');
  editor.focus();
  const times = [];
  const key = () => {
    const began = performance.now();
    document.execCommand('insertText', false, 'x');
    requestAnimationFrame(() => setTimeout(() => {
      times.push(performance.now() - began);
      if (times.length < 40) setTimeout(key, 40); else done(times);
    }));
  };
  key();
})
"""


def large_page() -> None:
    """The workbench with a page of 200 steps and 8 samples."""
    demo = Demo().start()
    try:
        with visiting(demo) as page:
            enter(page, demo.url)
            id_ = page.evaluate(LARGE)
            page.goto(f"{demo.url}/workflows/{id_}")
            page.get_by_role("button", name=re.compile("Run 16 out of date")).wait_for(timeout=120_000)
            times = []
            for _ in range(5):
                page.goto(f"{demo.url}/workflows")
                page.get_by_role("link", name="Large").wait_for()
                times.append(page.evaluate(OPENED) / 1000)
            tell("200 steps, 8 samples: opened, to the first rows with their cells, median", statistics.median(times), "s", 1)
            for when in ("at once", "a second time"):
                page.evaluate("document.querySelector('[role=grid]').parentElement.scrollTop = 0")
                page.wait_for_timeout(300)
                gaps = sorted(page.evaluate(FRAMES))
                tell(f"scrolling it {when}: longest frame", gaps[-1], "ms", 50)
                tell(f"scrolling it {when}: frames, 95th percentile", gaps[int(len(gaps) * 0.95)], "ms", 17)
                page.wait_for_timeout(1000)
            for line, how in (("post", "paragraphs"), ("whole", "one paragraph")):
                page.goto(f"{demo.url}/workflows/{id_}?line={line}")
                page.locator(".cm-content[aria-label=Prompt]").wait_for()
                page.wait_for_timeout(1500)
                typed = sorted(page.evaluate(TYPED))
                what = f"a key in a prompt of 20,000 characters, in {how}, to the next frame, 95th percentile"
                tell(what, typed[37], "ms", 30, f"median {typed[20]:.0f}")
    finally:
        demo.close()


def main() -> None:
    """Run everything."""
    engine_overhead()
    bench_engine.main()
    bench_gather.main()
    bench_mailing.main()
    bench_years.main()
    bench_workers.workers()
    bench_workers.reading()
    bench_sheets.main()
    bench_draft.main()
    server()
    browser()
    large_page()


if __name__ == "__main__":
    main()
