"""A house moved to another place and back with runs open, by the commands that the docs give and nothing else."""

from __future__ import annotations

import http.cookiejar
import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from tests.browser.place import free_port
from tests.runtime.house import WithHouse
from ulmus.api.security.passwords import hash_password
from ulmus.store import place, tables

DOCS = Path(__file__).resolve().parent.parent / "docs" / "operating.md"
PASSWORD = "seven boats at noon"


def commands() -> list[list[str]]:
    """The commands under *Moving*: pack, unpack, start."""
    section = DOCS.read_text("utf-8").split("## Moving\n", 1)[1].split("\n## ", 1)[0]
    return [shlex.split(line) for line in re.findall(r"^    (.+)$", section, re.M)]


class Moved(WithHouse):
    def put(self, machine: str, command: list[str]) -> list[str]:
        """A command as it is given on one of two machines, which are folders here."""
        places = {"/srv": f"{self.machines}/{machine}", "/tmp": str(self.machines)}
        return [re.sub("^(/srv|/tmp)", lambda found: places[found[1]], word) for word in command]

    @contextmanager
    def served(self, machine: str, command: list[str]) -> Iterator[Any]:
        """The house as it serves there; gives what asks its API."""
        port = free_port()
        allow = [word for host in (f"127.0.0.1:{self.town.port}", f"127.0.0.1:{self.town.smtp_port}") for word in ("--allow", host)]
        words = [sys.executable, "-W", "ignore", "-m", "ulmus.cli", *self.put(machine, command)[1:], "--port", str(port), *allow]
        with tempfile.TemporaryFile("w+") as told:
            process = subprocess.Popen(words, stdout=told, stderr=told, env=os.environ | {"PYTHONWARNINGS": "ignore"})
            browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
            csrf = ""

            def ask(path: str, body: Any = None, method: str = "") -> Any:
                data = None if body is None else json.dumps(body).encode()
                head = {"Content-Type": "application/json", "X-CSRF-Token": csrf}
                request = urllib.request.Request(f"http://127.0.0.1:{port}/api{path}", data, head, method=method or None)
                with browser.open(request, timeout=20) as got:
                    return json.loads(got.read())

            try:
                end = time.monotonic() + 60
                while True:
                    try:
                        csrf = ask("/session", {"email": "o@a.example", "password": PASSWORD})["csrf"]
                        break
                    except OSError:
                        told.seek(0)
                        self.assertLess(time.monotonic(), end, told.read())
                        self.assertIsNone(process.poll())
                        time.sleep(0.1)
                yield ask
            finally:
                process.terminate()
                process.wait(30)

    def test_there_and_back_with_a_run_open(self) -> None:
        pack, unpack, start = commands()
        self.assertEqual((pack[0], unpack[0], start[:2]), ("tar", "tar", ["ulmus", "serve"]))
        with self.services.store.write() as session:
            session.add(tables.User(email="o@a.example", name="O", role="owner", password=hash_password(PASSWORD)))
        workflow = self.live()
        runs = [self.new_item(workflow), self.new_item(workflow)]
        questions = {run: self.question(run).id for run in runs}
        self._close(self.engine, self.services)
        self.machines = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.machines, ignore_errors=True)
        for machine in ("old", "new"):
            (self.machines / machine).mkdir()
        shutil.move(self.folder, self.machines / "old" / "ulmus")

        for there, run, posts in (("old new", runs[0], 1), ("new old", runs[1], 2)):
            here, other = there.split()
            subprocess.run(self.put(here, pack), check=True)
            shutil.rmtree(self.machines / here / "ulmus")
            subprocess.run(self.put(other, unpack), check=True)
            with self.served(other, start) as ask:
                ask(f"/approvals/{questions[run]}", {"verdict": "approve"})
                self.wait_for(lambda run=run, ask=ask: ask(f"/runs/{run}")["run"]["state"] == "done")  # type: ignore[misc]
                self.assertEqual(len(self.posts()), posts)
        self.folder = self.machines / "old" / "ulmus"
        self.open()
        self.assertIsNone(place.held(self.services.store))
        self.assertEqual(len(self.rows()), 2)
