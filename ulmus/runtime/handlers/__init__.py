"""The decisions of a run, each with its handler: one table, the same for live runs and for proofs."""

from __future__ import annotations

from typing import Any

from ...core import flow
from ...core.workflow import Line, Workflow, plans
from ...protocols.errors import OutsideError
from ...steps.api import Context
from ..dispatcher import Task
from ..elsewhere import Elsewhere
from ..execution import plan_of
from ..journal import Live
from ..ports import Gate, Outbox, Runs
from ..services import Services
from ..transaction import Transaction
from .arranging import Checking, Listening, Opening, Resting, Stopping, items
from .asking import Asking, Permitting
from .base import PLAYED_BY, FromValues, Gave, Handler
from .doing import Calling, Computing, Following, Performing, Sending, Writing

#: Which decision a line comes to when it is its turn, by how it is carried out.
FIRST: dict[type, type] = {
    plans.PerformPlan: flow.Perform,
    plans.DraftPlan: flow.Perform,
    plans.AssignmentPlan: flow.Perform,
    plans.AskPlan: flow.Ask,
    plans.SendPlan: flow.Send,
    plans.WritePlan: flow.Write,
    plans.ComputePlan: flow.Compute,
    plans.WaitPlan: flow.Rest,
    plans.CallPlan: flow.Call,
    plans.StopPlan: flow.Stop,
}


class Handlers:
    """The table of handlers."""

    def __init__(self, services: Services, outbox: Outbox, runs: Runs, gate: Gate) -> None:
        self.performing = Performing(gate)
        self.table: dict[type, Handler] = {
            flow.Perform: self.performing,
            flow.Send: Sending(outbox),
            flow.Follow: Following(services),
            flow.Write: Writing(services),
            flow.Compute: Computing(services),
            flow.Call: Calling(runs),
            flow.Ask: Asking(services),
            flow.Permit: Permitting(services),
            flow.Listen: Listening(),
            flow.Open: Opening(),
            flow.Check: Checking(),
            flow.Rest: Resting(),
            flow.Stop: Stopping(),
        }

    def carried_out(self, elsewhere: Elsewhere) -> None:
        """Have workers carry out what they can."""
        self.performing.elsewhere = elsewhere

    def goes_outside(self, decision: flow.Decision) -> bool:
        """See `ports.Commits`."""
        handler = self.table.get(type(decision))
        return handler is not None and handler.outside

    def commit(self, tx: Transaction, live: Live, decision: flow.Decision, prepared: Any) -> list[flow.Event]:
        """See `ports.Commits`."""
        handler = self.table.get(type(decision))
        return handler.commit(tx, live, decision, prepared) if handler is not None else []

    def prepare(self, task: Task, context: Context) -> Any:
        """See `dispatcher.Prepares`."""
        return self.table[type(task.decision)].prepare(task, context)

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """What a line of the page gives in rehearsal: output, detail and what it used. Raises `OutsideError`."""
        first = FIRST.get(type(plan_of(line)))
        if first is None:
            raise OutsideError("This line is carried out as a block.")
        return self.table[first].play(line, context, workflow)


__all__ = ["PLAYED_BY", "FromValues", "Gave", "Handler", "Handlers", "items"]
