"""Handlers of what arranges other lines: blocks are opened and checked, a run waits, listens or stops. All but listening is worked
out from the line and the values alone, the same live and in proofs."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import select

from ...core import flow
from ...core.cost import Usage
from ...core.slots import all_items, fits, items_of, parse, render, value_in
from ...core.workflow import Line, Workflow, points_at
from ...core.workflow.plans import DestinationsPlan, EachPlan, ForCall, ForkPlan, PerformPlan, RepeatPlan, StopPlan, WaitPlan
from ...steps import kinds
from ...steps.api import Context
from ...store import tables
from .. import execution, results
from ..journal import Live
from ..timing import moment
from ..transaction import Transaction
from .base import FromValues, Gave, Handler, NameOf


class Opening(FromValues):
    """A block is opened."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float, names: NameOf) -> flow.Opened:
        match execution.plan_of(line):
            case EachPlan(items=text):
                found = all_items(value_in(text, values))
                return flow.Opened(at=at, address=address, items=items(line, values), found=len(found))
            case DestinationsPlan():
                going = [n for n, one in enumerate(line.steps, start=1) if not one.muted]
                return flow.Opened(at=at, address=address, items=[_to(one, names) for one in line.steps], lanes=going)
            case ForkPlan():
                return flow.Opened(at=at, address=address, lanes=lanes(line, values))
        return flow.Opened(at=at, address=address)


class Checking(FromValues):
    """A repeat's condition after a round."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float, names: NameOf) -> flow.Checked:
        plan = execution.plan_of(line)
        assert isinstance(plan, RepeatPlan)
        return flow.Checked(at=at, address=address, holds=fits(plan.until, values))


class Resting(FromValues):
    """A wait: until when, or for what."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float, names: NameOf) -> flow.Resting:
        due, listening = rest(line, values, at)
        return flow.Resting(at=at, address=address, due=due, listening=listening)

    def commit(self, tx: Transaction, live: Live, decision: flow.Rest, prepared: None) -> list[flow.Event]:
        plan = execution.plan_of(live.line(decision.step))
        if isinstance(plan, PerformPlan) and plan.later is not None:
            # So long after it went out, however late this line comes to it; what never went out is not waited for.
            of = render(parse(plan.later.of), live.state.scope(decision.address)).text
            went = results.went_at(tx.session, of)
            due = tx.now if went is None else max(tx.now, went + plan.later.seconds)
            return [flow.Resting(at=tx.now, address=decision.address, due=due)]
        return super().commit(tx, live, decision, prepared)

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        rest(line, context.values, 0.0)
        return {"came": "yes", "item": {}}, {"would": "wait"}, Usage()


class Listening(Handler):
    """A wait for a call: one that came before is taken at once."""

    def commit(self, tx: Transaction, live: Live, decision: flow.Listen, prepared: None) -> list[flow.Event]:
        plan = execution.plan_of(live.line(decision.step))
        if not isinstance(plan, WaitPlan) or not isinstance(plan.awaited, ForCall):
            return []
        arrivals = select(tables.Arrival).where(tables.Arrival.run_id == live.run_id, tables.Arrival.taken.is_(False))
        arrival = tx.session.scalar(arrivals.order_by(tables.Arrival.id).limit(1))
        if arrival is None:
            return []
        arrival.taken = True
        return [flow.Heard(at=tx.now, address=decision.address, item=arrival.item)]


class Stopping(FromValues):
    """The page ends an item or a run by its own word."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float, names: NameOf) -> flow.Stopped:
        plan, words = self._words(line, values)
        message = words.strip() or ("" if plan.well else "Stopped.")
        return flow.Stopped(at=at, address=address, well=plan.well, whole=plan.whole, message=message)

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        plan, words = self._words(line, context.values)
        return {"words": words}, {"would": "stop", "ended": (words or "Stopped here.") if plan.well else ""}, Usage()

    @staticmethod
    def _words(line: Line, values: Mapping[str, Any]) -> tuple[StopPlan, str]:
        plan = execution.plan_of(line)
        assert isinstance(plan, StopPlan)
        return plan, render(parse(plan.words), values).text


def _to(line: Line, names: NameOf) -> str:
    """What a destination is called: as its connection is, or as its line."""
    keys = [key for _, key in points_at(kinds()[line.kind], line.settings, "connection") if key]
    return names(keys[0]) if keys else line.id


def items(line: Line, values: Mapping[str, Any]) -> list[Any]:
    """What a *for each* goes through; nothing for other blocks."""
    plan = execution.plan_of(line)
    return items_of(value_in(plan.items, values), plan.most) if isinstance(plan, EachPlan) else []


def lanes(line: Line, values: Mapping[str, Any]) -> list[int]:
    """The numbers of a fork's lanes that fit, from 1, muted ones left out; those without a condition are for the rest."""
    plan = execution.plan_of(line)
    if not isinstance(plan, ForkPlan):
        return []
    fitting = [n for n, lane in enumerate(line.lanes, start=1) if lane.when.strip() and fits(lane.when, values)]
    chosen = fitting or [n for n, lane in enumerate(line.lanes, start=1) if not lane.when.strip()]
    return [n for n in (chosen if plan.every else chosen[:1]) if not line.lanes[n - 1].muted]


def rest(line: Line, values: Mapping[str, Any], now: float) -> tuple[float | None, bool]:
    """Until when a wait waits, and whether it listens for something. Raises `OutsideError`."""
    execution.read(line)
    plan = execution.plan_of(line)
    assert isinstance(plan, WaitPlan)
    if plan.seconds is not None:
        return now + plan.seconds, plan.awaited is not None
    text = render(parse(plan.moment), values).text.strip()
    return max(moment(text, values, now, "to wait for"), now), False
