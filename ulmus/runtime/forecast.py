"""What a workflow will use in a month, worked out from its proofs and from how often its start comes."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from sqlalchemy import func, select

from ..core.cost import Usage
from ..core.recurrence import RecurrenceError, due, quiet_hours
from ..core.workflow import Line, Workflow, is_shared, points_at, takes_of
from ..core.workflow.plans import ClockPlan, SendPlan
from ..steps import kinds
from ..store import tables
from .dependencies import outermost
from .execution import asked_about, asks, plan_of
from .proofing import Column
from .services import Services
from .timing import room

MONTH = 30 * 86_400
MOST_TIMES = 1000
MOST_ASKED = 200


@dataclass(frozen=True)
class Places:
    """How many pieces a run puts on a channel's next free places, and how many places that has in thirty days."""

    channel: str
    pieces: int
    places: int


@dataclass(frozen=True)
class Quota:
    """What a run needs of a connection (`what`: calls, tokens or pieces), and the most that may have in thirty days."""

    connection: str
    what: str
    a_run: float
    most: int


@dataclass(frozen=True)
class Forecast:
    """For a run and for thirty days. `runs` is ``None`` where nothing tells how often the start comes; `how` says where
    the number is from; `unproofed` are lines that draft and have no proof yet. `sent_back` is how often a draft was sent back, for each
    that was decided, in the last live runs: the drafts that are asked about are counted so much oftener. `quotas` are those of the
    connections it uses, the tightest of each."""

    a_run: Usage
    runs: float | None
    how: str
    unproofed: list[str]
    sent_back: float = 0.0
    places: tuple[Places, ...] = ()
    quotas: tuple[Quota, ...] = ()


def forecast(services: Services, workflow_id: int, workflow: Workflow, columns: list[Column]) -> Forecast:
    """The forecast of the page as it stands."""
    total, unproofed = Usage(), []
    by_connection: dict[str, _Use] = {}
    inner = outermost(workflow)
    again, asked = _sent_back(services, workflow_id), asked_about(workflow)
    for line in workflow.every_step:
        if line.id in inner or line.muted:
            continue
        # Where runs are shared between takes, each of them writes as often as the others.
        writers = [line, *takes_of(line, kinds())] if is_shared(line, kinds()) else [line]
        made = [c.cells[writer.id].result for c in columns for writer in writers if writer.id in c.cells]
        spent = [Usage(**proof.usage) for proof in made if proof is not None]
        if spent:
            together = Usage()
            for usage in spent:
                together += usage
            a_time = _part(together, len(spent))
            factor = 1 + again if line.id in asked else 1.0
            total += _times(a_time, factor)
            for proof in made:
                if proof is not None:
                    _count(by_connection, workflow, line, proof, factor / len(spent))
        elif kinds()[line.kind].stage == "draft" or line.steps or line.lanes:
            unproofed.append(line.id)
    runs, how = _runs(services, workflow_id, workflow)
    return Forecast(total, runs, how, unproofed, again, _places(services, workflow), _quotas(services, by_connection))


@dataclass
class _Use:
    """What a run uses of a connection, on average."""

    calls: float = 0.0
    tokens: float = 0.0
    pieces: float = 0.0


def _count(found: dict[str, _Use], workflow: Workflow, line: Line, proof: tables.Proof, share: float) -> None:
    """Count what one proof used of the connections of its line, and of those inside it."""
    inside = proof.detail.get("places") or {}
    made = [(address.rpartition("/")[2].partition(":")[0], record) for address, record in inside.items()]
    for step, record in made or [(line.id, {"usage": proof.usage, "detail": proof.detail, "ok": proof.ok})]:
        own = workflow.line(step.partition("~")[0])
        if own is None or own.kind not in kinds():
            continue
        usage = Usage(**record["usage"])
        for key in asks(own):
            use = found.setdefault(key, _Use())
            use.calls += share * max(1, usage.calls)
            use.tokens += share * (usage.tokens_in + usage.tokens_out)
        if isinstance(plan_of(own), SendPlan) and (key := str(record["detail"].get("connection") or "")):
            readers = (record["detail"].get("piece") or {}).get("readers")
            found.setdefault(key, _Use()).pieces += share * (readers if isinstance(readers, int) else 1)


def _quotas(services: Services, found: dict[str, _Use]) -> tuple[Quota, ...]:
    """What a run needs, with the tightest quota of each kind."""
    out = []
    with services.store.read() as session:
        for key, use in found.items():
            record = session.get(tables.Connection, key)
            for what in ("calls", "tokens", "pieces"):
                settings = record.settings if record is not None else {}
                day, month = settings.get(f"{what}_a_day"), settings.get(f"{what}_a_month")
                most = min((n for n in (day and int(day) * 30, month and int(month)) if n), default=0)
                if most and record is not None and getattr(use, what):
                    out.append(Quota(record.name, what, getattr(use, what), most))
    return tuple(out)


def _sent_back(services: Services, workflow_id: int) -> float:
    """How often a draft of the workflow was sent back, for each that was decided in the end."""
    approval = tables.Approval
    latest = (
        select(approval.state)
        .join(tables.Run, tables.Run.id == approval.run_id)
        .where(tables.Run.workflow_id == workflow_id, approval.draft != "", approval.state.in_(("back", "approve", "decline")))
        .order_by(approval.id.desc())
        .limit(MOST_ASKED)
    )
    with services.store.read() as session:
        states = list(session.scalars(latest))
    decided = len(states) - states.count("back")
    return states.count("back") / decided if decided else 0.0


def _places(services: Services, workflow: Workflow) -> tuple[Places, ...]:
    """The channels on whose free places the page puts pieces."""
    wanted: dict[str, int] = {}
    for placed in workflow.walk():
        plan = plan_of(placed.line) if placed.line.kind in kinds() and not placed.muted else None
        if isinstance(plan, SendPlan) and plan.goes == "place":
            for _, key in points_at(kinds()[placed.line.kind], placed.line.settings, "connection"):
                wanted[key] = wanted.get(key, 0) + 1
    out, now = [], services.clock()
    with services.store.read() as session:
        for key, pieces in wanted.items():
            table, channel = session.get(tables.Timetable, key), session.get(tables.Connection, key)
            if channel is not None:
                out.append(Places(channel.name, pieces, room(table, now, now + MONTH) if table is not None else 0))
    return tuple(out)


def _times(usage: Usage, factor: float) -> Usage:
    return Usage(
        calls=round(usage.calls * factor),
        tokens_in=round(usage.tokens_in * factor),
        tokens_out=round(usage.tokens_out * factor),
        cost=usage.cost * factor,
        seconds=usage.seconds * factor,
    )


def _part(usage: Usage, count: int) -> Usage:
    return Usage(
        calls=round(usage.calls / count),
        tokens_in=round(usage.tokens_in / count),
        tokens_out=round(usage.tokens_out / count),
        cost=usage.cost / count,
        seconds=usage.seconds / count,
    )


def _runs(services: Services, workflow_id: int, workflow: Workflow) -> tuple[float | None, str]:
    now = services.clock()
    kind = kinds().get(workflow.start.kind)
    plan = kind.plan_of(workflow.start.settings) if kind is not None else None
    if isinstance(plan, ClockPlan):
        moment = dt.datetime.fromtimestamp(now, dt.UTC)
        try:
            quiet = quiet_hours(plan.quiet) if plan.quiet else None
            times = due(plan.rule, plan.zone, moment, MOST_TIMES, quiet)
        except RecurrenceError:
            return None, ""
        within = sum(1 for t in times if t.timestamp() <= now + MONTH)
        if within == MOST_TIMES:
            within = round(MOST_TIMES * MONTH / (times[-1].timestamp() - now))
        return float(within * plan.count), "by its schedule"
    with services.store.read() as session:
        mine = tables.Run.workflow_id == workflow_id
        first = session.scalar(select(func.min(tables.Run.started_at)).where(mine))
        count = session.scalar(select(func.count()).where(mine, tables.Run.started_at > now - MONTH)) or 0
    if first is None or not count:
        return None, "It has not run yet, so how often is for you to say."
    days = min(30.0, max(1.0, (now - first) / 86_400))
    return count * 30 / days, f"by its last {count} runs"
