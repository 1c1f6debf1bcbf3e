"""Rehearsal: lines carried out with nothing leaving the house.

Lines that gather and draft are performed; asking is played as yes; publishing, writing and running other workflows
say what they would have done. A block is carried out by the interpreter itself, so that a proof and a run agree.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextvars import copy_context
from dataclasses import replace
from typing import Any

from ..core import flow
from ..core.cost import Usage
from ..core.workflow import Line, Workflow, takes_of
from ..core.workflow.plans import AssignmentPlan
from ..protocols.errors import OutsideError, Stopped
from ..steps import kinds
from ..steps.api import Context, StepFailed
from .execution import plan_of
from .handlers import PLAYED_BY, FromValues, Gave, Handlers
from .reach import Reach, check_reads, reach_of
from .runs import title_of

SIDE_BY_SIDE = 8
MOST_STEPS = 20_000
One = Callable[[str, Line, Mapping[str, Any]], Gave]


class Rehearsal:
    """One block, carried out by the interpreter. `one` carries out a line inside it, at an address with values."""

    def __init__(self, handlers: Handlers, workflow: Workflow, line: Line, context: Context, one: One, now: float) -> None:
        self.handlers, self.workflow = handlers, workflow
        self.line, self.context, self.one, self.now = line, context, one, now
        self.lines = {inner.id: inner for inner in workflow.lines}
        plan = flow.plan(workflow.model_copy(update={"steps": [line]}), kinds())
        self.plan = flow.Plan(plan.start, plan.steps)
        self.usage = Usage()
        self.places: dict[str, dict[str, Any]] = {}
        self.items: dict[str, list[str]] = {}
        self.last: dict[str, Any] = {}

    def carry_out(self) -> Gave:
        """The block's output; the detail holds the values that are usable after it and what happened at each place."""
        values = dict(self.context.values)
        state = flow.begin(self.plan, flow.Begun(at=self.now, item={}, context=values, rules=flow.RULES))
        state.values.update(values)
        at_work: dict[Future[flow.Done | flow.Failed], flow.Perform] = {}
        with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
            for _ in range(MOST_STEPS):
                open_ = flow.decide(state)
                if not open_ or state.outcome is not None:
                    break
                if self.context.cancelled():
                    raise Stopped("Stopped.")
                quick = [d for d in open_ if not isinstance(d, flow.Perform)]
                for one in quick:
                    if state.open.get(getattr(one, "address", "")) is one:
                        for event in self._answer(state, one):
                            flow.apply(state, event)
                if quick:
                    continue
                self._tell(state)
                known = {id(d) for d in at_work.values()}
                for decision in open_:
                    if isinstance(decision, flow.Perform) and id(decision) not in known:
                        reach = reach_of(state, self.workflow, decision.address)
                        work = pool.submit(copy_context().run, self._perform, decision, state.scope(decision.address), reach)
                        at_work[work] = decision
                for over in wait(at_work, return_when=FIRST_COMPLETED).done:
                    asked = at_work.pop(over)
                    if state.open.get(asked.address) is asked:
                        flow.apply(state, over.result())
            else:
                raise OutsideError(f"This goes on and on: it was not over after {MOST_STEPS:,} steps.")
        after = {k: v for k, v in state.values.items() if k not in values and k != self.line.id}
        detail = {**self.last, "places": self.places, "values": after, "items": self.items}
        if state.outcome not in ("done", None):
            message = state.message or "Nothing came of it."
            # Where the rest went on without what failed, the block has given its values, and its lines say what failed.
            if state.outcome == "failed" and self.line.id not in state.values:
                raise StepFailed(OutsideError(message), self.usage, detail)
        if self.line.id not in state.values:
            # The page itself ended the run in here; nothing below is carried out.
            detail["ended"] = state.message or "Ended here."
        return dict(state.values.get(self.line.id) or {}), detail, self.usage

    def _worked(self, handler: FromValues, line: Line, values: Mapping[str, Any], address: str) -> flow.Event:
        """A decision worked out from the values alone, as a run does it."""
        try:
            event = handler.event(line, values, address, self.now, self.context.workspace.connection_name)
        except OutsideError as error:
            return flow.Failed(at=self.now, address=address, message=error.message)
        if isinstance(event, flow.Opened) and event.items:
            self.items[address] = [title_of(i) if isinstance(i, dict) else str(i)[:120] for i in event.items]
        if isinstance(event, flow.Stopped):
            self.places[address] = {"ok": True, "output": {"words": event.message}, "detail": {"would": "stop"}, "usage": {}}
        return event

    def _tell(self, state: flow.State) -> None:
        """Say how far the block is."""
        match state.root.block:
            case flow.EachBlock() as block:
                over = len(block.results) + len(block.failures) + len(block.passed)
                self.context.progress(f"{over} of {len(block.items)} done")
            case flow.RepeatBlock() as block:
                self.context.progress(f"round {block.started}")
            case flow.ForkBlock() as block if len(block.lanes) > 1:
                self.context.progress(f"{len(block.lanes) - len(block.running)} of {len(block.lanes)} lanes done")

    def _perform(self, decision: flow.Perform, values: dict[str, Any], reach: Reach | None) -> flow.Done | flow.Failed:
        line = self.lines[decision.step]
        if reach is not None:
            try:
                check_reads(line, values, reach)
            except OutsideError as error:
                return flow.Failed(at=self.now, address=decision.address, message=error.message)
        if not isinstance(plan_of(line), AssignmentPlan):
            event = self._gave(decision.address, line, values)
            for take in takes_of(line, kinds()):
                # Stands beside it; nothing follows from it, and where it fails, only it has.
                self._gave(str(flow.Address.parse(decision.address)._replace(step=take.id)), take, values)
            return event
        context = replace(self.context, values=values, talk=decision.talk, spent=decision.spent)
        event = self._gave(decision.address, line, values, lambda: self.handlers.play(line, context, self.workflow))
        # All rounds of an assignment stand at one place, and the last is what is shown.
        address = flow.Address.parse(decision.address)
        self.places[str(address._replace(round=1))] = record = self.places.pop(decision.address)
        if line.id == self.line.id:
            self.last = record["detail"]
        return event

    def _gave(
        self, address: str, line: Line, values: Mapping[str, Any], make: Callable[[], Gave] | None = None
    ) -> flow.Done | flow.Failed:
        try:
            output, detail, usage = make() if make else self.one(address, line, values)
        except OutsideError as error:
            usage = error.usage if isinstance(error, StepFailed) else Usage()
            self.usage += usage
            self.places[address] = {"ok": False, "output": {"message": error.message}, "detail": {}, "usage": usage.model_dump()}
            return flow.Failed(at=self.now, address=address, message=error.message, usage=usage)
        self.usage += usage
        self.places[address] = {"ok": True, "output": output, "detail": detail, "usage": usage.model_dump()}
        return flow.Done(at=self.now, address=address, output=output, usage=usage)

    def _answer(self, state: flow.State, decision: flow.Decision) -> list[flow.Event]:
        address = getattr(decision, "address", "")
        if isinstance(decision, flow.Wait | flow.Listen):
            return [flow.TimerFired(at=self.now, address=address)]
        line = self.lines[getattr(decision, "step", "")]
        values, at = state.scope(address), self.now
        handler = self.handlers.table.get(type(decision))
        if isinstance(decision, flow.Judge):
            return [flow.Judged(at=at, address=address, choice="stop")]
        if isinstance(decision, flow.Permit):
            return [flow.Permitted(at=at, address=address, scope="rehearsal")]
        if isinstance(decision, flow.Rest):
            return [flow.Resting(at=at, address=address, due=at, listening=False)]
        if isinstance(handler, FromValues):
            return [self._worked(handler, line, values, address)]
        event = self._gave(address, line, values)
        if isinstance(event, flow.Failed):
            return [event]
        match decision:
            case flow.Ask():
                text = str(event.output.get("text", ""))
                given = {line.id: event.output}
                asked = flow.Asked(at=at, address=address, approval=0, text=text)
                return [asked, flow.Answered(at=at, address=address, verdict="approve", text=text, by=PLAYED_BY, values=given)]
            case flow.Send():
                queued = flow.Queued(at=at, address=address, piece=0, key="")
                return [queued, flow.Sent(at=at, address=address, receipt=event.output)]
            case flow.Call():
                return [flow.Called(at=at, address=address, run=0), event]
        return [event]
