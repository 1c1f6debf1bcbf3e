"""Runs begin and end: limits on how many at a time and a day, rows marked used, runs that began other runs told."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from itertools import groupby
from operator import itemgetter
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from ..core import flow
from ..core.values import plain_object, text
from ..core.workflow import Limits, Workflow
from ..core.workflow.kinds import StartSpec
from ..core.workflow.plans import ClockPlan
from ..steps import kinds
from ..store import tables
from . import execution, hiding, links, records
from .journal import Live, Pages
from .ports import Events
from .services import Services, brand_values, run_values
from .transaction import Transaction

RUNS_A_DAY = 300
"""How many runs a day a start begins that could feed itself (rows, other workflows' runs, calls), where nothing else is set."""


class Runs:
    """What belongs to a run's two ends."""

    def __init__(self, services: Services, pages: Pages, events: Events) -> None:
        self.services = services
        self.pages = pages
        self.events = events

    # -- beginning ----------------------------------------------------------------------------------

    def push(
        self, workflow_id: int, item: dict[str, Any], identity: str | None = None, also: Sequence[str] = (), again: bool = False
    ) -> int | None:
        """Begin a run with an item that was brought: a form, a call, a person. ``None`` where `identity`, or another name the item
        is `also` known by, was here before (unless it is to be carried out `again`).

        Raises `ValueError` where the workflow is not live, `NotPlain` where the item cannot be kept.
        """
        item = plain_object(item)
        with self.services.transaction() as tx:
            record = tx.session.get(tables.WorkflowRecord, workflow_id)
            if record is None or record.state != "live" or record.revision_id is None:
                raise ValueError("This workflow is not live at the moment.")
            names = [name for name in (identity, *also) if name is not None]
            known = [one for name in names for one in hiding.known_as(tx.session, name)]
            if any(tx.session.get(tables.Seen, (workflow_id, name)) is not None for name in known) and not again:
                return None
            run_id = self.begin(tx, workflow_id, item, title_of(item), identity=identity)
            for name in also:
                tx.session.merge(tables.Seen(workflow_id=workflow_id, identity=name, run_id=run_id, at=tx.now))
            start = tx.session.get(tables.Start, workflow_id)
            if start is not None:
                start.looked_at = tx.now
        return run_id

    def begin(
        self,
        tx: Transaction,
        workflow_id: int,
        item: dict[str, Any],
        title: str,
        parent: tuple[int, str] | None = None,
        depth: int = 0,
        identity: str | None = None,
    ) -> int:
        """Begin a run within `tx`; it goes on once that is committed. `parent` is the run and address that asked for it;
        `identity` what the start knows its item by."""
        session, now = tx.session, tx.now
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        assert record.revision_id is not None
        workflow = self.pages.get(session, record.revision_id).workflow
        number = sum(counted(session, "runs", workflow_id).values()) + 1
        state = self._room(tx, workflow_id, workflow, parent is None)
        run = tables.Run(
            workflow_id=workflow_id,
            revision_id=record.revision_id,
            title=text(title)[:300],
            state="queued" if state == "queue" else "running",
            started_at=now,
            changed_at=now,
            parent_id=parent[0] if parent else None,
            parent_address=parent[1] if parent else "",
            depth=depth,
        )
        session.add(run)
        session.flush()
        link = f"{self.services.public_url}/call/run/{links.sign_key(self.services.sealer.key, 'run', run.id)}"
        context = {
            "brand": brand_values(session, record.brand),
            "run": run_values(now, number, execution.zone_of_page(workflow)) | {"link": link},
        }
        events: list[flow.Event] = [flow.Begun(at=now, item=item, context=context, rules=flow.RULES)]
        if state == "skip":
            words = "Passed over: another run of this workflow was under way."
            events.append(flow.Ended(at=now, outcome="skipped", message=words))
            run.state, run.message, run.ended_at = "skipped", words, now
        for seq, event in enumerate(events):
            tx.append(run.id, seq, flow.write_event(event))
        if identity is not None:
            session.merge(tables.Seen(workflow_id=workflow_id, identity=identity, run_id=run.id, at=now))
        session.flush()
        tx.flush()
        if state == "":
            tx.then(lambda: self.events.wake(run.id))
        return run.id

    def _room(self, tx: Transaction, workflow_id: int, workflow: Workflow, asked_by_start: bool) -> str:
        """What becomes of one more run: ``""``, or ``queue`` or ``skip``; where it replaces others, they are cancelled."""
        session, limits = tx.session, workflow.limits
        if asked_by_start and self.left_today(session, workflow_id, workflow, tx.now) <= 0:
            return "queue"
        if limits.at_once is None:
            return ""
        open_ = select(tables.Run.id).where(
            tables.Run.workflow_id == workflow_id, tables.Run.ended_at.is_(None), tables.Run.state != "queued"
        )
        under_way = list(session.scalars(open_.order_by(tables.Run.id)))
        if len(under_way) < limits.at_once:
            return ""
        if limits.when_full != "replace":
            return limits.when_full
        for run_id in under_way[: len(under_way) - limits.at_once + 1]:
            event = flow.Cancelled(at=tx.now, by="a newer run")
            tx.then(lambda run_id=run_id, event=event: self.events.post(run_id, event))  # type: ignore[misc]
        return ""

    def begun_by(self, workflow_id: int, identity: str) -> int | None:
        """The run that was begun with this item, where one was."""
        with self.services.store.read() as session:
            names = hiding.known_as(session, identity)
            one = tables.Seen
            return session.scalar(select(one.run_id).where(one.workflow_id == workflow_id, one.identity.in_(names)))

    # -- so many a day ------------------------------------------------------------------------------

    def left_today(self, session: Session, workflow_id: int, workflow: Workflow, now: float) -> float:
        """How many runs the start may still begin today; without end where there is no limit."""
        most = runs_a_day(workflow)
        if most is None:
            return float("inf")
        start = session.get(tables.Start, workflow_id)
        granted = dict((start.memory or {}).get("granted", {})) if start is not None else {}
        today = dt.datetime.fromtimestamp(now).replace(hour=0, minute=0, second=0, microsecond=0)
        begun = session.scalar(
            select(func.count()).where(
                tables.Run.workflow_id == workflow_id,
                tables.Run.started_at >= today.timestamp(),
                tables.Run.state != "queued",
                tables.Run.parent_id.is_(None),
            )
        )
        more = int(granted.get("more", 0)) if granted.get("day") == today.date().isoformat() else 0
        return most + more - (begun or 0)

    def grant_today(self, workflow_id: int) -> None:
        """Let a workflow that reached its limit of runs go on today, by as many once more; what waits goes on."""
        with self.services.transaction() as tx:
            record = tx.session.get_one(tables.WorkflowRecord, workflow_id)
            assert record.revision_id is not None
            most = runs_a_day(self.pages.get(tx.session, record.revision_id).workflow)
            start = tx.session.get(tables.Start, workflow_id)
            if start is None or most is None:
                return
            day = dt.datetime.fromtimestamp(tx.now).date().isoformat()
            before = dict(start.memory.get("granted", {}))
            more = (int(before.get("more", 0)) if before.get("day") == day else 0) + most
            start.memory = {**{k: v for k, v in start.memory.items() if k != "over"}, "granted": {"day": day, "more": more}}
            start.next_at = tx.now
            tx.session.flush()
            self._promote(tx, workflow_id, record.revision_id)

    # -- ending -------------------------------------------------------------------------------------

    def ended(self, tx: Transaction, live: Live) -> None:
        """What follows in the database from a run's end; harmless when done again."""
        session, run_id = tx.session, live.run_id
        session.execute(
            update(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open").values(state="void")
        )
        session.execute(
            update(tables.Piece)
            .where(tables.Piece.run_id == run_id, tables.Piece.state.in_(("queued", "going", "held")))
            .values(state="failed", message="The run ended before this went out, or before all of it did.")
        )
        start = kinds().get(live.workflow.start.kind)
        plan = start.plan_of(live.workflow.start.settings) if start is not None else None
        if isinstance(plan, ClockPlan) and plan.used:
            self._row(tx, live, plan.used)
        waiting = select(tables.Run.id).where(tables.Run.workflow_id == live.workflow_id, tables.Run.state == "queued").limit(1)
        if session.scalar(waiting) is not None:
            self._promote(tx, live.workflow_id, session.get_one(tables.Run, run_id).revision_id)
        if live.parent is not None and _is_latest(session, run_id, *live.parent):
            parent, address = live.parent
            event = _told(tx.now, address, live)
            tx.then(lambda: self.events.post(parent, event))

    def _row(self, tx: Transaction, live: Live, used: str) -> None:
        """Mark the row used where the run ended well; say in its place how else it ended; let it go where it was cancelled."""
        session = tx.session
        seen = session.scalar(select(tables.Seen).where(tables.Seen.run_id == live.run_id, tables.Seen.identity.startswith("row:")))
        if seen is None:
            return
        row, outcome = session.get(tables.SheetRow, int(seen.identity.split(":")[1])), live.state.outcome
        if outcome == "cancelled":
            session.delete(seen)
        elif row is not None:
            day = dt.datetime.fromtimestamp(tx.now).date().isoformat()
            words = {"done": day, "skipped": f"passed over {day}"}.get(str(outcome), f"{outcome} {day}")
            by = records.By(tx.now, run=live.run_id)
            records.note(session, row.sheet, row.id, "written", {used: row.cells.get(used, "")}, {used: words}, by, row.position)
            row.cells = {**row.cells, used: words}
            tx.publish("sheet", key=row.sheet)

    def _promote(self, tx: Transaction, workflow_id: int, revision_id: int) -> None:
        """Have the oldest queued runs take the places that are free now."""
        session = tx.session
        tx.flush()
        workflow = self.pages.get(session, revision_id).workflow
        limits: Limits = workflow.limits
        free = self.left_today(session, workflow_id, workflow, tx.now)
        if limits.at_once is not None:
            open_ = select(func.count()).where(
                tables.Run.workflow_id == workflow_id, tables.Run.ended_at.is_(None), tables.Run.state != "queued"
            )
            free = min(free, limits.at_once - (session.scalar(open_) or 0))
        if free < 1:
            return
        queued = select(tables.Run.id).where(tables.Run.workflow_id == workflow_id, tables.Run.state == "queued")
        for found in session.scalars(queued.order_by(tables.Run.id).limit(int(min(free, 1000)))).all():
            session.execute(update(tables.Run).where(tables.Run.id == found).values(state="running", started_at=tx.now))
            tx.then(lambda found=found: self.events.wake(found))  # type: ignore[misc]

    def tick(self, now: float) -> None:
        """A new day: runs that waited for it begin."""
        with self.services.store.read() as session:
            waiting = list(session.scalars(select(tables.Run.workflow_id).where(tables.Run.state == "queued").distinct()))
        for workflow_id in waiting:
            with self.services.transaction() as tx:
                record = tx.session.get_one(tables.WorkflowRecord, workflow_id)
                if record.revision_id is not None:
                    self._promote(tx, workflow_id, record.revision_id)

    def recover(self) -> None:
        """Have open runs go on in which something was to be done; tell runs of what the runs they began have come to, where the
        process died in between. A run that only waits is loaded when what it waits for comes."""
        with self.services.store.read() as session:
            open_ = select(tables.Run.id).where(
                tables.Run.ended_at.is_(None), tables.Run.idle.is_(False), tables.Run.state != "queued"
            )
            open_runs = list(session.scalars(open_.order_by(tables.Run.id)))
            # One that waits for a time and has none noted: its wait is noted anew.
            timer = select(tables.Timer.run_id).where(tables.Timer.run_id == tables.Run.id).exists()
            waits = tables.Run.ended_at.is_(None), tables.Run.idle.is_(True), tables.Run.state.in_(("waiting", "resting"))
            open_runs += session.scalars(select(tables.Run.id).where(*waits, ~timer))
            parent = tables.Run.__table__.alias("parent")
            rows = session.execute(
                select(tables.Run.id, tables.Run.parent_id, tables.Run.parent_address)
                .join(parent, parent.c.id == tables.Run.parent_id)
                .where(tables.Run.ended_at.is_not(None), parent.c.ended_at.is_(None))
            ).all()
            latest = [(run, parent_id, at) for run, parent_id, at in rows if parent_id and _is_latest(session, run, parent_id, at)]
        # Only a place that waits for it is told: where it was taken up again before the end, the new run is not begun yet.
        for parent_id, children in groupby(sorted(latest, key=itemgetter(1)), key=itemgetter(1)):
            at = self.events.live(parent_id).state.at
            for run_id, _, address in children:
                if address in at and isinstance(at[address].phase, flow.phases.Called):
                    self.events.post(parent_id, _told(self.services.clock(), address, self.events.live(run_id)))
        self.events.wake_all(open_runs)


def counted(session: Session, what: str, of: Any) -> dict[str, int]:
    """How many there are by state: ``runs`` of a workflow, ``rows`` of a sheet (under ``""``)."""
    found = session.execute(select(tables.Tally.state, tables.Tally.n).where(tables.Tally.what == what, tables.Tally.of == str(of)))
    return {state: n for state, n in found if n > 0}


def last_run(session: Session, workflow_id: int) -> float | None:
    """When the latest run of a workflow began."""
    return session.scalar(select(func.max(tables.Run.started_at)).where(tables.Run.workflow_id == workflow_id))


def live_pages(session: Session) -> list[tuple[int, str, Workflow]]:
    """The workflows that are live: number, name, and the page as it went live, whatever was changed in it since."""
    record, revision = tables.WorkflowRecord, tables.Revision
    found = select(record.id, record.name, revision.document).join(revision, revision.id == record.revision_id)
    return [(n, name, Workflow.model_validate(page)) for n, name, page in session.execute(found.where(record.state == "live"))]


def runs_a_day(workflow: Workflow) -> int | None:
    """How many runs a day the start of a page may begin; ``None`` where there is no limit."""
    if workflow.limits.day_runs is not None:
        return workflow.limits.day_runs
    kind = kinds().get(workflow.start.kind)
    return RUNS_A_DAY if isinstance(kind, StartSpec) and kind.can_feed_itself else None


def _is_latest(session: Session, run_id: int, parent: int, address: str) -> bool:
    """Whether no later run was begun from the same place: taken up again, a run waits for the new one only."""
    place = select(func.max(tables.Run.id)).where(tables.Run.parent_id == parent, tables.Run.parent_address == address)
    return session.scalar(place) == run_id


def result_of(workflow: Workflow, state: flow.State) -> dict[str, Any]:
    """What a run gave: its last text, and every step's values."""
    steps = [line.id for line in workflow.every_step]
    values = {name: state.values[name] for name in steps if name in state.values}
    texts = [v["text"] for v in values.values() if isinstance(v, dict) and isinstance(v.get("text"), str) and v["text"]]
    return {"text": texts[-1] if texts else "", "values": values}


def title_of(item: dict[str, Any]) -> str:
    """What a run or sample made from this item is called."""
    found = item.get("title") or item.get("link") or item.get("identity")
    if not found:
        found = next((v for v in item.values() if isinstance(v, str) and v.strip()), "Item")
    return text(" ".join(str(found).split())[:300])


def _told(now: float, address: str, live: Live) -> flow.Event:
    """What the run that asked for this one is told."""
    if live.state.outcome in ("done", "skipped"):
        return flow.Done(at=now, address=address, output={**result_of(live.workflow, live.state), "run": live.run_id})
    words = {"declined": "was declined", "cancelled": "was cancelled"}.get(live.state.outcome or "", "failed")
    message = f"The run of “{live.workflow.name}” {words}. {live.state.message}".strip()
    return flow.Failed(at=now, address=address, message=message)
