"""The demonstration's data: two invented clients, weeks of history, an approval that waits, a failure to decide on.

The history is not painted on: past runs are carried out by the real engine against the practice town, with the
clock turned back.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any

from sqlalchemy import func, select

from ..api.security.passwords import hash_password
from ..core.workflow import read_file
from ..places import DEMO
from ..runtime import asking, workflows
from ..runtime.engine import Engine
from ..runtime.polling import poll_once
from ..runtime.proofing import Proofs
from ..runtime.runs import title_of
from ..runtime.services import Services
from ..store import tables
from . import jobs
from .inline import Inline

DATA = DEMO


def accounts() -> list[dict[str, str]]:
    """The demonstration's accounts, for its sign-in page."""
    world = _world("", 0, 0)
    shown = ("name", "email", "role")
    return [{name: user[name] for name in shown} | {"password": world["password"]} for user in world["users"]]


def is_made(services: Services) -> bool:
    """Whether the data folder has been filled already."""
    with services.store.read() as session:
        return session.scalar(select(tables.User.id).limit(1)) is not None


def make(services: Services, town: str, smtp: int, imap: int, say: Callable[[str], None] = lambda text: None) -> None:
    """Fill an empty data folder. `town` is the practice town's address, `smtp` and `imap` its ports for mail."""
    say("Setting up two clients …")
    world = set_up(services, town, smtp, imap)
    made = {}
    for name in world["workflows"]:
        workflow = read_file((DATA / "workflows" / f"{name}.json").read_text("utf-8").replace("{town}", town))
        with services.store.write() as session:
            made[name] = workflows.create(session, workflow, services.clock(), "mara@hedgelane.example")
    say("Living through three weeks …")
    _history(services, made, world["history"], town)
    _pushed(services, made, world["pushed"])
    say("Doing the other jobs …")
    jobs.live_through(services, town)
    _backdate(services, town)
    say("Making the first proofs …")
    _proofs(services, made)
    # From here on the practice model takes its time between words, so that answers can be seen streaming in.
    services.web.fetch(f"{town}/control/habits", method="POST", data={"pace": "18"})


def set_up(services: Services, town: str, smtp: int, imap: int) -> dict[str, Any]:
    """People, brands, connections, timetables and sheets; gives all that the demonstration's world tells of."""
    world = _world(town, smtp, imap)
    with services.store.write() as session:
        for user in world["users"]:
            session.add(tables.User(**user, password=hash_password(world["password"])))
        for brand in world["brands"]:
            session.add(tables.Brand(**brand))
        for c in world["connections"]:
            sealed = services.sealer.seal(c.pop("secrets"))
            session.add(tables.Connection(**c, sealed=sealed))
        session.flush()
        for table in world["timetables"]:
            session.add(tables.Timetable(**table))
        for sheet in world["sheets"]:
            rows = sheet.pop("rows", [])
            session.add(tables.Sheet(**sheet))
            names = [c["name"] for c in sheet["columns"]]
            session.flush()
            for i, row in enumerate(rows, start=1):
                session.add(tables.SheetRow(sheet=sheet["key"], position=i, cells=dict(zip(names, row, strict=False))))
    return world


def _world(town: str, smtp: int, imap: int) -> dict[str, Any]:
    text = (DATA / "world.json").read_text("utf-8").replace("{town}", town)
    text = text.replace('"{smtp}"', str(smtp)).replace('"{imap}"', str(imap))
    return dict(json.loads(text))


def _history(services: Services, made: dict[str, int], plan: list[dict[str, Any]], town: str) -> None:
    clock, present = services.clock, services.clock()
    engine = Engine(services, Inline())
    try:
        moments = sorted(
            ((hours, made[part["workflow"]], i) for part in plan for i, hours in enumerate(part["hours"])), reverse=True
        )
        waiting: dict[int, list[tuple[str, dict[str, Any]]]] = {}
        for part in plan:
            id_ = made[part["workflow"]]
            first = present - part["hours"][0] * 3600
            services.clock = lambda first=first: first - 1800  # type: ignore[misc]
            workflows.go_live(engine, id_, "mara@hedgelane.example")
            with services.store.read() as session:
                start = read_file(session.get_one(tables.WorkflowRecord, id_).document).start
            waiting[id_] = poll_once(services, engine.pages, start, {}).items
        last = {id_: max(i for _, other, i in moments if other == id_) for id_ in waiting}
        for hours, id_, i in moments:
            if waiting[id_]:
                _one_run(
                    services,
                    engine,
                    id_,
                    waiting[id_].pop(0),
                    present - hours * 3600,
                    i,
                    i == last[id_],
                    id_ == made["seed-news"],
                    town,
                )
        _pass_over(services, waiting)
        services.clock = clock
        workflows.pause(engine, made["canal-news"], "mara@hedgelane.example")
    finally:
        services.clock = clock


def _one_run(
    services: Services,
    engine: Engine,
    workflow_id: int,
    found: tuple[str, dict[str, Any]],
    moment: float,
    number: int,
    newest: bool,
    is_seed: bool,
    town: str,
) -> None:
    now = [moment]
    services.clock = lambda: now[0]
    identity, item = found
    fails = not is_seed and newest
    if fails:
        services.web.fetch(f"{town}/control/fault", method="POST", data={"outside": "page", "mode": "gone", "left": "1"})
    with engine.transaction() as tx:
        run_id = engine.begin(tx, workflow_id, item, title_of(item), identity=identity)
    engine.outbox.tick(now[0])
    if newest:
        return
    by = "Ines Varga" if is_seed else "dory@tillerby.example"
    notes = {3: "Mention what it costs, and make it shorter."} if is_seed else {5: "Say when it opens."}
    now[0] += 1500 + 240 * number
    if number in notes:
        _answer(services, engine, run_id, "back", by, note=notes[number])
        now[0] += 1100
    if number == 6 and is_seed:
        _answer(services, engine, run_id, "decline", by, note="We wrote about this last week.")
        return
    _answer(services, engine, run_id, "approve", by, edit=number == 2)
    engine.outbox.tick(now[0])
    engine.outbox.tick(now[0])


def _pushed(services: Services, made: dict[str, int], plan: list[dict[str, Any]]) -> None:
    """Runs of the workflows that go by the clock, a sheet or a form."""
    clock, present = services.clock, services.clock()
    engine = Engine(services, Inline())
    try:
        for id_ in {made[part["workflow"]] for part in plan}:
            services.clock = lambda: present - 200 * 3600
            workflows.go_live(engine, id_, "mara@hedgelane.example")
        for part in plan:
            now = [present - part["hours"] * 3600]
            services.clock = lambda now=now: now[0]  # type: ignore[misc]
            id_ = made[part["workflow"]]
            if part["item"]:
                engine.runs.push(id_, part["item"])
            else:
                engine.polling.look_at(id_)
            with services.store.read() as session:
                run_id = session.scalar(select(func.max(tables.Run.id)).where(tables.Run.workflow_id == id_))
            now[0] += 2700
            if run_id is not None and part["by"]:
                _answer(services, engine, run_id, "approve", part["by"])
            for _ in range(2):
                engine.outbox.tick(now[0])
        with services.store.write() as session:
            # What the clock would have started in between is not caught up.
            for id_ in {made[part["workflow"]] for part in plan}:
                start = session.get_one(tables.Start, id_)
                if "due" in start.memory:
                    start.memory = {**start.memory, "due": present}
                start.next_at = present
    finally:
        services.clock = clock


def _answer(services: Services, engine: Engine, run_id: int, verdict: Any, by: str, note: str = "", edit: bool = False) -> None:
    with services.store.read() as session:
        approval = session.scalar(select(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open"))
    if approval is not None:
        text = approval.text.replace("#", "Worth a look. #", 1) if edit and len(approval.text) < 262 else approval.text
        asking.answer(engine.services, engine.writer, approval.id, verdict, by, text, note)


def _pass_over(services: Services, waiting: dict[int, list[tuple[str, dict[str, Any]]]]) -> None:
    """What is in the feeds at this moment counts as seen, and listening goes on from here."""
    with services.store.write() as session:
        for id_, items in waiting.items():
            for identity, _ in items:
                session.merge(tables.Seen(workflow_id=id_, identity=identity))
            start = session.get_one(tables.Start, id_)
            start.memory, start.next_at = {"primed": True, "fails": 0, "look": {}}, time.time()


def _backdate(services: Services, town: str) -> None:
    """Have the practice network show past posts at their past times."""
    with services.store.read() as session:
        sent = {p.key: p.sent_at for p in session.scalars(select(tables.Piece).where(tables.Piece.state == "sent"))}
    services.web.fetch(f"{town}/control/backdate", method="POST", json=sent)


def _proofs(services: Services, made: dict[str, int]) -> None:
    engine = Engine(services, Inline())
    proofs = Proofs(services, Inline(), engine.handlers, engine.uses)
    for name, count in (
        ("seed-news", 3),
        ("canal-news", 3),
        ("allotment-letter", 2),
        ("topics-to-posts", 3),
        ("visitor-question", 2),
        ("weekly-round", 1),
        ("lead-brief", 3),
        ("first-letters", 3),
        ("articles-to-market", 2),
        ("long-reads", 2),
        ("new-recording", 2),
        ("trade-news", 1),
        ("standing-assistant", 1),
        ("launch-kit", 1),
    ):
        id_ = made[name]
        workflows.capture(engine, id_, count)
        with services.store.read() as session:
            samples = list(session.scalars(select(tables.Sample).where(tables.Sample.workflow_id == id_)))
            workflow = read_file(session.get_one(tables.WorkflowRecord, id_).document)
        if name != "allotment-letter":
            proofs.run(id_, workflow, samples, None, False)
