"""Runs begin and end: limits on how many at a time and on money, rows marked used, runs that began other runs told."""

from __future__ import annotations

import datetime as dt
from typing import TYPE_CHECKING, Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.workflow import Limits, Workflow
from ..store import tables
from . import links
from .journal import Live, Writing
from .services import brand_values, run_values

if TYPE_CHECKING:
    from .engine import Engine

DEEPEST = 8


class Beginning:
    """What belongs to a run's two ends."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._spending: dict[tuple[str, int], float] = {}

    # -- beginning ----------------------------------------------------------------------------------

    def begin(
        self,
        session: Session,
        workflow_id: int,
        item: dict[str, Any],
        title: str,
        parent: tuple[int, str] | None = None,
        depth: int = 0,
        identity: str | None = None,
    ) -> int:
        """Begin a run within `session`'s transaction. `parent` is the run and address that asked for it;
        `identity` what the start knows its item by."""
        services = self.engine.services
        record = session.get_one(tables.WorkflowRecord, workflow_id)
        assert record.revision_id is not None
        limits = self.engine.pages.get(session, record.revision_id).workflow.limits
        now = services.clock()
        number = (session.scalar(select(func.count()).where(tables.Run.workflow_id == workflow_id)) or 0) + 1
        state = self._room(session, workflow_id, limits)
        run = tables.Run(
            workflow_id=workflow_id,
            revision_id=record.revision_id,
            title=title[:300],
            state="queued" if state == "queue" else "running",
            started_at=now,
            changed_at=now,
            parent_id=parent[0] if parent else None,
            parent_address=parent[1] if parent else "",
            depth=depth,
        )
        session.add(run)
        session.flush()
        link = f"{services.public_url}/call/run/{links.sign_key(services.sealer.key, 'run', run.id)}"
        context = {"brand": brand_values(session, record.brand), "run": run_values(now, number) | {"link": link}}
        events: list[flow.Event] = [flow.Begun(at=now, item=item, context=context)]
        if state == "skip":
            words = "Passed over: another run of this workflow was under way."
            events.append(flow.Ended(at=now, outcome="skipped", message=words))
            run.state, run.message, run.ended_at = "skipped", words, now
        for seq, event in enumerate(events):
            session.add(tables.JournalEntry(run_id=run.id, seq=seq, event=flow.dump_event(event)))
        if identity is not None:
            session.add(tables.Seen(workflow_id=workflow_id, identity=identity, run_id=run.id, at=now))
        session.flush()
        return run.id

    def _room(self, session: Session, workflow_id: int, limits: Limits) -> str:
        """What becomes of one more run: ``""``, or ``queue`` or ``skip``; where it replaces others, they are cancelled."""
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
        now = self.engine.services.clock()
        for run_id in under_way[: len(under_way) - limits.at_once + 1]:
            self.engine.post_later(run_id, flow.Cancelled(at=now, by="a newer run"))
        return ""

    # -- ending -------------------------------------------------------------------------------------

    def ended(self, writing: Writing, live: Live) -> None:
        """What follows in the database from a run's end; harmless when done again."""
        session, engine = writing.session, self.engine
        run_id, outcome = live.run_id, live.state.outcome
        session.execute(
            update(tables.Approval).where(tables.Approval.run_id == run_id, tables.Approval.state == "open").values(state="void")
        )
        session.execute(
            update(tables.Piece)
            .where(tables.Piece.run_id == run_id, tables.Piece.state == "queued")
            .values(state="failed", message="The run ended before this went out.")
        )
        if live.workflow.start.kind == "sheet_row":
            self._row(session, live, writing.now)
        if live.workflow.limits.at_once is not None:
            self._promote(writing, live)
        if live.parent is not None and _is_latest(session, run_id, *live.parent):
            parent, address = live.parent
            event = _told(writing.now, address, live)
            writing.then.append(lambda: engine.post(parent, event))
        if outcome != "cancelled":
            writing.then.append(engine.polling.hurry)

    def _row(self, session: Session, live: Live, now: float) -> None:
        """Mark the row used, or let it go where the run came to nothing."""
        seen = session.scalar(select(tables.Seen).where(tables.Seen.run_id == live.run_id, tables.Seen.identity.startswith("row:")))
        if seen is None:
            return
        row = session.get(tables.SheetRow, int(seen.identity.split(":")[1]))
        used, outcome = str(live.workflow.start.settings.get("used", "")), live.state.outcome
        if outcome == "cancelled":
            session.delete(seen)
        elif outcome in ("done", "declined", "skipped") and row is not None and used:
            day = dt.datetime.fromtimestamp(now).date().isoformat()
            row.cells = {**row.cells, used: day if outcome == "done" else f"{outcome} {day}".replace("skipped", "passed over")}
            self.engine.services.bus.say("sheet", key=row.sheet)

    def _promote(self, writing: Writing, live: Live) -> None:
        """Have the oldest queued run take the place that is free now."""
        session, limits = writing.session, live.workflow.limits
        writing.flush()
        under_way = session.scalar(
            select(func.count()).where(
                tables.Run.workflow_id == live.workflow_id, tables.Run.ended_at.is_(None), tables.Run.state != "queued"
            )
        )
        if under_way is None or limits.at_once is None or under_way - (0 if live.state.ended else 1) >= limits.at_once:
            return
        queued = select(tables.Run.id).where(tables.Run.workflow_id == live.workflow_id, tables.Run.state == "queued")
        found = session.scalar(queued.order_by(tables.Run.id).limit(1))
        if found is not None:
            session.execute(update(tables.Run).where(tables.Run.id == found).values(state="running"))
            writing.then.append(lambda: self.engine.settle([found]))

    def recover(self) -> None:
        """Tell runs of what the runs they began have come to, where the process died in between."""
        with self.engine.services.store.read() as session:
            parent = tables.Run.__table__.alias("parent")
            rows = session.execute(
                select(tables.Run.id, tables.Run.parent_id, tables.Run.parent_address)
                .join(parent, parent.c.id == tables.Run.parent_id)
                .where(tables.Run.ended_at.is_not(None), parent.c.ended_at.is_(None))
            ).all()
            latest = [row for row in rows if _is_latest(session, *row)]
        for run_id, parent_id, address in latest:
            live = self.engine.live(run_id)
            self.engine.post(parent_id, _told(self.engine.services.clock(), address, live))

    # -- money --------------------------------------------------------------------------------------

    def read_spending(self) -> None:
        """What this month has cost so far."""
        month = dt.datetime.fromtimestamp(self.engine.services.clock()).strftime("%Y-%m")
        with self.engine.services.store.read() as session:
            rows = session.scalars(select(tables.Spending).where(tables.Spending.day.startswith(month)))
            self._spending = {(r.day, r.workflow_id): r.cost for r in rows}

    def spent(self, more: dict[tuple[str, int], Usage]) -> None:
        """Add what was just written down."""
        for place, usage in more.items():
            self._spending[place] = self._spending.get(place, 0.0) + usage.cost

    def over_budget(self, session: Session, live: Live) -> str:
        """Which limit on money per day or month is reached, in words, or nothing."""
        if live.state.granted.get("budget"):
            return ""
        today = dt.datetime.fromtimestamp(self.engine.services.clock()).date().isoformat()
        limits = live.workflow.limits
        own = {live.workflow_id}
        reached = self._reached(today, own, limits.day_money, limits.month_money)
        if reached:
            return f"This workflow has reached its limit of {reached}. Let the run go on, or cancel it."
        if live.workflow.brand is None:
            return ""
        brand = session.get(tables.Brand, live.workflow.brand)
        if brand is None or not brand.limits:
            return ""
        of_brand = set(session.scalars(select(tables.WorkflowRecord.id).where(tables.WorkflowRecord.brand == brand.key)))
        reached = self._reached(today, of_brand, brand.limits.get("day_money"), brand.limits.get("month_money"))
        return f"{brand.name} has reached its limit of {reached}. Let the run go on, or cancel it." if reached else ""

    def _reached(self, today: str, workflows: set[int], day: float | None, month: float | None) -> str:
        for limit, since, word in ((day, today, "a day"), (month, today[:7], "a month")):
            if limit is not None:
                spent = sum(c for (d, w), c in self._spending.items() if w in workflows and d.startswith(since))
                if spent >= limit:
                    return f"{limit:g} {word} ({spent:.4f} spent)"
        return ""


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


def _told(now: float, address: str, live: Live) -> flow.Event:
    """What the run that asked for this one is told."""
    if live.state.outcome in ("done", "skipped"):
        return flow.Done(at=now, address=address, output={**result_of(live.workflow, live.state), "run": live.run_id})
    words = {"declined": "was declined", "cancelled": "was cancelled"}.get(live.state.outcome or "", "failed")
    message = f"The run of “{live.workflow.name}” {words}. {live.state.message}".strip()
    return flow.Failed(at=now, address=address, message=message)
