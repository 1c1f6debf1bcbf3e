"""What a workflow will use in a month, worked out from its proofs and from how often its start comes."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from sqlalchemy import func, select

from ..core.cost import Usage
from ..core.recurrence import RecurrenceError, due, quiet_hours
from ..core.workflow import Workflow, is_shared, takes_of
from ..core.workflow.plans import ClockPlan
from ..steps import kinds
from ..store import tables
from .dependencies import outermost
from .proofing import Column
from .services import Services

MONTH = 30 * 86_400
MOST_TIMES = 1000


@dataclass(frozen=True)
class Forecast:
    """For a run and for thirty days. `runs` is ``None`` where nothing tells how often the start comes; `how` says where
    the number is from; `unproofed` are lines that draft and have no proof yet."""

    a_run: Usage
    runs: float | None
    how: str
    unproofed: list[str]


def forecast(services: Services, workflow_id: int, workflow: Workflow, columns: list[Column]) -> Forecast:
    """The forecast of the page as it stands."""
    total, unproofed = Usage(), []
    inner = outermost(workflow)
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
            total += _part(together, len(spent))
        elif kinds()[line.kind].stage == "draft" or line.steps or line.lanes:
            unproofed.append(line.id)
    runs, how = _runs(services, workflow_id, workflow)
    return Forecast(total, runs, how, unproofed)


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
