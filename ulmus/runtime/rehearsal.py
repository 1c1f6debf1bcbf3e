"""Rehearsal: lines carried out with nothing leaving the house.

Lines that gather and draft are performed; asking is played as yes; publishing, writing and running other workflows
say what they would have done. A block is carried out by the interpreter itself, so that a proof and a run agree.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import replace
from typing import Any

from ..core import flow
from ..core.cost import Usage
from ..core.slots import fits, parse, render
from ..core.workflow import Line, Workflow, takes_of
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context, Result, StepFailed
from . import carry
from .inside import items, lanes, rest, stopped
from .polling import title_of

PLAYED_BY = "the editor (played)"
SIDE_BY_SIDE = 8
MOST_STEPS = 20_000
Gave = tuple[dict[str, Any], dict[str, Any], Usage]
One = Callable[[str, Line, Mapping[str, Any]], Gave]


def rehearse(line: Line, context: Context, workflow: Workflow) -> Gave:
    """What a line of the page gives in rehearsal: output, detail and what it used. Raises `OutsideError`."""
    manner = kinds()[line.kind].manner
    match manner:
        case "perform":
            return _of(carry.perform(line, context))
        case "ask":
            return _asked(line, context, workflow)
        case "send":
            outgoing = carry.piece(line, context)
            kind = kinds()[line.kind]
            played = kind.plays(carry.filled(kind, line, context.values)) if kind.plays else {"link": ""}
            return {**outgoing.content, **played}, {"would": "send", "connection": outgoing.connection}, Usage()
        case "write":
            sheet, cells = carry.row(line, context)
            return {"row": 0, "sheet": sheet}, {"would": "write", "sheet": sheet, "cells": cells}, Usage()
        case "set":
            # Nothing is remembered from a rehearsal, and each gives the same.
            return carry.work(line, context.values, {}, "rehearsal")[0], {}, Usage()
        case "rest":
            rest(line, context.values, 0.0)
            return {"came": "yes", "item": {}}, {"would": "wait"}, Usage()
        case "call":
            settings: Any = carry.filled(kinds()[line.kind], line, context.values)
            return {"text": "", "values": {}, "run": 0}, {"would": "call", "item": dict(settings.item)}, Usage()
        case "stop":
            words = render(parse(str(line.settings.get("words", ""))), context.values).text
            ended = "" if line.settings.get("how", "well") == "failed" else words or "Stopped here."
            return {"words": words}, {"would": "stop", "ended": ended}, Usage()
    raise OutsideError("This line is carried out as a block.")


def _of(result: Result) -> Gave:
    return result.output, result.detail, result.usage


def _asked(line: Line, context: Context, workflow: Workflow) -> Gave:
    """A question played as yes; with a note set for proofs, first sent back with it and then passed."""
    if not kinds()[line.kind].shows_a_draft:
        settings: Any = carry.filled(kinds()[line.kind], line, context.values)
        answered = settings.played.strip() or "The answer stands here in a run."
        return {"text": answered, "by": PLAYED_BY}, {"would": "ask", "question": settings.question}, Usage()
    draft, note = str(line.settings.get("draft")), str(line.settings.get("played") or "").strip()
    text = str((context.values.get(draft) or {}).get("text", ""))
    passed = {"text": text, "by": PLAYED_BY, "note": note, "rounds": 1, "edited": False}
    writer = workflow.line(draft)
    if not note or writer is None:
        return passed, {"would": "ask"}, Usage()
    again = carry.perform(writer, replace(context, rewrite=flow.Rewrite(text, (note,))))
    detail = {**again.detail, "would": "ask", "values": {draft: again.output}}
    return {**passed, "text": str(again.output.get("text", "")), "rounds": 2}, detail, again.usage


class Rehearsal:
    """One block, carried out by the interpreter. `one` carries out a line inside it, at an address with values."""

    def __init__(self, workflow: Workflow, line: Line, context: Context, one: One, now: float) -> None:
        self.line, self.context, self.one, self.now = line, context, one, now
        self.lines = {inner.id: inner for inner in workflow.lines}
        whole = flow.plan(workflow.model_copy(update={"steps": [line]}), kinds())
        self.plan = flow.Plan(whole.start, whole.steps)
        self.usage = Usage()
        self.places: dict[str, dict[str, Any]] = {}
        self.items: dict[str, list[str]] = {}
        self.last: dict[str, Any] = {}

    def carry_out(self) -> Gave:
        """The block's output; the detail holds the values that are usable after it and what happened at each place."""
        values = dict(self.context.values)
        state = flow.begin(self.plan, flow.Begun(at=self.now, item={}, context=values))
        state.values.update(values)
        at_work: dict[Future[flow.Done | flow.Failed], flow.Perform] = {}
        with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
            for _ in range(MOST_STEPS):
                open_ = flow.decide(state)
                if not open_ or state.outcome is not None:
                    break
                if self.context.cancelled():
                    raise OutsideError("Stopped.")
                quick = [d for d in open_ if not isinstance(d, flow.Perform)]
                for decision in quick:
                    if state.open.get(decision.address) is decision:  # type: ignore[union-attr]
                        for event in self._answer(state, decision):
                            flow.apply(state, event)
                if quick:
                    continue
                self._tell(state)
                known = {id(d) for d in at_work.values()}
                for decision in open_:
                    if isinstance(decision, flow.Perform) and id(decision) not in known:
                        at_work[pool.submit(self._perform, decision, state.scope(decision.address))] = decision
                for over in wait(at_work, return_when=FIRST_COMPLETED).done:
                    if state.open.get((decision := at_work.pop(over)).address) is decision:
                        flow.apply(state, over.result())
            else:
                raise OutsideError(f"This goes on and on: it was not over after {MOST_STEPS:,} steps.")
        after = {k: v for k, v in state.values.items() if k not in values and k != self.line.id}
        detail = {**self.last, "places": self.places, "values": after, "items": self.items}
        if state.outcome not in ("done", None):
            message = state.message or "Nothing came of it."
            if state.outcome == "failed":
                raise StepFailed(OutsideError(message), self.usage, detail)
        if self.line.id not in state.values:
            # The page itself ended the run in here; nothing below is carried out.
            detail["ended"] = state.message or "Ended here."
        return dict(state.values.get(self.line.id) or {}), detail, self.usage

    def _tell(self, state: flow.State) -> None:
        """Say how far the block is."""
        block, manner = state.root.block, kinds()[self.line.kind].manner
        if block is None:
            return
        over = len(block.results) + len(block.failures) + len(block.passed)
        match manner:
            case "each":
                self.context.progress(f"{over} of {len(block.items)} done")
            case "repeat":
                self.context.progress(f"round {block.started}")
            case "fork" if len(block.lanes) > 1:
                self.context.progress(f"{len(block.lanes) - len(block.running)} of {len(block.lanes)} lanes done")

    def _perform(self, decision: flow.Perform, values: dict[str, Any]) -> flow.Done | flow.Failed:
        line = self.lines[decision.step]
        if kinds()[line.kind].manner != "assign":
            event = self._gave(decision.address, line, values)
            for take in takes_of(line, kinds()):
                # Stands beside it; nothing follows from it, and where it fails, only it has.
                self._gave(str(flow.Address.parse(decision.address)._replace(step=take.id)), take, values)
            return event
        context = replace(self.context, values=values, talk=decision.talk, spent=decision.spent)
        event = self._gave(decision.address, line, values, lambda: _of(carry.perform(line, context)))
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
        match decision:
            case flow.Open():
                try:
                    found = items(line, values)
                    if found:
                        self.items[address] = [title_of(i) if isinstance(i, dict) else str(i)[:120] for i in found]
                    return [flow.Opened(at=at, address=address, items=found, lanes=lanes(line, values))]
                except OutsideError as error:
                    return [flow.Failed(at=at, address=address, message=error.message)]
            case flow.Check():
                return [flow.Checked(at=at, address=address, holds=fits(str(line.settings.get("until", "")), values))]
            case flow.Rest():
                return [flow.Resting(at=at, address=address, due=at, listening=False)]
            case flow.Stop():
                event = stopped(line, values, at, address)
                self.places[address] = {"ok": True, "output": {"words": event.message}, "detail": {"would": "stop"}, "usage": {}}
                return [event]
            case flow.Judge():
                return [flow.Judged(at=at, address=address, choice="stop")]
        event = self._gave(address, line, values)
        if isinstance(event, flow.Failed):
            return [event]
        match decision:
            case flow.Ask():
                asked = flow.Asked(at=at, address=address, approval=0, text=str(event.output.get("text", "")))
                text = str(event.output.get("text", ""))
                return [asked, flow.Answered(at=at, address=address, verdict="approve", text=text, by=PLAYED_BY)]
            case flow.Send():
                queued = flow.Queued(at=at, address=address, piece=0, key="")
                return [queued, flow.Sent(at=at, address=address, receipt=event.output)]
            case flow.Call():
                return [flow.Called(at=at, address=address, run=0), event]
        return [event]
