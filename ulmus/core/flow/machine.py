"""The state machine. `_RULES` says which event is allowed in which phase and what it does; everything
else is an error, so that a journal that could not have happened is refused and not guessed at.

A run is a tree of sequences: the page, and inside its blocks the iterations, lanes and rounds. Each sequence
stands at one step; `blocks` says what becomes of a block when a sequence inside it ends.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable

from ..cost import Usage
from . import blocks
from .blocks import FlowError, end_item, fail, finish, go_on, pass_over, stand, stop_run
from .decisions import Decision, Finish
from .events import (
    Accepted,
    Answered,
    Asked,
    Begun,
    Called,
    Checked,
    Done,
    Event,
    Failed,
    Followed,
    Heard,
    Judged,
    Opened,
    Permitted,
    Queued,
    Resting,
    Sent,
    Stopped,
    TimerFired,
    Unsure,
)
from .plan import Plan, PlannedStep
from .resuming import resume
from .state import Block, Sequence, State
from .whole import WHOLE, look_at_limits

LONGEST_WAIT = 3600.0


def begin(plan: Plan, event: Begun) -> State:
    """The state of a run that has just begun."""
    root = Sequence("", plan.steps, {**event.context, plan.start: event.item})
    state = State(plan=plan, root=root, began=event.at, rules=event.rules)
    if plan.steps:
        stand(state, root)
    else:
        finish(state, root, "done", "")
    return state


def replay(plan: Plan, events: Iterable[Event]) -> State:
    """The state after `events`, the first of which must be `Begun`."""
    stream = iter(events)
    first = next(stream, None)
    if not isinstance(first, Begun):
        raise FlowError("a journal starts with “begun”")
    state = begin(plan, first)
    for event in stream:
        state = apply(state, event)
        state.news.clear()
    state.news = decide(state)
    return state


def decide(state: State) -> list[Decision]:
    """The open decisions. Pure: asking twice gives the same answer."""
    if state.ended:
        return []
    if state.outcome is not None:
        return [Finish(state.outcome, state.message)]
    if state.held:
        return []
    if state.over is not None:
        return [state.over]
    return list(state.open.values())


def apply(state: State, event: Event) -> State:
    """`state` after `event`; the same object, changed. Costs the same however long the journal is.

    Raises `FlowError` where the event cannot happen.
    """
    if whole := WHOLE.get(type(event)):
        whole(state, event)
        return state
    if state.ended or state.outcome is not None:
        raise FlowError(f"the run has ended; “{event.event}” cannot follow")
    address = getattr(event, "address", "")
    seq = state.at.get(address)
    if seq is None:
        raise FlowError(f"“{event.event}” is for {address}, where nothing is under way")
    rule = _RULES.get((seq.phase, type(event)))
    if rule is None:
        raise FlowError(f"“{event.event}” cannot happen while the step is {seq.phase}")
    step = seq.current
    assert step is not None
    rule(state, seq, step, event)
    look_at_limits(state, event.at)
    return state


# -- steps ------------------------------------------------------------------------------------------


def _done(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    if step.manner not in ("perform", "write", "set", "call", "assign") and seq.phase != "following":
        raise FlowError(f"“{step.id}” cannot simply be done")
    if step.manner == "call" and seq.phase != "called":
        raise FlowError(f"the run “{step.id}” calls for has not begun")
    if step.manner == "assign":
        _thought(state, seq, step, event)
        return
    _spend(state, seq, event.usage)
    seq.values[step.id] = event.output
    go_on(state, seq)


def _thought(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    """An assignment has thought: it wants to use tools, or has its answer."""
    seq.block = seq.block or Block(began=event.at)
    _spend(state, seq, event.usage)
    calls = event.output.get(blocks.CALLS)
    if calls:
        seq.block.said, seq.block.calls = str(event.output.get("text", "")), list(calls)
        _wait_in(state, seq, "open")
        blocks.start(state, seq)
    else:
        seq.values[step.id] = event.output
        blocks.close(state, seq)


def _spend(state: State, seq: Sequence, usage: Usage) -> None:
    """Book what was used: for the run, and for the blocks around."""
    if not (usage.calls or usage.cost or usage.tokens_in or usage.tokens_out or usage.seconds):
        return
    state.usage += usage
    here: Sequence | None = seq
    while here is not None:
        if here.block is not None:
            here.block.spent += usage.cost
        here = here.parent


def _redone(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    _spend(state, seq, event.usage)
    (seq.holder(step.about) or seq).values[step.about] = event.output
    # The notes stay: later rewrites keep to earlier notes too.
    seq.phase, seq.attempt = "ready", 1
    seq.round += 1
    stand(state, seq)


def _failed(state: State, seq: Sequence, step: PlannedStep, event: Failed) -> None:
    _spend(state, seq, event.usage)
    if event.retryable and seq.attempt <= step.retries:
        seq.phase = "waiting"
        seq.due = event.at + _pause(step, seq.attempt, event)
        stand(state, seq)
    else:
        fail(state, seq, event.message)


def _pause(step: PlannedStep, attempt: int, event: Failed) -> float:
    """Seconds to wait: doubling, with a jitter that a replay finds again, never less than the outside asked for."""
    seed = zlib.crc32(f"{event.address}:{attempt}:{event.at}".encode())
    backoff: float = step.wait * 2.0 ** (attempt - 1) * (0.85 + 0.3 * seed / 0xFFFFFFFF)
    return min(LONGEST_WAIT, max(backoff, event.retry_after or 0.0))


def _again(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    seq.phase = "rewriting" if blocks.is_rewriting(seq) else "ready"
    seq.attempt += 1
    stand(state, seq)


def _asked(state: State, seq: Sequence, step: PlannedStep, event: Asked) -> None:
    _wait_in(state, seq, "asked")


def _answered(state: State, seq: Sequence, step: PlannedStep, event: Answered) -> None:
    if event.verdict == "decline":
        end_item(state, seq, "declined", event.note)
        return
    if event.verdict == "back":
        if seq.round >= step.rounds:
            raise FlowError("this was the last round; approve, edit or decline")
        seq.notes.append(event.note)
        seq.phase, seq.attempt = "rewriting", 1
        stand(state, seq)
        return
    changed = {step.about: {"text": event.text}, **event.values}
    for name, output in changed.items():
        holder = seq.holder(name)
        before = holder.values[name] if holder else None
        if holder is not None and isinstance(before, dict):
            holder.values[name] = {**before, **output}
    seq.values[step.id] = {
        "text": event.text,
        "by": event.by,
        "note": event.note,
        "rounds": seq.round,
        "edited": event.edited,
    }
    go_on(state, seq)


def _to_permit(state: State, seq: Sequence, step: PlannedStep, event: Asked) -> None:
    seq.scope_asked = event.scope
    _wait_in(state, seq, "permitting")


def _covered(state: State, seq: Sequence, step: PlannedStep, event: Permitted) -> None:
    _wait_in(state, seq, "ready")


def _permitted(state: State, seq: Sequence, step: PlannedStep, event: Answered) -> None:
    """A person's word on an act of an assignment; a note goes back to it."""
    if event.verdict != "approve":
        finish(state, seq, "declined", event.note)
        return
    assert seq.parent is not None
    assert seq.parent.block is not None
    seq.parent.block.allowed.add(step.id if state.rules < 2 else seq.scope_asked)
    _wait_in(state, seq, "ready")


def _queued(state: State, seq: Sequence, step: PlannedStep, event: Queued) -> None:
    _wait_in(state, seq, "queued")


def _sent(state: State, seq: Sequence, step: PlannedStep, event: Sent) -> None:
    seq.values[step.id] = event.receipt
    go_on(state, seq)


def _accepted(state: State, seq: Sequence, step: PlannedStep, event: Accepted) -> None:
    """A job was taken: from now on it is only looked at, and never handed in again by itself."""
    seq.receipt, seq.taken_at, seq.attempt, seq.due = event.receipt, event.at, 1, event.due
    _wait_in(state, seq, "pausing")


def _followed(state: State, seq: Sequence, step: PlannedStep, event: Followed) -> None:
    seq.due, seq.attempt = event.due, 1
    _wait_in(state, seq, "pausing")


def _follow(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    _wait_in(state, seq, "following")


def _lost_sight(state: State, seq: Sequence, step: PlannedStep, event: Failed) -> None:
    """Looking at a job failed; that is tried again while it may, and the job itself is left alone."""
    _spend(state, seq, event.usage)
    if event.retryable and seq.attempt <= step.retries:
        seq.due = event.at + _pause(step, seq.attempt, event)
        seq.attempt += 1
        _wait_in(state, seq, "pausing")
    else:
        fail(state, seq, event.message)


def _unsure(state: State, seq: Sequence, step: PlannedStep, event: Unsure) -> None:
    seq.message = event.message
    _wait_in(state, seq, "unsure")


def _opened(state: State, seq: Sequence, step: PlannedStep, event: Opened) -> None:
    seq.block = Block(items=event.items, found=event.found, lanes=event.lanes, began=event.at)
    _wait_in(state, seq, "open")
    blocks.start(state, seq)


def _checked(state: State, seq: Sequence, step: PlannedStep, event: Checked) -> None:
    block = seq.block
    assert block is not None
    late = event.at - block.began >= step.seconds
    if event.holds or ((block.started >= step.rounds or late) and not step.strict):
        seq.values[step.id] = {"rounds": block.started, "came": "yes" if event.holds else "no"}
        blocks.close(state, seq)
    elif block.started >= step.rounds or late:
        n = block.started
        fail(state, seq, f"What was waited for did not come in {n} round{'s' if n != 1 else ''}.")
    elif step.wait > 0:
        seq.phase, seq.due = "between", event.at + min(step.wait * step.grow ** (block.started - 1), 86_400.0)
        stand(state, seq)
    else:
        seq.phase = "open"
        stand(state, seq)
        blocks.start(state, seq)


def _next_round(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    seq.phase = "open"
    stand(state, seq)
    blocks.start(state, seq)


def _resting(state: State, seq: Sequence, step: PlannedStep, event: Resting) -> None:
    seq.phase, seq.due = "listening" if event.listening else "resting", event.due
    stand(state, seq)


def _rested(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    if seq.phase == "listening" and step.strict:
        fail(state, seq, "What was waited for did not arrive in time.")
        return
    seq.values[step.id] = {"came": "no", "item": {}}
    go_on(state, seq)


def _heard(state: State, seq: Sequence, step: PlannedStep, event: Heard) -> None:
    seq.values[step.id] = {"came": "yes", "item": event.item}
    go_on(state, seq)


def _called(state: State, seq: Sequence, step: PlannedStep, event: Called) -> None:
    _wait_in(state, seq, "called")


def _stopped(state: State, seq: Sequence, step: PlannedStep, event: Stopped) -> None:
    if event.whole:
        stop_run(state, "done" if event.well else "failed", event.message)
    elif event.well:
        end_item(state, seq, "skipped", event.message)
    else:
        seq.phase, seq.message = "failed", event.message
        end_item(state, seq, "failed", event.message)


def _judged(state: State, seq: Sequence, step: PlannedStep, event: Judged) -> None:
    if event.choice == "again":
        state.generation += 1
        resume(state, seq)
    elif event.choice == "value":
        seq.values[step.id] = event.value
        go_on(state, seq)
    elif event.choice == "skip":
        pass_over(state, seq, seq.message)
    else:
        seq.phase = "failed"
        finish(state, seq, "failed", seq.message)


def _wait_in(state: State, seq: Sequence, phase: str) -> None:
    seq.phase = phase  # type: ignore[assignment]
    stand(state, seq)


_RULES: dict[tuple[str, type], Callable[..., None]] = {
    ("ready", Done): _done,
    ("ready", Failed): _failed,
    ("ready", Asked): _asked,
    ("ready", Queued): _queued,
    ("ready", Opened): _opened,
    ("ready", Resting): _resting,
    ("ready", Called): _called,
    ("ready", Stopped): _stopped,
    ("waiting", TimerFired): _again,
    ("rewriting", Done): _redone,
    ("rewriting", Failed): _failed,
    ("asked", Answered): _answered,
    ("permit", Asked): _to_permit,
    ("permit", Failed): _failed,
    ("permit", Permitted): _covered,
    ("permitting", Answered): _permitted,
    ("queued", Sent): _sent,
    ("queued", Failed): _failed,
    ("queued", Unsure): _unsure,
    ("queued", Accepted): _accepted,
    ("unsure", Accepted): _accepted,
    ("pausing", TimerFired): _follow,
    ("following", Followed): _followed,
    ("following", Done): _done,
    ("following", Failed): _lost_sight,
    ("unsure", Sent): _sent,
    ("unsure", Failed): _failed,
    ("unsure", Queued): _queued,
    ("checking", Checked): _checked,
    ("checking", Failed): _failed,
    ("between", TimerFired): _next_round,
    ("resting", TimerFired): _rested,
    ("listening", TimerFired): _rested,
    ("listening", Heard): _heard,
    ("called", Done): _done,
    ("called", Failed): _failed,
    ("stuck", Judged): _judged,
}
