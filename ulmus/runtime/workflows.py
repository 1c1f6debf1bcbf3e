"""What people do with workflows: save, go live, pause, keep samples."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from ..core.workflow import LineProblem, Workflow, check
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..store import tables
from .polling import fingerprint, look_once, title_of
from .services import audit, world

if TYPE_CHECKING:
    from .engine import Engine

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
    record.name, record.brand = workflow.name, workflow.brand
    record.document, record.updated_at = workflow.model_dump(mode="json"), now
    record.version += 1
    return record.version


def go_live(engine: Engine, workflow_id: int, who: str) -> int:
    """Make a numbered revision of the page and listen to its start; gives the revision's number. Raises `NotReady`."""
    now = engine.services.clock()
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        workflow = Workflow.model_validate(record.document)
        errors = [p for p in check(workflow, kinds(), world(session)) if p.severity == "error"]
        if not workflow.steps:
            errors.append(LineProblem(workflow.start.id, "There is no step under the start yet."))
        if errors:
            raise NotReady(errors)
        before = session.get(tables.Revision, record.revision_id) if record.revision_id else None
        same_start = before is not None and fingerprint(Workflow.model_validate(before.document).start) == fingerprint(
            workflow.start
        )
        listening = record.state == "live" and same_start
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
            # What is in the feed at this moment is passed over; only what comes after starts runs.
            memory = {"due": now} if kinds()[workflow.start.kind].listens == "clock" else {}
            session.merge(tables.Start(workflow_id=workflow_id, memory=memory, found="", failed=False, next_at=now, looked_at=None))
        audit(session, now, who, "went live", f"{record.name}, revision {number}")
    engine.services.bus.say("workflow", id=workflow_id)
    return number


def pause(engine: Engine, workflow_id: int, who: str) -> None:
    """Stop listening. Runs under way go on."""
    now = engine.services.clock()
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state == "live":
            record.state = "paused"
            audit(session, now, who, "paused", record.name)
    engine.services.bus.say("workflow", id=workflow_id)


def put_away(engine: Engine, workflow_id: int, who: str) -> None:
    """Pause it, and keep it out of the way. Nothing of it is lost: its runs and what went out stay to be read."""
    pause(engine, workflow_id, who)
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state != "away":
            record.state = "away"
            audit(session, engine.services.clock(), who, "put away", record.name)
    engine.services.bus.say("workflow", id=workflow_id)


def bring_back(engine: Engine, workflow_id: int, who: str) -> None:
    """Take it out again, paused where it was ever live."""
    with engine.services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        if record.state == "away":
            record.state = "paused" if record.revision_id else "draft"
            audit(session, engine.services.clock(), who, "brought back", record.name)
    engine.services.bus.say("workflow", id=workflow_id)


def capture(engine: Engine, workflow_id: int, count: int = 3) -> int:
    """Keep the start's latest items as samples, newest first, without those already kept; gives how many were new.

    Raises `OutsideError` where the start cannot be looked at.
    """
    with engine.services.store.read() as session:
        workflow = Workflow.model_validate(session.get_one(tables.WorkflowRecord, workflow_id).document)
    kind = kinds().get(workflow.start.kind)
    if kind is not None and kind.listens == "push":
        items = _arrived(engine, workflow_id, workflow.start.id)
    else:
        items = look_once(engine, workflow.start, {}).items
    new = 0
    with engine.services.store.write() as session:
        kept = [s.item for s in session.scalars(select(tables.Sample).where(tables.Sample.workflow_id == workflow_id))]
        named = {item.get("identity") for item in kept} - {None}
        for identity, item in reversed(items):
            if new >= count:
                break
            if identity not in named and item not in kept:
                add_sample(session, workflow_id, item, "start", engine.services.clock())
                new += 1
    engine.services.bus.say("workflow", id=workflow_id)
    return new


def _arrived(engine: Engine, workflow_id: int, start: str) -> list[tuple[str, dict[str, Any]]]:
    """What has been brought to a start so far: the items of its latest runs, newest last. Raises `OutsideError`."""
    with engine.services.store.read() as session:
        latest = select(tables.Run.id).where(tables.Run.workflow_id == workflow_id).order_by(tables.Run.id.desc()).limit(20)
        runs = list(session.scalars(latest))
    if not runs:
        raise OutsideError("Nothing has arrived here yet. Type a sample in, or try the start once.")
    return [(f"run:{run_id}", engine.live(run_id).state.values[start]) for run_id in reversed(runs)]


def add_sample(session: Session, workflow_id: int, item: dict[str, Any], source: str, now: float) -> tables.Sample:
    """Keep one item; it is shown while fewer than eight are."""
    shown = session.scalar(select(func.count()).where(tables.Sample.workflow_id == workflow_id, tables.Sample.shown.is_(True)))
    sample = tables.Sample(
        workflow_id=workflow_id,
        label=title_of(item),
        item=item,
        source=source,
        shown=(shown or 0) < MOST_SHOWN,
        created_at=now,
    )
    session.add(sample)
    session.flush()
    return sample


def remove(session: Session, workflow_id: int, now: float, who: str) -> None:
    """Delete a workflow that has never run. Raises `ValueError` for one that has."""
    record = session.get_one(tables.WorkflowRecord, workflow_id)
    if session.scalar(select(func.count()).where(tables.Run.workflow_id == workflow_id)):
        raise ValueError("This workflow has runs; what went out must stay traceable. Put it away instead.")
    audit(session, now, who, "deleted a workflow", record.name)
    session.execute(delete(tables.WorkflowRecord).where(tables.WorkflowRecord.id == workflow_id))
