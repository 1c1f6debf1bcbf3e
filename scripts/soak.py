"""``make soak``: twenty minutes of steady load; memory, threads and open files have to stay flat after the first ten.

Runs begin, fetch pages of the practice town, draft, ask and are answered, post and write rows, while screens are looked at
and feeds are polled. ``--minutes N`` makes it shorter (flat after the first half).
"""

from __future__ import annotations

import argparse
import http.client
import json
import os
import shutil
import tempfile
import time
from pathlib import Path
from typing import Any

from practice_town.app import Town
from scripts.bench_years import SCREENS, resident, serving
from scripts.tell import tell
from tests.browser.place import free_port
from tests.runtime.house import furnish, page, reachable
from ulmus.api.security.passwords import hash_password
from ulmus.core.workflow import read_file
from ulmus.runtime import workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import tables

PASSWORD = "a good password"
FLAT = 3.0
"""MB by which memory may differ between the first half and the end."""


class Person:
    """Somebody at the API."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.headers = {"Content-Type": "application/json"}
        answer, headers = self.ask("POST", "/api/session", {"email": "o@a.example", "password": PASSWORD})
        self.headers |= {"X-CSRF-Token": answer["csrf"], "Cookie": "; ".join(h.partition(";")[0] for h in headers)}

    def ask(self, method: str, path: str, body: Any = None) -> tuple[Any, list[str]]:
        line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=30)
        line.request(method, path, json.dumps(body) if body is not None else None, self.headers)
        answer = line.getresponse()
        told = json.loads(answer.read() or b"null")
        cookies = [value for name, value in answer.getheaders() if name == "Set-Cookie"]
        line.close()
        assert answer.status < 500, (method, path, answer.status, told)
        return told, cookies


def main() -> None:
    """Load, watch, tell."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=20.0)
    minutes = parser.parse_args().minutes
    folder = Path(tempfile.mkdtemp())
    town = Town().start()
    try:
        workflow_id = prepared(folder, town)
        allow = [word for place in reachable(town) for word in ("--allow", place)]
        port = free_port()
        with serving(folder, "--port", str(port), *allow) as process:
            watch(process.pid, Person(port), town, workflow_id, minutes)
    finally:
        town.stop()
        shutil.rmtree(folder, ignore_errors=True)


def prepared(folder: Path, town: Town) -> int:
    """A house with a live workflow that goes the whole way."""
    services = Services.open(folder, reachable(town))
    furnish(services, town.url, town.smtp_port)
    engine = Engine(services)
    engine.start(polling=False)
    with services.store.write() as session:
        session.add(tables.User(email="o@a.example", name="O", role="owner", password=hash_password(PASSWORD)))
        id_ = workflows.create(session, read_file(page(town.url)), time.time(), "soak")
    workflows.go_live(engine, id_, "soak")
    workflows.capture(engine, id_)
    engine.stop()
    services.close()
    return id_


def watch(pid: int, person: Person, town: Town, workflow_id: int, minutes: float) -> None:
    """Steady load for so many minutes; figures every tenth of it."""
    samples = [s["id"] for s in person.ask("GET", f"/api/workflows/{workflow_id}/bench")[0]["samples"]]
    began, marks, runs = time.monotonic(), [], 0
    while (passed := time.monotonic() - began) < minutes * 60:
        body = {"values": {}, "sample": samples[runs % len(samples)], "key": f"soak-{runs}", "again": True}
        person.ask("POST", f"/api/workflows/{workflow_id}/start", body)
        runs += 1
        for one in person.ask("GET", "/api/approvals")[0]["open"]:
            person.ask("POST", f"/api/approvals/{one['id']}", {"verdict": "approve", "despite": True})
        for path in SCREENS:
            person.ask("GET", path)
        del town.state.posts[:-50], town.state.mails[:-50]
        if passed >= len(marks) * minutes * 6:
            marks.append((resident(pid), threads(pid), len(os.listdir(f"/proc/{pid}/fd"))))
            print(
                f"{passed / 60:5.1f} min: {marks[-1][0]:6.1f} MB, {marks[-1][1]} threads, {marks[-1][2]} files, {runs} runs",
                flush=True,
            )
        time.sleep(max(0.0, runs * 0.25 - (time.monotonic() - began)))
    half = marks[len(marks) // 2 :]
    tell(
        f"memory after the first half, {runs} runs: most against least",
        max(m[0] for m in half) - min(m[0] for m in half),
        "MB",
        FLAT,
    )
    for what, n in (("threads", 1), ("open files", 2)):
        tell(f"{what} after the first half: most against least", max(m[n] for m in half) - min(m[n] for m in half), "", 4)


def threads(pid: int) -> int:
    """How many threads a process has."""
    status = Path(f"/proc/{pid}/status").read_text()
    return next(int(line.split()[1]) for line in status.splitlines() if line.startswith("Threads"))


if __name__ == "__main__":
    main()
