"""The types of block, and what becomes of each when a sequence inside it ends.

- *for each*: iterations begin in the order of the items, so many at a time; results keep that order; an item that
  fails is left out and kept for taking up, or, where so set, fails the block once the others under way have ended.
- *fork*: the chosen lanes run side by side; they meet again when all have ended. Where one lane was to be taken, its
  failure is the fork's; where several are, one that failed stops only itself: the page goes on, the run tells of it at its
  end, and the lane can be taken up alone.
- *destinations*: a fork whose lines are lanes of their own, all taken; what became of each is one list, and the values of one
  that let nothing out are there, and empty.
- *repeat until*: one round after another; values of a round are seen by the next.
- *assignment*: a round is thought out, then the tools it calls for are used one after another, each as a sequence of its
  own; what fails is told to the next round. An act asks a person first, each time, or unless it is covered by what was
  allowed before.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..drafting.turns import Turn
from ..workflow.plans import ACTS, AssignmentPlan, DestinationsPlan, EachPlan, ForkPlan
from .decisions import Outcome
from .events import Opened
from .phases import Checking, Permit
from .plan import PlannedStep
from .standing import begin_inside, close, fail, finish, in_an_item, stand, stop_run
from .state import READY, Block, Sequence, State

CALLS = "@calls"
"""Where the output of a round of an assignment holds the tools it wants to use; without it, it is the answer."""
GIVEN = "given"
"""The name by which a tool's line reaches what the model gives it."""


def opened(step: PlannedStep, event: Opened) -> Block:
    """The block that a step opens."""
    match step.how:
        case EachPlan():
            return EachBlock(began=event.at, items=event.items, found=event.found)
        case DestinationsPlan():
            return DestinationsBlock(began=event.at, lanes=event.lanes, to=[str(one) for one in event.items])
        case ForkPlan():
            return ForkBlock(began=event.at, lanes=event.lanes)
        case _:
            return RepeatBlock(began=event.at)


@dataclass(eq=False)
class EachBlock(Block):
    """A *for each*: its `items`, and how many the list held where that is known. Those that wait for a person are `resting`: they
    take no place of another."""

    items: list[Any] = field(default_factory=list)
    found: int | None = None
    starting: bool = False
    resting: set[int] = field(default_factory=set)

    @property
    def is_loop(self) -> bool:
        return True

    def start(self, state: State, seq: Sequence) -> None:
        how = seq.step.how
        assert isinstance(how, EachPlan)
        if self.starting:
            return  # an iteration without steps ended while it was begun; the loop below goes on
        self.starting = True
        while self.started < len(self.items) and len(self.running) - len(self.resting) < how.parallel:
            if how.strict and self.failures:
                break
            self.started += 1
            begin_inside(state, seq, self.started, seq.step.steps, {how.item: self.items[self.started - 1]})
        self.starting = False
        self._look_if_over(state, seq, how.strict)

    def ended(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        self.resting.discard(seq.number)
        if outcome == "failed":
            self.failed(seq, message)
        elif outcome == "done":
            self.results[seq.number] = seq.values
        else:
            self.passed[seq.number] = message
        self.start(state, parent)

    def _look_if_over(self, state: State, seq: Sequence, strict: bool) -> None:
        stopping = strict and bool(self.failures)
        if self.running or (self.started < len(self.items) and not stopping):
            return
        if stopping:
            number, message = min(self.failures.items())
            fail(state, seq, f"Item {number}: {message}")
            return
        seq.values[seq.step.id] = {
            "results": [self.results[n] for n in sorted(self.results)],
            "count": len(self.items),
            "found": len(self.items) if self.found is None else self.found,
            "failed": len(self.failures),
            "passed_over": len(self.passed),
            "failures": [{"number": n, "message": self.failures[n]} for n in sorted(self.failures)],
        }
        close(state, seq)


def item_of(seq: Sequence) -> tuple[EachBlock, Sequence, int] | None:
    """The *for each* around a sequence, the sequence it stands in, and the number of the item; nothing where others work beside it in
    the same item."""
    at = seq
    while at.parent is not None:
        block = at.parent.block
        if isinstance(block, EachBlock):
            return block, at.parent, at.number
        if not isinstance(block, RepeatBlock) and not (isinstance(block, ForkBlock) and len(block.lanes) == 1):
            return None
        at = at.parent
    return None


def rests(state: State, seq: Sequence) -> None:
    """A sequence waits for a person: where it is all that is under way of an item, the next item may begin."""
    around = item_of(seq) if state.rules >= 3 else None
    if around is not None:
        block, parent, number = around
        block.resting.add(number)
        block.start(state, parent)


def wakes(seq: Sequence) -> None:
    """A sequence waits no more."""
    around = item_of(seq)
    if around is not None:
        around[0].resting.discard(around[2])


@dataclass(eq=False)
class ForkBlock(Block):
    """A fork: the numbers of the `lanes` that are taken."""

    lanes: list[int] = field(default_factory=list)

    def is_side_by_side(self, parent: Sequence) -> bool:
        how = parent.step.how
        return isinstance(how, ForkPlan) and how.every

    def start(self, state: State, seq: Sequence) -> None:
        for number in self.lanes:
            self.started += 1
            begin_inside(state, seq, number, seq.step.lanes[number - 1].steps, {})
        if not self.lanes:
            self._meet(state, seq)

    def ended(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        if seq.beside is not None:
            self._ended_beside(state, parent, seq, outcome, message)
            return
        if outcome == "failed":
            self.failed(seq, message)
        elif outcome == "done":
            parent.values.update(seq.values)
        else:
            self.passed[seq.number] = message
        if not self.running and self.started >= len(self.lanes):
            self._meet(state, parent)

    def _meet(self, state: State, seq: Sequence) -> None:
        step = seq.step
        alone = len(self.lanes) < 2 or not self.is_side_by_side(seq)
        if self.failures and (state.rules < 2 or alone or len(self.failures) == len(self.lanes)):
            number, message = min(self.failures.items())
            fail(state, seq, self._trouble(step, number, message) if len(self.lanes) > 1 else message)
            return
        self._give(state, seq, step)
        for number, message in sorted(self.failures.items()) if not in_an_item(seq) else ():
            state.troubles[self._place(seq, step, number)] = self._trouble(step, number, message)
        close(state, seq)

    def _give(self, state: State, seq: Sequence, step: PlannedStep) -> None:
        """Put the fork's own values, as its lanes stand now."""
        names = [step.lanes[n - 1].id for n in self.lanes]
        seq.values[step.id] = {"lane": names[0] if names else "", "lanes": names}
        if state.rules >= 2:
            failed = [{"lane": step.lanes[n - 1].id, "message": words} for n, words in sorted(self.failures.items())]
            seq.values[step.id] |= {"failed": len(failed), "failures": failed}

    def _trouble(self, step: PlannedStep, number: int, message: str) -> str:
        return f"Lane “{step.lanes[number - 1].id}”: {message}"

    @staticmethod
    def _place(seq: Sequence, step: PlannedStep, number: int) -> str:
        return f"{seq.prefix}{step.id}:{step.lanes[number - 1].id}"

    def _ended_beside(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        """A lane that was taken up alone has ended; the page had gone on without it, and stays where it is."""
        assert seq.beside is not None
        step, _ = seq.beside
        address = self._place(parent, step, seq.number)
        if outcome == "failed":
            self.failed(seq, message)
            state.troubles[address] = self._trouble(step, seq.number, message)
        else:
            seq.beside = None
            state.troubles.pop(address, None)
            if outcome == "done":
                parent.values.update(seq.values)
        self._give(state, parent, step)
        if state.at:
            return
        if state.root.current is None or state.stopped is None:
            finish(state, state.root, "done", "")
        else:
            stop_run(state, *state.stopped)


@dataclass(eq=False)
class DestinationsBlock(ForkBlock):
    """Destinations: what each is called, in the order of the lines."""

    to: list[str] = field(default_factory=list)

    def is_side_by_side(self, parent: Sequence) -> bool:
        return True

    def _give(self, state: State, seq: Sequence, step: PlannedStep) -> None:
        results = []
        for number, lane in enumerate(step.lanes, start=1):
            for name, blank in lane.blank.items():
                seq.values.setdefault(name, blank)
            how, why = "out", ""
            if number not in self.lanes:
                how = "muted"
            elif number in self.failures:
                how, why = "failed", self.failures[number]
            elif number in self.passed:
                how, why = "passed over", self.passed[number]
            gave = seq.values.get(lane.id, {}) if how == "out" else {}
            told = {name: gave[name] if isinstance(gave.get(name), str) else "" for name in ("link", "text")}
            results.append({"to": self._name(step, number), **told, "state": how, "why": why})
        out = [one for one in results if one["state"] == "out"]
        seq.values[step.id] = {
            "results": results,
            "out": len(out),
            "failed": sum(one["state"] == "failed" for one in results),
            "links": "\n".join(one["link"] for one in out if one["link"]),
        }

    def _name(self, step: PlannedStep, number: int) -> str:
        return self.to[number - 1] if number <= len(self.to) else step.lanes[number - 1].id

    def _trouble(self, step: PlannedStep, number: int, message: str) -> str:
        return f"{self._name(step, number)}: {message}"


@dataclass(eq=False)
class RepeatBlock(Block):
    """A repeat until."""

    def start(self, state: State, seq: Sequence) -> None:
        self.started += 1
        begin_inside(state, seq, self.started, seq.step.steps, {})

    def ended(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        if outcome == "failed":
            self.failed(seq, message)
            fail(state, parent, message)
            return
        parent.values.update(seq.values)
        stand(state, parent, Checking())


@dataclass(eq=False)
class AssignmentBlock(Block):
    """An assignment: what was `said` and the `calls` still to make, all its turns so far in `talk`, and the scopes of acts a
    person has `allowed`."""

    said: str = ""
    calls: list[dict[str, Any]] = field(default_factory=list)
    talk: list[Turn] = field(default_factory=list)
    allowed: set[str] = field(default_factory=set)

    @property
    def is_loop(self) -> bool:
        return True

    @property
    def turns(self) -> tuple[Turn, ...]:
        return tuple(self.talk)

    def covered(self, step: PlannedStep) -> frozenset[str]:
        how = step.how
        return frozenset(self.allowed if isinstance(how, AssignmentPlan) and how.permission == "first" else ())

    def start(self, state: State, seq: Sequence) -> None:
        """Use the next tool that was called for; where none is left, think again."""
        step, how = seq.step, seq.step.how
        assert isinstance(how, AssignmentPlan)
        while self.calls:
            call = self.calls.pop(0)
            self.started += 1
            tool = next((one for one in step.steps if one.id == call["tool"]), None)
            if tool is None:
                self._turn(seq, str(call["tool"]), dict(call["given"]), None, "There is no such tool.")
                continue
            covered = state.rules < 2 and how.permission == "first" and tool.id in self.allowed
            asks = isinstance(tool.how, ACTS) and how.permission != "never" and not covered
            begin_inside(state, seq, self.started, (tool,), {GIVEN: dict(call["given"])}, Permit() if asks else READY)
            return
        seq.attempt, seq.round = 1, self.started + 1
        stand(state, seq, READY)

    def ended(self, state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
        tool = seq.steps[0].id
        said = {"declined": f"A person said no. {message}", "skipped": f"Passed over. {message}"}.get(outcome, message)
        well = outcome == "done"
        self._turn(parent, tool, seq.values[GIVEN], seq.values.get(tool) if well else None, "" if well else said.strip())
        self.start(state, parent)

    def _turn(self, seq: Sequence, tool: str, given: dict[str, Any], result: dict[str, Any] | None, failed: str) -> None:
        self.talk.append(Turn(seq.round, self.said, tool, given, result, failed))
        self.said = ""
