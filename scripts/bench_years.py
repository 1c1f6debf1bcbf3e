"""Figures of a house in which much has gathered: first answers, starts beside large sheets, screens, memory at rest."""

from __future__ import annotations

import hashlib
import http.client
import json
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import text

from scripts.bench_engine import made
from scripts.tell import tell
from tests.browser.place import free_port
from ulmus.core.workflow import Line, Workflow
from ulmus.runtime import asking, workflows
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.server import Config, Server
from ulmus.store import tables

OPEN_RUNS, ROWS, BEGUN = 20_000, 100_000, 300
SCREENS = ("/api/today", "/api/approvals", "/api/runs", "/api/workflows")
TOKEN, CSRF = "bench", "bench"


def house(folder: Path) -> tuple[Services, Engine]:
    """An engine on a folder, with somebody signed in."""
    services = Services.open(folder)
    engine = Engine(services)
    engine.start(polling=False)
    with services.store.write() as session:
        if session.get(tables.User, 1) is None:
            session.add(tables.User(id=1, email="o@a.example", name="O", role="owner", password="x"))
            digest = hashlib.sha256(TOKEN.encode()).hexdigest()
            session.add(tables.WebSession(id=digest, user_id=1, csrf=CSRF, expires_at=time.time() + 1e6))
    return services, engine


def asked(services: Services, engine: Engine, workflow_id: int) -> int:
    """A run that waits for a person; gives its number."""
    run = engine.runs.push(workflow_id, {"title": "A question"})
    assert run is not None
    while True:
        with services.store.read() as session:
            if session.get_one(tables.Run, run).state == "asking":
                return run
        time.sleep(0.01)


def asks(services: Services, engine: Engine) -> int:
    """A live workflow that asks a person about a text."""
    values = Line(id="post", kind="set_values", settings={"values": {"text": "A post of some words about <<start.title>>."}})
    ask = Line(id="ask", kind="ask_question", settings={"question": "May it?", "who": "o@a.example", "mail": ""})
    return made(services, engine, [values, ask])


def copied(services: Services, run: int, count: int, state: str | None = None) -> None:
    """So many copies of a run, with its journal and its question, or the piece that went out."""
    ended = "NULL" if state is None else "started_at"
    with services.store.write() as session:
        connection = session.connection()

        def columns(table: str, *out: str) -> str:
            names = [row[1] for row in connection.exec_driver_sql(f"PRAGMA table_info({table})")]
            return ", ".join(name for name in names if name not in out)

        numbers = f"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {count})"
        first = connection.exec_driver_sql("SELECT max(id) FROM runs").scalar_one()
        rest = columns("runs", "id", "state", "ended_at", "started_at", "changed_at")
        now = time.time()
        connection.exec_driver_sql(
            f"INSERT INTO runs (id, state, ended_at, started_at, changed_at, {rest}) {numbers} SELECT {first} + i,"
            f" {'state' if state is None else repr(state)}, {ended}, {now} - i * 60, {now} - i * 60, {rest} FROM runs, n WHERE id = {run}"
        )
        connection.exec_driver_sql(
            f"INSERT INTO journal (run_id, seq, event) {numbers} SELECT {first} + i, seq, event FROM journal, n WHERE run_id = {run}"
        )
        rest = columns("approvals", "id", "run_id", "state", "decided_at")
        decided = "'approve', created_at" if state else "state, decided_at"
        connection.exec_driver_sql(
            f"INSERT INTO approvals (run_id, state, decided_at, {rest}) {numbers} SELECT {first} + i, {decided}, {rest}"
            f" FROM approvals, n WHERE run_id = {run}"
        )
        if state == "done":
            connection.execute(
                text(
                    "INSERT INTO pieces (key, run_id, address, connection, kind, content, state, attempt, message, queued_at, due_at, sent_at)"
                    f" {numbers} SELECT 'k' || ({first} + i), {first} + i, 'out', 'pond', 'publish_post', :content, 'sent', 1, '', :now, :now, :now - i * 60 FROM n"
                ),
                {"content": json.dumps({"text": "A post."}), "now": now},
            )


def first_answer() -> None:
    """A server that finds 20,000 open runs: from its port opening until an answer to a question is taken."""
    with tempfile.TemporaryDirectory() as name:
        services, engine = house(Path(name))
        run = asked(services, engine, asks(services, engine))
        copied(services, run, OPEN_RUNS)
        with services.store.read() as session:
            approval = session.scalar(text("SELECT max(id) FROM approvals"))
        engine.stop()
        services.close()
        port = free_port()
        began = time.perf_counter()
        server = Server(Config(Path(name), port=port)).start()
        opened = time.perf_counter()
        status = ask(port, "POST", f"/api/approvals/{approval}", {"verdict": "approve", "text": "Yes."})[0]
        took = time.perf_counter() - opened
        server.stop()
    tell(
        f"{OPEN_RUNS:,} open runs: first answer after the port opened",
        took,
        "s",
        1.0,
        f"status {status}, opened after {opened - began:.1f} s",
    )


def ask(port: int, method: str, path: str, body: Any = None) -> tuple[int, float]:
    """A call; gives its status and the seconds it took."""
    began = time.perf_counter()
    line = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    headers = {"Cookie": f"ulmus_session={TOKEN}", "X-CSRF-Token": CSRF, "Content-Type": "application/json"}
    line.request(method, path, json.dumps(body) if body is not None else None, headers)
    answer = line.getresponse()
    answer.read()
    line.close()
    return answer.status, time.perf_counter() - began


def beside_rows() -> None:
    """Beginning runs beside a sheet of 100,000 rows that two live starts watch, against beginning them without."""
    rates = []
    for rows in (0, ROWS):
        with tempfile.TemporaryDirectory() as name:
            services, engine = house(Path(name))
            other = made(services, engine, [Line(id="x", kind="set_values", settings={"values": {"a": "b"}})])
            with services.store.write() as session:
                session.add(tables.Sheet(key="big", name="Big", columns=[{"name": "A", "type": "text"}]))
                session.flush()
                session.connection().exec_driver_sql(
                    f"INSERT INTO sheet_rows (sheet, position, cells) WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n"
                    f" WHERE i < {max(1, rows)}) SELECT 'big', i, json_object('A', 'row ' || i) FROM n"
                )
            for n in range(2 if rows else 0):
                start = Line(id="row", kind="new_row", settings={"sheet": "big", "every": 1})
                page = Workflow(
                    name=f"Rows {n}", start=start, steps=[Line(id="x", kind="set_values", settings={"values": {"a": "b"}})]
                )
                with services.store.write() as session:
                    id_ = workflows.create(session, page, 1.0, "bench")
                workflows.go_live(engine, id_, "bench")
            engine.polling.enabled = True
            time.sleep(2)
            took = []
            for _ in range(3):
                began = time.perf_counter()
                for n in range(BEGUN):
                    engine.runs.push(other, {"title": f"Run {n}"})
                took.append(time.perf_counter() - began)
            rates.append(min(took))
            engine.stop()
            services.close()
    told = f"{rates[0] / BEGUN * 1000:.2f} ms each without"
    tell("beginning a run beside 100,000 watched rows", rates[1] / rates[0], "x", 1.1, told)


def screens() -> None:
    """The screens with ten times as much behind them."""
    times: dict[str, list[float]] = {}
    for many in (1, 10):
        with tempfile.TemporaryDirectory() as name:
            services, engine = house(Path(name))
            workflow_id = asks(services, engine)
            run = asked(services, engine, workflow_id)
            with services.store.read() as session:
                approval = session.scalar(text("SELECT max(id) FROM approvals")) or 0
            copied(services, run, 200 * many)
            asking.answer(services, engine.writer, approval, "approve", "O", "Yes.")
            time.sleep(0.5)
            copied(services, run, 2000 * many, "done")
            copied(services, run, 100 * many, "failed")
            engine.stop()
            services.close()
            port = free_port()
            server = Server(Config(Path(name), port=port)).start()
            for path in SCREENS:
                took = [ask(port, "GET", path) for _ in range(25)]
                assert all(status == 200 for status, _ in took), path
                times.setdefault(path, []).append(statistics.median(seconds for _, seconds in took[3:]))
            server.stop()
    for path, (few, lots) in times.items():
        tell(f"{path} with ten times as much behind it", lots / few, "x", 1.2, f"{few * 1000:.1f} ms against {lots * 1000:.1f} ms")


def memory_at_rest() -> None:
    """What a house takes that has nothing to do, with what it has gathered."""
    with tempfile.TemporaryDirectory() as name:
        services, engine = house(Path(name))
        run = asked(services, engine, asks(services, engine))
        copied(services, run, 300)
        copied(services, run, 3000, "done")
        engine.stop()
        services.close()
        with serving(Path(name)) as process:
            time.sleep(15)
            tell("memory at rest", resident(process.pid), "MB", 110)


@contextmanager
def serving(folder: Path, *more: str) -> Iterator[subprocess.Popen[bytes]]:
    """`ulmus serve` in a process of its own."""
    arguments = [sys.executable, "-m", "ulmus.cli", "serve", "--data", str(folder), "--port", str(free_port()), *more]
    process = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    try:
        assert process.stdout is not None
        process.stdout.readline()
        yield process
    finally:
        process.terminate()
        process.wait(20)


def resident(pid: int) -> float:
    """Resident memory of a process, in MB."""
    status = Path(f"/proc/{pid}/status").read_text()
    return next(int(line.split()[1]) for line in status.splitlines() if line.startswith("VmRSS")) / 1024


def main() -> None:
    """All of them, or those named."""
    parts: list[Callable[[], None]] = [first_answer, beside_rows, screens, memory_at_rest]
    for part in parts:
        if not sys.argv[1:] or part.__name__ in sys.argv[1:]:
            part()


if __name__ == "__main__":
    main()
