"""Where a sequence stands, and how it goes on, fails and ends.

What becomes of a block when a sequence inside it ends is the block's own affair: see `blocks`.
"""

from __future__ import annotations

from typing import Any

from ..drafting.turns import Rewrite
from ..workflow.plans import (
    AfterPiece,
    AskPlan,
    AssignmentPlan,
    CallPlan,
    ComputePlan,
    EachPlan,
    ForkPlan,
    PerformPlan,
    RepeatPlan,
    SendPlan,
    StopPlan,
    WaitPlan,
    WritePlan,
)
from .address import Address
from .decisions import (
    Ask,
    Call,
    Check,
    Compute,
    Decision,
    Finish,
    Follow,
    Judge,
    Listen,
    Open,
    Outcome,
    Perform,
    Permit,
    Rest,
    Send,
    Stop,
    Wait,
    Write,
)
from .phases import Between, Broken, Checking, Due, Following, Listening, Pausing, Phase, Ready, Resting, Retrying, Rewriting, Stuck
from .phases import Permit as ToPermit
from .plan import PlannedStep
from .state import READY, Sequence, State


class FlowError(ValueError):
    """An event that cannot happen in this state."""


# -- where a sequence stands ------------------------------------------------------------------------


def is_rewriting(seq: Sequence) -> bool:
    """Whether the sequence is making a draft again after a note."""
    # A rewrite that waits for a new try, or failed, is still at the rewrite's address.
    return isinstance(seq.phase, Rewriting) or (isinstance(seq.phase, Retrying | Broken | Stuck) and len(seq.notes) >= seq.round)


def stand(state: State, seq: Sequence, phase: Phase | None = None) -> None:
    """Register the sequence at its address, in a phase, with the decision that follows from it."""
    leave(state, seq)
    if phase is not None:
        seq.phase = phase
    step = seq.step
    seq.address = _address(seq, step)
    state.at[seq.address] = seq
    seq.stood = type(seq.phase)
    state.phases[seq.stood] = state.phases.get(seq.stood, 0) + 1
    decision = _decision(seq, step, seq.address)
    if decision is not None:
        state.open[seq.address] = decision
        state.news.append(decision)


def leave(state: State, seq: Sequence) -> None:
    """Take the sequence from where it stands."""
    if state.at.get(seq.address) is seq:
        del state.at[seq.address]
        state.phases[seq.stood] -= 1
        state.open.pop(seq.address, None)


def _address(seq: Sequence, step: PlannedStep) -> str:
    match step.how:
        case AssignmentPlan():
            return seq.prefix + str(Address(step.id, seq.round))
        case AskPlan(draft=draft) if is_rewriting(seq):
            return seq.prefix + str(Address(draft, 1, ((step.id, seq.round),)))
        case AskPlan():
            return seq.prefix + str(Address(step.id, seq.round))
    return seq.prefix + step.id


def _decision(seq: Sequence, step: PlannedStep, address: str) -> Decision | None:
    match seq.phase:
        case Ready():
            return _first(seq, step, address)
        case Due():
            return Perform(address, step.id, seq.attempt, None, seq.generation)
        case Rewriting():
            assert isinstance(step.how, AskPlan)
            holder = seq.holder(step.how.draft)
            draft = holder.values[step.how.draft] if holder else {}
            previous = str(draft.get("text", "")) if isinstance(draft, dict) else ""
            return Perform(address, step.how.draft, seq.attempt, Rewrite(previous, tuple(seq.notes)), seq.generation)
        case Retrying(due) | Between(due) | Resting(due) | Pausing(due):
            return Wait(address, due)
        case Listening(due):
            return Listen(address, step.id, due)
        case Checking():
            return Check(address, step.id, seq.block.started if seq.block else 0)
        case ToPermit():
            parent = seq.parent
            covered = parent.block.covered(parent.step) if parent is not None and parent.block is not None else frozenset[str]()
            return Permit(address, step.id, covered)
        case Following(job):
            return Follow(address, step.id, seq.attempt, seq.generation, job.since, job.receipt)
        case Stuck(message):
            return Judge(address, step.id, message)
    return None


def _first(seq: Sequence, step: PlannedStep, address: str) -> Decision:
    match step.how:
        case AskPlan(rounds=rounds):
            return Ask(address, step.id, seq.round, seq.round >= rounds)
        case SendPlan():
            return Send(address, step.id, seq.attempt, seq.generation)
        case WritePlan():
            return Write(address, step.id, seq.generation)
        case EachPlan() | ForkPlan() | RepeatPlan():
            return Open(address, step.id)
        case WaitPlan():
            return Rest(address, step.id)
        case PerformPlan(later=AfterPiece()) if seq.attempt == 1:
            return Rest(address, step.id)
        case StopPlan():
            return Stop(address, step.id)
        case CallPlan():
            return Call(address, step.id, seq.generation)
        case ComputePlan():
            return Compute(address, step.id)
        case AssignmentPlan() if seq.block is not None:
            return Perform(address, step.id, seq.attempt, None, seq.generation, seq.block.turns, seq.block.spent)
    return Perform(address, step.id, seq.attempt, None, seq.generation)


# -- going on, failing, ending ----------------------------------------------------------------------


def go_on(state: State, seq: Sequence) -> None:
    """The current step is behind the sequence; stand at the next, or end."""
    state.steps += 1
    place(seq, seq.position + 1)
    if seq.current is None:
        finish(state, seq, "done", "")
    else:
        stand(state, seq)


def place(seq: Sequence, position: int) -> None:
    """Have the sequence stand at a step anew."""
    seq.position = position
    seq.phase, seq.attempt, seq.round = READY, 1, 1
    seq.notes, seq.block = [], None


def fail(state: State, seq: Sequence, message: str) -> None:
    """All tries of the current step have failed: its policy says what is next."""
    step = seq.step
    match step.then:
        case "value":
            seq.values[step.id] = dict(step.fallback)
            go_on(state, seq)
        case "skip":
            pass_over(state, seq, message)
        case "ask":
            stand(state, seq, Stuck(message))
        case _:
            seq.phase = Broken(message)
            finish(state, seq, "failed", message)


def pass_over(state: State, seq: Sequence, message: str) -> None:
    """Pass over the item or lane the sequence stands in; where it stands in none, the line alone."""
    if state.rules < 2 or in_an_item(seq) or _in_a_lane(seq):
        end_item(state, seq, "skipped", message)
        return
    state.passed[seq.address] = message
    go_on(state, seq)


def in_an_item(seq: Sequence) -> bool:
    """Whether it stands in an item of a *for each*, or in a use of a tool."""
    parent = seq.parent
    return parent is not None and ((parent.block is not None and parent.block.is_loop) or in_an_item(parent))


def _in_a_lane(seq: Sequence) -> bool:
    """Whether it stands in one of several lanes that go on side by side."""
    parent = seq.parent
    return parent is not None and ((parent.block is not None and parent.block.is_side_by_side(parent)) or _in_a_lane(parent))


def end_item(state: State, seq: Sequence, outcome: Outcome, message: str) -> None:
    """End the innermost item the sequence stands in: an iteration, one of several lanes, or the run itself."""
    top = seq
    while (parent := top.parent) is not None:
        block = parent.block
        assert block is not None
        if block.is_loop or (block.is_side_by_side(parent) and (outcome == "declined" or state.rules >= 2)):
            break
        top = parent
    _drop(state, top)
    finish(state, top, outcome, message)


def stop_run(state: State, outcome: Outcome, message: str) -> None:
    """End the whole run, wherever it stands."""
    state.outcome, state.message = outcome, message
    state.at.clear()
    state.open.clear()
    state.phases.clear()
    state.held, state.over = "", None
    state.news = [Finish(outcome, message)]


def finish(state: State, seq: Sequence, outcome: Outcome, message: str) -> None:
    """The sequence has ended; its block, or the run, goes on from there. A page that has ended waits for lanes taken up alone."""
    leave(state, seq)
    parent = seq.parent
    if parent is None:
        if state.at:
            state.stopped = outcome, message
            return
        if outcome == "done" and state.troubles:
            outcome, message = "failed", f"{' '.join(state.troubles.values())} The rest went on."
        stop_run(state, outcome, message)
        return
    block = seq.beside[1] if seq.beside is not None else parent.block
    assert block is not None
    block.running.pop(seq.number, None)
    block.ended(state, parent, seq, outcome, message)


def _drop(state: State, seq: Sequence) -> None:
    leave(state, seq)
    for child in list(seq.block.running.values()) if seq.block else []:
        _drop(state, child)
    if seq.block:
        seq.block.running.clear()


# -- what blocks have in common -----------------------------------------------------------------------


def begin_inside(
    state: State, parent: Sequence, number: int, steps: tuple[PlannedStep, ...], values: dict[str, Any], phase: Phase = READY
) -> None:
    """Begin a sequence of the block that `parent` stands at."""
    assert parent.block is not None
    key = f"{parent.prefix}{parent.step.id}:{number}"
    child = Sequence(key, steps, values, parent, number, parent.generation, phase=phase)
    parent.block.running[number] = child
    if steps:
        stand(state, child)
    else:
        finish(state, child, "done", "")


def close(state: State, seq: Sequence) -> None:
    """The block has given its values; keep it for taking up what failed in it, and go on."""
    assert seq.block is not None
    seq.closed[seq.step.id] = seq.block
    go_on(state, seq)
