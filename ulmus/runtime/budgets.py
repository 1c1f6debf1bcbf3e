"""Limits on money, per day and month, of a workflow and of a brand; and on how often a connection is asked."""

from __future__ import annotations

import datetime as dt
import threading

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store import tables
from .journal import Live
from .quotas import Uses
from .services import Services


class Budgets:
    """What this month has cost so far, held against the limits. Thread-safe."""

    def __init__(self, services: Services, uses: Uses) -> None:
        self.services = services
        self.uses = uses
        self._spending: dict[tuple[str, int], float] = {}
        self._lock = threading.Lock()

    def start(self) -> None:
        """Read what this month has cost."""
        month = dt.datetime.fromtimestamp(self.services.clock()).strftime("%Y-%m")
        with self.services.store.read() as session:
            rows = session.scalars(select(tables.Spending).where(tables.Spending.day.between(f"{month}-01", f"{month}-31")))
            found = {(r.day, r.workflow_id): r.cost for r in rows}
        with self._lock:
            self._spending = found
        self.uses.start()

    def spent(self, day: str, workflow_id: int, cost: float) -> None:
        """See `ports.Budget`."""
        with self._lock:
            self._spending[day, workflow_id] = self._spending.get((day, workflow_id), 0.0) + cost

    def over(self, session: Session, live: Live, step: str) -> str:
        """See `ports.Budget`."""
        if live.state.granted.get("budget"):
            return ""
        if words := self.uses.reached(live.page.asks.get(step, ())):
            return f"{words} Let the run go on, cancel it, or wait until it may be asked again."
        return self._money(session, live) if step in live.page.paid else ""

    def _money(self, session: Session, live: Live) -> str:
        limits = live.workflow.limits
        if limits.day_money is None and limits.month_money is None and not live.workflow.brand:
            return ""
        today = dt.datetime.fromtimestamp(self.services.clock()).date().isoformat()
        reached = self._reached(today, {live.workflow_id}, limits.day_money, limits.month_money)
        if reached:
            return f"This workflow has reached its limit of {reached}. Let the run go on, or cancel it."
        brand = session.get(tables.Brand, live.workflow.brand) if live.workflow.brand else None
        if brand is None or not brand.limits:
            return ""
        of_brand = set(session.scalars(select(tables.WorkflowRecord.id).where(tables.WorkflowRecord.brand == brand.key)))
        reached = self._reached(today, of_brand, brand.limits.get("day_money"), brand.limits.get("month_money"))
        return f"{brand.name} has reached its limit of {reached}. Let the run go on, or cancel it." if reached else ""

    def _reached(self, today: str, workflows: set[int], day: float | None, month: float | None) -> str:
        for limit, since, word in ((day, today, "a day"), (month, today[:7], "a month")):
            if limit is not None:
                with self._lock:
                    spent = sum(c for (d, w), c in self._spending.items() if w in workflows and d.startswith(since))
                if spent >= limit:
                    return f"{limit:g} {word} ({spent:.4f} spent)"
        return ""
