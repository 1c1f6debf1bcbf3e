"""Jobs of the demonstration that come from templates: each as its client has filled it in, with runs that really happened.

`demo/jobs.json` tells of each: its `template`, `name` and `brand`; which of the brand's `sheets` stand for those the template names;
what is set on its `lines`; who is asked (`by`) and the `notes` given before the yes; its `runs`, so many `hours` ago, each on an
`item`, a `row` put into the sheet it starts from, or what stands at a place of its feed (`take`). One that `rests` is paused then.
"""

from __future__ import annotations

import json
import time
from typing import Any

from sqlalchemy import func, select

from ..core.workflow import Workflow, edits, read_file
from ..places import DEMO
from ..runtime import asking, files, sharing, sheets, workflows
from ..runtime.engine import Engine
from ..runtime.polling import poll_once
from ..runtime.services import Services
from ..store import tables
from .inline import Inline

OWNER = "mara@hedgelane.example"
OVER = ("done", "failed", "declined", "skipped", "stopped")
PATIENCE = 400
"""How often a run is looked at before it is left as it is."""


def live_through(services: Services, town: str) -> None:
    """Make the pages of all jobs and live through their runs."""
    plan = json.loads((DEMO / "jobs.json").read_text("utf-8").replace("{town}", town))
    clock, present = services.clock, services.clock()
    engine = Engine(services, Inline())
    try:
        for job in plan:
            _job(services, engine, job, present)
    finally:
        services.clock = clock


def _job(services: Services, engine: Engine, job: dict[str, Any], present: float) -> None:
    id_ = _made(services, job)
    now = [present - (job["runs"][0]["hours"] + 1) * 3600]
    services.clock = lambda: now[0]
    workflows.go_live(engine, id_, OWNER)
    with services.store.read() as session:
        start = read_file(session.get_one(tables.WorkflowRecord, id_).document).start
    if "row" in job["runs"][0]:
        engine.polling.look_at(id_)  # what stands there already is known
    found = poll_once(services, engine.pages, start, {}).items if "take" in job["runs"][0] else []
    for run in job["runs"]:
        now[0] = present - run["hours"] * 3600
        if "row" in run:
            with services.store.write() as session:
                sheets.add_rows(session, session.get_one(tables.Sheet, start.settings["sheet"]), [run["row"]])
            engine.polling.look_at(id_)
        elif "take" in run:
            engine.runs.push(id_, found[run["take"]][1])
        else:
            fetched = {name: _file(services, address) for name, address in run.get("files", {}).items()}
            engine.runs.push(id_, {**run["item"], **fetched})
        with services.store.read() as session:
            latest = session.scalar(select(func.max(tables.Run.id)).where(tables.Run.workflow_id == id_))
        if latest is not None:
            _see_through(services, engine, latest, now, job.get("by", ""), list(job.get("notes", [])))
    if job.get("rests"):
        workflows.pause(engine, id_, OWNER)
    _go_on_from(services, id_, present)


def _made(services: Services, job: dict[str, Any]) -> int:
    """The job's page, from its template; gives the workflow's number."""
    document: dict[str, Any] = json.loads(json.dumps(sharing.templates()[job["template"]][1]))
    document |= {"name": job["name"], "brand": job["brand"]}
    needs = document.pop("needs", {})
    page = read_file(document)
    for line in page.lines:
        own = {name: job.get("sheets", {}).get(v, v) if name == "sheet" else v for name, v in line.settings.items()}
        page = edits.with_settings(page, line.id, own | job.get("lines", {}).get(line.id, {}))
    with services.store.write() as session:
        page, _ = sharing.settle(session, page, needs)
        return workflows.create(session, _asking(page, job), services.clock(), OWNER)


def _asking(page: Workflow, job: dict[str, Any]) -> Workflow:
    return sharing.with_person(page, job.get("by") or OWNER)


def _file(services: Services, address: str) -> dict[str, Any]:
    got = services.web.fetch(address)
    return files.keep(services, address.rpartition("/")[2], got.content_type, got.body)


def _see_through(services: Services, engine: Engine, run_id: int, now: list[float], by: str, notes: list[str]) -> None:
    """Have a run go on to its end: what was asked is answered, what is due goes out, and time passes."""
    for _ in range(PATIENCE):
        engine.outbox.tick(now[0])
        engine.ticker.fire(now[0])
        with services.store.read() as session:
            state = session.get_one(tables.Run, run_id).state
            asked = session.scalar(select(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open"))
        if state in OVER:
            return
        if asked is not None and by:
            now[0] += 1500
            verdict, note = ("back", notes.pop(0)) if notes else ("approve", "")
            first = {"number": 1} if asked.asks.get("form") == "choose" else None
            text = None if first else asked.text
            asking.answer(services, engine.writer, asked.id, verdict, by, text, note, given=first)  # type: ignore[arg-type]
        else:
            now[0] += 5
            time.sleep(0.02)


def _go_on_from(services: Services, id_: int, present: float) -> None:
    """What the clock would have started in between is not caught up."""
    with services.store.write() as session:
        start = session.get_one(tables.Start, id_)
        if "due" in start.memory:
            start.memory = {**start.memory, "due": present}
        start.next_at = present
