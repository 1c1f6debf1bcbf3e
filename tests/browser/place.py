"""The demonstration in processes of its own, and a headless Chromium to visit it with."""

from __future__ import annotations

import atexit
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from playwright.sync_api import Browser, Page, Playwright, expect, sync_playwright

from tests.browser.nursery import PATIENCE, Nursery, ended
from ulmus.store import Store, place

CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium")
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


expect.set_options(timeout=20_000)


def free_port() -> int:
    """A port nobody uses now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Demo:
    """`ulmus demo` in a folder of its own; it can be killed and started again.

    Making its data takes a while, so it is made once in a process, and every further demonstration begins with a copy.
    The addresses stand in the data: all use the same ports, one after another.
    """

    made: Path | None = None
    nursery: Nursery | None = None
    ports: tuple[int, int, int, int] = (0, 0, 0, 0)

    def __init__(self, moved: bool = True) -> None:
        self.moved = moved  # a copy that nobody says was moved is held
        self.folder = Path(tempfile.mkdtemp())
        if Demo.made is None:
            Demo.ports = free_port(), free_port(), free_port(), free_port()
        self.port, self.town_port, self.smtp_port, self.imap_port = Demo.ports
        self.url, self.town = f"http://127.0.0.1:{self.port}", f"http://127.0.0.1:{self.town_port}"
        self.process: subprocess.Popen[str] | None = None
        self.pid: int | None = None

    def start(self) -> Demo:
        if Demo.made is None:
            self._run()
            self.stop()
            Demo.made = Path(tempfile.mkdtemp())
            atexit.register(shutil.rmtree, Demo.made, True)
            shutil.copytree(self.folder, Demo.made, dirs_exist_ok=True)
        elif not any(self.folder.iterdir()):
            shutil.copytree(Demo.made, self.folder, dirs_exist_ok=True)
            if self.moved:
                store = Store(self.folder / "ulmus")
                place.stand_here(store)
                store.close()
        return self._fork()

    def _fork(self) -> Demo:
        """Begin it from a process that has loaded everything; the first of all has begun as a user begins it."""
        if Demo.nursery is None:
            Demo.nursery = Nursery()
            atexit.register(Demo.nursery.close)
        out = self.folder / "told"
        out.unlink(missing_ok=True)
        self.pid = Demo.nursery.begin(self._arguments(), out)
        end = time.monotonic() + PATIENCE
        while not out.exists() or "Ulmus  " not in out.read_text("utf-8"):
            if time.monotonic() > end:
                raise RuntimeError("the demonstration did not start")
            time.sleep(0.02)
        return self

    def _arguments(self) -> list[str]:
        return [
            "--data",
            str(self.folder),
            "--port",
            str(self.port),
            "--town-port",
            str(self.town_port),
            "--smtp-port",
            str(self.smtp_port),
            "--imap-port",
            str(self.imap_port),
            "--take-back",
            "0.5",
        ]

    def _run(self) -> Demo:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "ulmus.cli", "demo", *self._arguments()],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if "Ulmus  " in line:
                return self
        raise RuntimeError("the demonstration did not start")

    def stop(self, how: int = signal.SIGTERM) -> None:
        if self.process is not None:
            self.process.send_signal(how)
            self.process.wait(20)
            assert self.process.stdout is not None
            self.process.stdout.close()
            self.process = None
        if self.pid is not None:
            os.kill(self.pid, how)
            if not ended(self.pid, 20):
                raise RuntimeError("the demonstration did not end")
            self.pid = None

    def close(self) -> None:
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)


class EmptyHouse:
    """`ulmus serve` in a folder of its own, with nobody in it; `first` is the address it prints for the first account."""

    def __init__(self) -> None:
        self.folder, self.port = Path(tempfile.mkdtemp()), free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.first = ""
        self.start()

    def start(self) -> None:
        words = ["serve", "--data", str(self.folder / "data"), "--port", str(self.port), "--take-back", "0.5"]
        self.process = subprocess.Popen([sys.executable, "-m", "ulmus.cli", *words], stdout=subprocess.PIPE, text=True)
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if found := re.search(r"http\S+first=\S+", line):
                self.first = found[0]
                return
        raise RuntimeError("it named no address for the first account")

    def stop(self) -> None:
        os.kill(self.process.pid, signal.SIGTERM)
        self.process.wait(20)
        assert self.process.stdout is not None
        self.process.stdout.close()

    def close(self) -> None:
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)


def launch(playwright: Playwright) -> Browser:
    """Debian's Chromium with an empty profile."""
    return playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)


def enter(page: Page, url: str, who: str = "Mara") -> None:
    """Sign in by the demonstration's button."""
    page.goto(url)
    page.get_by_role("button", name=who).click()
    page.get_by_role("navigation", name="Main").wait_for()


class WithBrowser(unittest.TestCase):
    """A test class with a demonstration and a browser; every test gets a new page, signed in."""

    demo: Demo
    who = "Mara"
    size = (1280, 800)

    @classmethod
    def setUpClass(cls) -> None:
        cls.demo = cls.demonstration().start()
        cls.addClassCleanup(cls.demo.close)
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = launch(playwright)
        cls.addClassCleanup(cls.browser.close)

    @classmethod
    def demonstration(cls) -> Demo:
        """The demonstration the tests of a class are about."""
        return Demo()

    def setUp(self) -> None:
        self.page = self.visitor(self.who)
        self.complaints: list[str] = []
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.complaints, []))

    def visitor(self, who: str = "", scheme: str = "light") -> Page:
        """A page in a browser of its own."""
        context = self.browser.new_context(viewport={"width": self.size[0], "height": self.size[1]}, color_scheme=scheme)  # type: ignore[arg-type]
        self.addCleanup(context.close)
        page = context.new_page()
        page.set_default_timeout(15_000)
        if who:
            enter(page, self.demo.url, who)
        return page

    def workflow(self, name: str) -> str:
        """The address of a workflow's page, by its name."""
        listed = self.page.request.get(f"{self.demo.url}/api/workflows").json()
        return f"{self.demo.url}/workflows/{next(w['id'] for w in listed if w['name'] == name)}"

    def asked(self, workflow: str) -> str:
        """The address of the desk with the draft of a workflow that waits."""
        found: list[int] = []

        def waits() -> bool:
            queue = self.page.request.get(f"{self.demo.url}/api/approvals").json()["open"]
            found[:] = [a["id"] for a in queue if a["workflow_name"] == workflow]
            return bool(found)

        self.soon(waits, f"a draft of {workflow}", 60)
        return f"{self.demo.url}/approvals/{found[0]}"

    def open_workflow(self, name: str = "Seed news to Pondside") -> None:
        self.page.goto(f"{self.demo.url}/workflows")
        self.page.get_by_role("link", name=name, exact=True).click()
        self.page.get_by_role("grid", name="The page and its proofs").wait_for()

    def cell(self, line: int, sample: int = 1):  # type: ignore[no-untyped-def]
        """The cell of a line (from 1) and a sample (from 1)."""
        return self.page.get_by_role("gridcell", name=re.compile(rf"^Line {line},")).nth(sample - 1)

    def soon(self, true, says="", seconds: float = 20) -> None:  # type: ignore[no-untyped-def]
        """Wait until something is so; what it says otherwise may be worked out then."""
        end = time.monotonic() + seconds
        while not true():
            if time.monotonic() > end:
                self.fail(f"did not happen in {seconds} s: {says() if callable(says) else says}")
            self.page.wait_for_timeout(50)
