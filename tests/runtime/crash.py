"""The crash trial: a page with every kind of block, killed (SIGKILL) again and again while its runs go through.

A process of its own works on the data folder; the trial kills it at random moments, answers and calls by the same
means people and other systems have, and counts at the practice town what really went out. ``make crashtest`` does it
200 times and more; a short trial is among the tests.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from typing import Any

from sqlalchemy import func, select

from tests.core.pages import picture
from tests.runtime.house import WithHouse, reachable
from ulmus.core import flow
from ulmus.runtime import sheets, workflows
from ulmus.runtime.journal import Pages
from ulmus.store import tables

QUICK = {"retries": 6, "wait": 0.05}
SEED = 20261123

WORKER = """
import sys, time
from pathlib import Path
from sqlalchemy import select
from ulmus.core import flow
from ulmus.runtime import asking
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import tables
services = Services.open(Path(sys.argv[1]), frozenset(sys.argv[2].split(",")))
engine = Engine(services)
for _ in range(100):
    try:
        engine.start()
        break
    except RuntimeError:
        time.sleep(0.02)
print("up", flush=True)
while True:
    with services.store.read() as session:
        waiting = list(session.scalars(select(tables.Approval.id).where(tables.Approval.state == "open")))
        resting = list(session.scalars(select(tables.Run.id).where(tables.Run.state == "resting")))
    for id_ in waiting:
        try:
            asking.answer(engine.services, engine.writer, id_, "approve", "Ines")
        except asking.AnswerRefused:
            pass
    for id_ in resting:
        if any(isinstance(d, flow.Listen) for d in flow.decide(engine.live(id_).state)):
            engine.arrivals.arrive(id_, {"state": "ready"})
    time.sleep(0.01)
"""


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    more = {k: settings.pop(k) for k in ("steps", "lanes") if k in settings}
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": QUICK, **more}


def every_block(town: str, inner: int) -> list[dict[str, Any]]:
    """Steps with every kind of block, one outside effect for each of three lines, one for the whole, three rows,
    what is added to the run's own row, and what all runs count up in one."""
    page = f"{town}/sites/furrow-letter/trial-of-forty-drought-beans"
    return [
        step("pick", "pick_one", list="calm\nbrisk\nwry", how="turn"),
        step("names", "set_values", values={"list": "<<start.Topic>> a\n<<start.Topic>> b\n<<start.Topic>> c"}),
        step(
            "all",
            "for_each",
            list="<<names.list | lines>>",
            item="it",
            parallel=2,
            steps=[
                step("page", "read_page", url=page),
                step(
                    "way",
                    "fork",
                    lanes=[
                        {"id": "second", "when": 'it ends with "b"', "steps": [step("brief", "wait", how="for", seconds=1)]},
                        {"id": "other", "steps": [step("mark", "set_values", values={"text": "<<it>>"})]},
                    ],
                ),
                step("out", "publish_post", channel="pond", text="<<it>> (<<start.row>>)"),
                step("row", "add_row", sheet="log", cells={"Post": "<<it>>", "Link": "<<out.link>>"}),
                step("beside", "write_row", sheet="topics", which="own", below={"Lines": "<<it>>"}, dated=False),
                step("sum", "write_row", sheet="sums", which="by", by={"Of": "all"}, counted={"Lines": "1"}, missing="add"),
            ],
        ),
        step(
            "till",
            "repeat_until",
            until="count.n is at least 2",
            rounds=4,
            steps=[step("count", "set_values", values={"n": '<<count.n | otherwise "0" | plus 1>>'})],
        ),
        step("sub", "run_workflow", workflow=str(inner), item={"title": "<<start.Topic>>"}),
        step("back", "wait", how="call", longest=3600),
        step("post", "draft", model="model", prompt="One line about <<start.Topic>>.\n<<each all.results as r>><<r.page.title>>\n<<end>>"),
        step("editor", "ask", draft="post", who="ines@marrowbank.example"),
        step("whole", "publish_post", channel="pond", text="All of <<start.Topic>> (<<start.row>>) <<back.item.state>> <<till.rounds>>"),
        step("done", "add_row", sheet="log", cells={"Post": "whole <<start.Topic>>", "By": "<<sub.text>>"}),
    ]  # fmt: skip


class CrashTrial(WithHouse):
    """The trial; subclasses say how many runs and kills."""

    runs, kills, longest = 4, 12, 0.45

    def setUp(self) -> None:
        super().setUp()
        self.worker: subprocess.Popen[bytes] | None = None
        self.addCleanup(self.kill)
        self.made_ready()
        self.engine.stop()

    def made_ready(self) -> None:
        with self.services.store.write() as session:
            columns = [{"name": n, "type": "text"} for n in ("Topic", "Used", "Lines")]
            topics = sheets.create(session, "Topics", columns)
            sheets.create(session, "Sums", [{"name": "Of", "type": "text"}, {"name": "Lines", "type": "number"}])
            sheets.add_rows(session, topics, [{"Topic": f"Topic {n}"} for n in range(1, self.runs + 1)])
            key = topics.key
        base = {"format": "ulmus-workflow", "version": 1}
        said = step("said", "set_values", values={"text": "<<start.title>>, said"})
        inner = self.made({**base, "name": "Inner", "start": {"id": "start", "kind": "by_hand", "settings": {}}, "steps": [said]})
        workflows.go_live(self.engine, inner, "m")
        start = {"rule": "FREQ=MINUTELY", "sheet": key, "used": "Used", "count": self.runs}
        self.id_ = self.made(
            {
                **base,
                "name": "Every block",
                "start": {"id": "start", "kind": "sheet_row", "settings": start},
                "steps": every_block(self.town.url, inner),
            }
        )
        self.topics = key
        workflows.go_live(self.engine, self.id_, "m")
        with self.services.store.write() as session:
            # The minute before is due at once.
            record = session.get_one(tables.Start, self.id_)
            record.memory, record.next_at = {"due": self.services.clock() - 70}, 0.0

    def start(self) -> None:
        arguments = [sys.executable, "-c", WORKER, str(self.folder), ",".join(reachable(self.town))]
        self.worker = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)

    def kill(self) -> None:
        if self.worker is not None:
            os.kill(self.worker.pid, signal.SIGKILL)
            self.worker.wait()
            assert self.worker.stdout is not None
            self.worker.stdout.close()
            self.worker = None

    def ended(self) -> int:
        with self.services.store.read() as session:
            count = select(func.count()).where(tables.Run.workflow_id == self.id_, tables.Run.state == "done")
            return session.scalar(count) or 0

    def states(self) -> list[Any]:
        with self.services.store.read() as session:
            return [(r.id, r.state, r.step, r.message) for r in session.scalars(select(tables.Run))]

    def test_each_effect_and_each_row_once(self) -> None:
        chance = random.Random(SEED)
        killed = 0
        for n in range(self.kills):
            if n % 3 == 0:
                self.fault("network", "lost", 2)  # the network takes the post and drops the reply
            self.start()
            assert self.worker is not None
            assert self.worker.stdout is not None
            self.worker.stdout.readline()
            time.sleep(chance.uniform(0.0, self.longest))
            self.kill()
            killed += 1
        self.fault("network", "")
        self.start()
        self.wait_for(lambda: self.ended() == self.runs, lambda: f"{self.ended()} of {self.runs}; {self.states()}", 120)
        self.kill()
        self.assertEqual(killed, self.kills)
        self.counted()

    def counted(self) -> None:
        """What the outside took, which rows were written, which topics used; and every journal against its replay."""
        topics = [f"Topic {n}" for n in range(1, self.runs + 1)]
        posts = sorted(self.posts())
        expected = [f"{t} {x} ({n})" for n, t in enumerate(topics, start=1) for x in "abc"]
        expected += [f"All of {t} ({n}) ready 2" for n, t in enumerate(topics, start=1)]
        self.assertEqual(posts, sorted(expected))
        with self.services.store.read() as session:
            rows = list(session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == "log")))
            used = list(session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == self.topics)))
            runs = list(session.scalars(select(tables.Run)))
            written = sorted(r.cells["Post"] for r in rows)
            self.assertEqual(written, sorted([f"{t} {x}" for t in topics for x in "abc"] + [f"whole {t}" for t in topics]))
            self.assertTrue(all(r.cells.get("Used") for r in used))
            # What was added to a row's cell, and what all runs counted up in the same row, each once.
            self.assertEqual(
                [sorted(r.cells["Lines"].split("\n")) for r in sorted(used, key=lambda r: r.position)],
                [[f"{t} {x}" for x in "abc"] for t in topics],
            )
            (sums,) = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == "sums"))
            self.assertEqual(sums.cells, {"Of": "all", "Lines": str(3 * self.runs)})
            self.assertEqual(len(runs), 2 * self.runs, "a run for each topic, and one that each of them began")
            for run in runs:
                self.assertEqual(run.state, "done")
                events = [flow.load_event(e) for e in session.scalars(
                    select(tables.JournalEntry.event).where(tables.JournalEntry.run_id == run.id).order_by(tables.JournalEntry.seq)
                )]  # fmt: skip
                page = Pages().get(session, run.revision_id)
                once, again = (
                    flow.replay(page.plan, events),
                    flow.replay(page.plan, [flow.read_event(flow.write_event(e)) for e in events]),
                )
                self.assertEqual(picture(once), picture(again))
                done = [e.address for e in events if isinstance(e, flow.Done | flow.Sent)]
                self.assertEqual(len(done), len(set(done)))
