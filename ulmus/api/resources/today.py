"""Today: the line of the day, what waits for a person, what went out, what was spent."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal

from flask_openapi3 import Tag
from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.pieces import Brief
from ...core.workflow import Workflow, World, check
from ...core.workflow.kinds import SendSpec, is_for_readers
from ...readmodels.models import TroubleView
from ...readmodels.pieces import kept_brief
from ...runtime.asking import QUESTION, let_out
from ...runtime.runs import runs_a_day
from ...runtime.services import world
from ...steps import kinds
from ...store import tables
from ..http.base import Reply, house, send
from ..http.describing import Part
from ..security.auth import needs
from .beginning import FirstSteps, first_steps
from .brands import BrandSpending, spending
from .connections import troubles_now

bp = Part("today", __name__, url_prefix="/api", abp_tags=[Tag(name="today")])
SLOW_START = 600
MOST = 50
"""So many of each sort wait on the page; how many more there are is said."""
MOST_MARKS = 200


class Mark(BaseModel):
    """A point on the line of the day."""

    at: float
    what: Literal["sent", "failed", "asked", "due"]
    label: str
    run: int | None = None
    workflow: int | None = None


class Waiting(BaseModel):
    """Something a person has to deal with; `link` is a place in the app."""

    what: Literal["approval", "leave", "question", "unsure", "late", "failed", "stuck", "held", "start", "runs", "gap"]
    title: str
    says: str
    from_: str
    at: float
    id: int
    text: str = ""
    piece: Brief | None = None
    cost: float = 0.0
    broken: list[str] = []


class WentOut(BaseModel):
    """A piece that went out, in brief."""

    id: int
    piece: Brief | None
    link: str
    channel: str
    workflow_name: str
    title: str
    run: int
    at: float
    approved_by: str = ""
    despite: list[str] = []


class TodayView(BaseModel):
    now: float
    midnight: float
    marks: list[Mark]
    waiting: list[Waiting]
    more_waiting: int = 0
    went_out: list[WentOut]
    sent_today: int
    spent_month: float
    spent_today: float
    budgets: list[BrandSpending] = []
    troubles: list[TroubleView] = []
    live: int
    first_steps: FirstSteps | None = None


@bp.get("/today", responses={200: TodayView})
@needs("reader")
def show() -> Reply:
    """The morning page."""
    now = house().services.clock()
    moment = dt.datetime.fromtimestamp(now)
    midnight = moment.replace(hour=0, minute=0, second=0, microsecond=0).timestamp()
    today = moment.date().isoformat()
    with house().services.store.read() as session:
        around = world(session)
        out = _went_out(session, around)
        sent_today = session.scalar(
            select(func.count()).where(
                tables.Piece.run_id.is_not(None),
                tables.Piece.state == "sent",
                tables.Piece.sent_at >= midnight,
                tables.Piece.kind.not_in(_inward()),
            )
        )
        spent = {
            since: session.scalar(select(func.sum(tables.Spending.cost)).where(tables.Spending.day.between(since, today)))
            for since in (f"{today[:7]}-01", today)
        }
        waiting, more = _waiting(session, around)
        view = TodayView(
            now=now,
            midnight=midnight,
            marks=_marks(session, midnight, now),
            waiting=waiting,
            more_waiting=more,
            went_out=out,
            sent_today=sent_today or 0,
            spent_month=spent[f"{today[:7]}-01"] or 0.0,
            spent_today=spent[today] or 0.0,
            budgets=[
                spending(session, brand, now)
                for brand in session.scalars(select(tables.Brand))
                if (brand.limits or {}).get("month_money")
            ],
            troubles=troubles_now(),
            first_steps=first_steps(session),
            live=session.scalar(select(func.count()).where(tables.WorkflowRecord.state == "live")) or 0,
        )
    return send(view)


def _inward() -> list[str]:
    """Kinds whose pieces are no text for readers: jobs that services were given."""
    return [kind.name for kind in kinds().values() if isinstance(kind, SendSpec) and not is_for_readers(kind)]


def _went_out(session: Session, around: World) -> list[WentOut]:
    rows = session.execute(
        select(tables.Piece, tables.Run, tables.WorkflowRecord.name)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .where(tables.Piece.state == "sent", tables.Piece.kind.not_in(_inward()))
        .order_by(tables.Piece.sent_at.desc())
        .limit(12)
    ).all()
    approvers = let_out(session, [run.id for _, run, _ in rows])
    return [
        WentOut(
            id=piece.id,
            piece=kept_brief(piece, around),
            link=str((piece.receipt or {}).get("link", "")),
            channel=around.connections[piece.connection].name if piece.connection in around.connections else piece.connection,
            workflow_name=name,
            title=run.title,
            run=run.id,
            at=piece.sent_at or piece.queued_at,
            approved_by=approvers.get(run.id, ("", []))[0],
            despite=approvers.get(run.id, ("", []))[1],
        )
        for piece, run, name in rows
    ]


def _at_their_limit(session: Session) -> list[Waiting]:
    """Workflows that have begun as many runs today as they may, while more are there to begin."""
    out = []
    started = select(tables.Start, tables.WorkflowRecord).join(
        tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id
    )
    for start, record in session.execute(started.where(tables.WorkflowRecord.state == "live")):
        queued = session.scalar(
            select(func.count()).where(
                tables.Run.workflow_id == record.id, tables.Run.state == "queued", tables.Run.parent_id.is_(None)
            )
        )
        if record.revision_id is None or not (queued or start.memory.get("over")):
            continue
        engine = house().engine
        workflow = engine.pages.get(session, record.revision_id).workflow
        full = bool(queued) and engine.runs.left_today(session, record.id, workflow, house().services.clock()) <= 0
        if start.memory.get("over") or full:
            waits = f"{queued} more wait. " if queued else "More are there. "
            says = f"It has begun {runs_a_day(workflow) or 'its limit of'} runs today. {waits}Run more today, or leave the rest for tomorrow."
            out.append(Waiting(what="runs", title=record.name, says=says, from_="Start", at=start.looked_at or 0, id=record.id))
    return out


def _marks(session: Session, midnight: float, now: float) -> list[Mark]:
    marks = [
        Mark(at=piece.sent_at or 0, what="sent", label=run.title, run=run.id)
        for piece, run in session.execute(
            select(tables.Piece, tables.Run)
            .join(tables.Run, tables.Run.id == tables.Piece.run_id)
            .where(tables.Piece.state == "sent", tables.Piece.sent_at >= midnight, tables.Piece.kind.not_in(_inward()))
            .order_by(tables.Piece.sent_at.desc())
            .limit(MOST_MARKS)
        )
    ]
    failed = (
        select(tables.Run)
        .where(tables.Run.state == "failed", tables.Run.changed_at >= midnight)
        .order_by(tables.Run.changed_at.desc())
        .limit(MOST_MARKS)
    )
    marks += [Mark(at=run.changed_at, what="failed", label=run.title, run=run.id) for run in session.scalars(failed)]
    asked = (
        select(tables.Approval, tables.Run)
        .join(tables.Run, tables.Run.id == tables.Approval.run_id)
        .where(tables.Approval.created_at >= midnight, tables.Approval.state == "open")
        .order_by(tables.Approval.id.desc())
        .limit(MOST_MARKS)
    )
    marks += [Mark(at=a.created_at, what="asked", label=run.title, run=run.id) for a, run in session.execute(asked)]
    goes = (
        select(tables.Piece, tables.Run)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .where(tables.Piece.state == "queued", tables.Piece.goes_at > now, tables.Piece.goes_at < midnight + 86400)
        .order_by(tables.Piece.goes_at)
        .limit(MOST_MARKS)
    )
    marks += [Mark(at=p.goes_at or 0, what="due", label=f"{run.title} goes out", run=run.id) for p, run in session.execute(goes)]
    due = (
        select(tables.Start, tables.WorkflowRecord)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
        .where(tables.WorkflowRecord.state == "live", tables.Start.next_at > now, tables.Start.next_at < midnight + 86400)
    )
    for start, record in session.execute(due):
        if float(record.document["start"].get("settings", {}).get("every", 900)) >= SLOW_START:
            marks.append(Mark(at=start.next_at, what="due", label=f"{record.name} looks again", workflow=record.id))
    return sorted(marks, key=lambda m: m.at)


def _waiting(session: Session, around: World) -> tuple[list[Waiting], int]:
    """In order of urgency: doubts, failures, approvals (oldest first), starts that cannot be looked at, gaps; and how many more
    doubts, failures and approvals there are than stand here."""
    out: list[Waiting] = []
    more = 0
    doubts = (
        select(tables.Piece, tables.Run)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .where(tables.Piece.state == "unsure")
        .order_by(tables.Piece.due_at)
        .limit(MOST)
    )
    more += session.scalar(select(func.count()).where(tables.Piece.state == "unsure")) or 0
    for piece, run in session.execute(doubts):
        out.append(
            Waiting(
                what="unsure",
                title=run.title,
                says=piece.message,
                from_=piece.connection,
                at=piece.queued_at,
                id=piece.id,
                piece=kept_brief(piece, around),
            )
        )
    late = (
        select(tables.Piece, tables.Run.title, tables.WorkflowRecord.name)
        .join(tables.Run, tables.Run.id == tables.Piece.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .where(tables.Piece.state == "held", tables.Piece.message.not_like("Held by%"))
        .order_by(tables.Piece.due_at)
        .limit(MOST)
    )
    for piece, title, name in session.execute(late):
        brief = kept_brief(piece, around)
        out.append(Waiting(what="late", title=title, says=piece.message, from_=name, at=piece.queued_at, id=piece.id, piece=brief))
        more += 1
    for state in ("failed", "stuck", "held"):
        more += (
            session.scalar(select(func.sum(tables.Tally.n)).where(tables.Tally.what == "runs", tables.Tally.state == state)) or 0
        )
    for run, name in _stopped(session):
        what: Any = run.state
        out.append(Waiting(what=what, title=run.title, says=run.message, from_=name, at=run.changed_at, id=run.id, cost=run.cost))
    asked = (
        select(tables.Approval, tables.Run.title, tables.WorkflowRecord.name)
        .join(tables.Run, tables.Run.id == tables.Approval.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .where(tables.Approval.state == "open")
        .order_by(tables.Approval.id)
        .limit(MOST)
    )
    more += session.scalar(select(func.count()).where(tables.Approval.state == "open")) or 0
    for approval, title, name in session.execute(asked):
        says = f"Round {approval.round}" if approval.round > 1 else ""
        out.append(
            Waiting(
                what={"": "leave", QUESTION: "question"}.get(approval.draft, "approval"),
                title=title,
                says=says,
                from_=name,
                at=approval.created_at,
                id=approval.id,
                text=approval.text,
                broken=approval.broken or [],
            )
        )
    more -= len(out)
    out += _at_their_limit(session)
    starts = (
        select(tables.Start, tables.WorkflowRecord)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
        .where(tables.WorkflowRecord.state == "live", tables.Start.failed.is_(True))
    )
    for start, record in session.execute(starts):
        out.append(Waiting(what="start", title=record.name, says=start.found, from_="Start", at=start.looked_at or 0, id=record.id))
    for record in session.scalars(select(tables.WorkflowRecord).where(tables.WorkflowRecord.state == "live")):
        problems = [p for p in check(Workflow.model_validate(record.document), kinds(), around) if p.severity == "error"]
        if problems:
            out.append(
                Waiting(what="gap", title=record.name, says=problems[0].message, from_="Page", at=record.updated_at, id=record.id)
            )
    return out, more


def _stopped(session: Session) -> list[tuple[tables.Run, str]]:
    """The runs that failed or pause, the latest first, with the names of their workflows."""
    found: list[tuple[tables.Run, str]] = []
    for state in ("failed", "stuck", "held"):
        latest = (
            select(tables.Run, tables.WorkflowRecord.name)
            .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
            .where(tables.Run.state == state)
            .order_by(tables.Run.changed_at.desc())
            .limit(MOST)
        )
        found += [(run, name) for run, name in session.execute(latest)]
    return sorted(found, key=lambda one: -one[0].changed_at)[:MOST]
