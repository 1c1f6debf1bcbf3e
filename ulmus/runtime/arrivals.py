"""Calls for a run that waits, or will wait, for one: kept until a wait takes them."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from ..core import flow
from ..core.values import plain_object
from ..core.workflow.plans import ForCall, WaitPlan
from ..store import tables
from .execution import plan_of
from .journal import Live
from .ports import Events
from .services import Services


class Arrivals:
    """Takes calls for runs."""

    def __init__(self, services: Services, events: Events) -> None:
        self.services = services
        self.events = events

    def arrive(self, run_id: int, item: dict[str, Any]) -> None:
        """A call came for a run: the wait that is open takes it, or the next one will. Raises `NotPlain`."""
        item, now = plain_object(item), self.services.clock()
        with self.services.store.write() as session:
            arrival = tables.Arrival(run_id=run_id, at=now, item=item)
            session.add(arrival)
            session.flush()
            number = arrival.id
        live = self.events.live(run_id)
        decisions = [d for d in flow.decide(live.state) if isinstance(d, flow.Listen)]
        listening = [d for d in decisions if _awaits_a_call(live, d)]
        if not listening:
            return

        def taken(session: Session) -> None:
            session.get_one(tables.Arrival, number).taken = True

        self.events.record(run_id, flow.Heard(at=now, address=listening[0].address, item=item), taken, strict=False)


def _awaits_a_call(live: Live, decision: flow.Listen) -> bool:
    plan = plan_of(live.line(decision.step))
    return isinstance(plan, WaitPlan) and isinstance(plan.awaited, ForCall)
