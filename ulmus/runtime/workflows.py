"""What people do with workflows: save, go live, pause, keep samples."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ..core.values import plain_object
from ..core.workflow import LineProblem, Workflow, check
from ..core.workflow.plans import CallInPlan, ClockPlan, FormPlan, HandPlan, PollPlan, RowsPlan
from ..protocols.errors import NothingToDo, OutsideError
from ..steps import kinds
from ..store import sight, tables
from .engine import Engine
from .execution import plan_of
from .polling import fingerprint, known_of, pass_over, poll_once, taken_in
from .runs import title_of
from .services import audit, world

MOST_SHOWN = 8


class SaveRefused(ValueError):
    """The page was changed by someone else meanwhile; nothing was overwritten."""


class NotReady(ValueError):
    """The page cannot go live; `problems` say why."""

    def __init__(self, problems: list[LineProblem]) -> None:
        self.problems = problems
        super().__init__("This workflow is not ready: " + " ".join(p.message for p in problems[:3]))


def create(session: Session, workflow: Workflow, now: float, who: str) -> int:
    """A new workflow, not yet live."""
    record = tables.WorkflowRecord(
        name=workflow.name, brand=workflow.brand, document=workflow.model_dump(mode="json"), updated_at=now, version=1
    )
    session.add(record)
    session.flush()
    audit(session, now, who, "made a workflow", workflow.name)
    return record.id


def save(session: Session, workflow_id: int, workflow: Workflow, version: int, now: float) -> int:
    """Save the page if it still is at `version`; gives the new version. Raises `SaveRefused`."""
    record = session.get_one(tables.WorkflowRecord, workflow_id)
    if record.version != version:
        raise SaveRefused("Someone else changed this page meanwhile. Load it again to see their changes.")
    if record.follows is not None:
        raise SaveRefused("This page follows another. Change it there, or let this one go its own way first.")
    record.name, record.brand = workflow.name, workflow.brand
    record.document, record.updated_at = workflow.model_dump(mode="json"), now
    record.version += 1
    return record.version


@dataclass(frozen=True)
class Waiting:
    """What is there for a start that is about to listen, and was not handed out yet: items by identity, newest last, and what
    the look remembers. ``None`` where its start cannot be asked, or has nothing of the sort."""

    items: list[tuple[str, dict[str, Any]]]
    memory: dict[str, Any]


def waiting_for(engine: Engine, workflow_id: int) -> Waiting | None:
    """What is already there for a start that does not listen yet; ``None`` where it listens, or that cannot be known."""
    with engine.services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        workflow = Workflow.model_validate(record.document)
        if _listens(session, record, workflow):
            return None
    if workflow.start.kind not in kinds() or not isinstance(plan_of(workflow.start), PollPlan | RowsPlan):
        return None
    try:
        polled = taken_in(poll_once(engine.services, engine.pages, workflow.start, {}))
    except OutsideError:
        return None
    if not polled.prime:
        return None  # what it finds is due, however long it has been there
    with engine.services.store.read() as session:
        known = known_of(session, workflow_id, [identity for identity, _ in polled.items])
    return Waiting([item for item in polled.items if item[0] not in known], polled.memory)


def _listens(session: Session, record: tables.WorkflowRecord, workflow: Workflow) -> bool:
    """Whether a live workflow listens to this very start already."""
    before = session.get(tables.Revision, record.revision_id) if record.revision_id else None
    if before is None or record.state != "live":
        return False
    return fingerprint(Workflow.model_validate(before.document).start) == fingerprint(workflow.start)


def go_live(engine: Engine, workflow_id: int, who: str, a_day: int = 0, waiting: Waiting | None = None) -> int:
    """Make a numbered revision of the page and listen to its start; gives the revision's number. Raises `NotReady`.

    What is there already is passed over, or, with `a_day`, run for, so many a day. It is noted in the very transaction that
    goes live, so that what comes after it starts runs and nothing that comes meanwhile is lost.
    """
    waiting = waiting or waiting_for(engine, workflow_id)
    with engine.services.transaction() as tx:
        session, now = tx.session, tx.now
        sight.watch(session)
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        workflow = Workflow.model_validate(record.document)
        errors = [p for p in check(workflow, kinds(), world(session)) if p.severity == "error"]
        if not workflow.steps:
            errors.append(LineProblem(workflow.start.id, "There is no step under the start yet."))
        if errors:
            raise NotReady(errors)
        listening = _listens(session, record, workflow)
        before = session.get(tables.Revision, record.revision_id) if record.revision_id else None
        if before is not None and before.document == record.document:
            number = before.number
        else:
            last = session.scalar(select(func.max(tables.Revision.number)).where(tables.Revision.workflow_id == workflow_id))
            number = (last or 0) + 1
            revision = tables.Revision(
                workflow_id=workflow_id, number=number, document=record.document, created_at=now, created_by=who
            )
            session.add(revision)
            session.flush()
            record.revision_id = revision.id
        record.state = "live"
        start = session.get(tables.Start, workflow_id)
        if start is None or not listening:
            plan = plan_of(workflow.start)
            memory: dict[str, Any] = {"due": now} if isinstance(plan, ClockPlan) else {}
            if isinstance(plan, PollPlan):
                memory |= {"since": now}
            if waiting is not None:
                memory |= {"primed": True, "look": waiting.memory}
                pass_over(session, workflow_id, now, [identity for identity, _ in waiting.items])
                if a_day and waiting.items:
                    # What waited since an earlier time goes first.
                    for identity, item in waiting.items:
                        session.add(tables.Backlog(workflow_id=workflow_id, identity=identity, item=item))
                    memory |= {"backlog": {"a_day": a_day}}
            earlier = session.scalar(select(tables.Backlog.id).where(tables.Backlog.workflow_id == workflow_id).limit(1))
            if earlier is not None and "backlog" not in memory:
                kept = (start.memory if start is not None else {}).get("backlog", {})
                memory |= {"backlog": {"a_day": a_day or kept.get("a_day", 10)}}
            session.merge(tables.Start(workflow_id=workflow_id, memory=memory, found="", failed=False, next_at=now, looked_at=None))
        audit(session, now, who, "went live", f"{record.name}, revision {number}")
        tx.publish("workflow", id=workflow_id)
    return number


def pause(engine: Engine, workflow_id: int, who: str) -> None:
    """Stop listening. Runs under way go on."""
    now = engine.services.clock()
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state == "live":
            record.state = "paused"
            audit(session, now, who, "paused", record.name)
    engine.services.bus.publish("workflow", id=workflow_id)


def put_away(engine: Engine, workflow_id: int, who: str) -> None:
    """Pause it, and keep it out of the way. Nothing of it is lost: its runs and what went out stay to be read."""
    pause(engine, workflow_id, who)
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state != "away":
            record.state = "away"
            audit(session, engine.services.clock(), who, "put away", record.name)
    engine.services.bus.publish("workflow", id=workflow_id)


def bring_back(engine: Engine, workflow_id: int, who: str) -> None:
    """Take it out again, paused where it was ever live."""
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state == "away":
            record.state = "paused" if record.revision_id else "draft"
            audit(session, engine.services.clock(), who, "brought back", record.name)
    engine.services.bus.publish("workflow", id=workflow_id)


def there(engine: Engine, workflow_id: int) -> list[tuple[str, dict[str, Any]]]:
    """What a start finds now, or has been brought so far, by identity; the newest last. Raises `OutsideError` where it cannot be
    looked at."""
    with engine.services.store.read() as session:
        workflow = Workflow.model_validate(session.get_one(tables.WorkflowRecord, workflow_id).document)
    if workflow.start.kind in kinds() and isinstance(plan_of(workflow.start), HandPlan | FormPlan | CallInPlan):
        return _arrived(engine, workflow_id, workflow.start.id)
    return poll_once(engine.services, engine.pages, workflow.start, {}).items


def capture(engine: Engine, workflow_id: int, count: int = 3, wanted: Collection[str] = ()) -> int:
    """Keep the start's latest items as samples, newest first, without those already kept, or those of the identities `wanted`; gives
    how many were new. Raises `OutsideError` where the start cannot be looked at."""
    items = there(engine, workflow_id)
    new = 0
    with engine.services.store.write() as session:
        kept = [s.item for s in session.scalars(select(tables.Sample).where(tables.Sample.workflow_id == workflow_id))]
        named = {item.get("identity") for item in kept} - {None}
        for identity, item in reversed(items):
            if new >= (len(wanted) or count):
                break
            if (not wanted or identity in wanted) and identity not in named and item not in kept:
                add_sample(session, workflow_id, item, "start", engine.services.clock(), identity)
                new += 1
    engine.services.bus.publish("workflow", id=workflow_id)
    return new


def _arrived(engine: Engine, workflow_id: int, start: str) -> list[tuple[str, dict[str, Any]]]:
    """What has been brought to a start so far: the items of its latest runs, newest last. Raises `OutsideError`."""
    with engine.services.store.read() as session:
        kept = tables.Run.workflow_id == workflow_id, tables.Run.emptied.is_(None)
        latest = select(tables.Run.id).where(*kept).order_by(tables.Run.id.desc()).limit(20)
        runs = list(session.scalars(latest))
    if not runs:
        raise NothingToDo("Nothing has arrived here yet. Type a sample in, or try the start once.")
    return [(f"run:{run_id}", engine.live(run_id).state.values[start]) for run_id in reversed(runs)]


def add_sample(
    session: Session, workflow_id: int, item: dict[str, Any], source: str, now: float, identity: str = ""
) -> tables.Sample:
    """Keep one item; it is shown while fewer than eight are. `identity` is what its start knows it by. Raises `NotPlain`."""
    item = plain_object(item)
    shown = session.scalar(select(func.count()).where(tables.Sample.workflow_id == workflow_id, tables.Sample.shown.is_(True)))
    sample = tables.Sample(
        workflow_id=workflow_id,
        label=title_of(item),
        item=item,
        source=source,
        identity=identity,
        shown=(shown or 0) < MOST_SHOWN,
        created_at=now,
    )
    session.add(sample)
    session.flush()
    return sample


def remove(session: Session, workflow_id: int, now: float, who: str) -> None:
    """Delete a workflow. Of one that has run, its runs, what it let out and the revisions they were carried out from stay to be read;
    its page, samples and proofs go. Raises `ValueError` where it is live, or has runs that are not over."""
    record = session.get_one(tables.WorkflowRecord, workflow_id)
    of_it = tables.Run.workflow_id == workflow_id
    if record.state == "live":
        raise ValueError("This workflow is live. Pause it first.")
    if session.scalar(select(func.count()).where(of_it, tables.Run.ended_at.is_(None))):
        raise ValueError("Some of its runs are not over. Cancel them, or wait.")
    audit(session, now, who, "deleted a workflow", record.name)
    if not session.scalar(select(func.count()).where(of_it)):
        session.execute(delete(tables.WorkflowRecord).where(tables.WorkflowRecord.id == workflow_id))
        return
    start = Workflow.model_validate(record.document).start
    blank = Workflow(
        name=record.name, brand=record.brand, start=start.model_copy(update={"kind": "removed", "settings": {}}), steps=[]
    )
    record.state, record.revision_id, record.follows = "removed", None, None
    record.document, record.version, record.updated_at = blank.model_dump(mode="json"), record.version + 1, now
    for table in (tables.Sample, tables.Judgement, tables.Start, tables.Backlog, tables.StepMemory, tables.HubLine):
        session.execute(delete(table).where(table.workflow_id == workflow_id))
