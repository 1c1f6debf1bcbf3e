"""The state machine. `_RULES` says which event is allowed in which phase and what it does; everything
else is an error, so that a journal that could not have happened is refused and not guessed at.

A run is a tree of sequences: the page, and inside its blocks the iterations, lanes and rounds. Each sequence
stands at one step; `blocks` says what becomes of a block when a sequence inside it ends.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable

from ..cost import Usage
from ..workflow.plans import AskPlan, AssignmentPlan, CallPlan, ComputePlan, DraftPlan, PerformPlan, RepeatPlan, WaitPlan, WritePlan
from .blocks import CALLS, AssignmentBlock, opened, rests, wakes
from .decisions import Decision, Finish
from .events import (
    Accepted,
    Agreed,
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
    Leased,
    Opened,
    Permitted,
    Queued,
    Resting,
    Sent,
    Stopped,
    TimerFired,
    Unsure,
)
from .lifecycle import LIFECYCLE, look_at_limits
from .phases import (
    Asking,
    Between,
    Broken,
    Checking,
    Due,
    Following,
    InDoubt,
    Job,
    Open,
    Pausing,
    Permit,
    Permitting,
    Phase,
    Ready,
    Retrying,
    Rewriting,
    Stuck,
)
from .phases import Called as AtAnother
from .phases import Listening as Awaiting
from .phases import Queued as InOutbox
from .phases import Resting as Sleeping
from .plan import Plan, PlannedStep
from .resuming import resume
from .standing import FlowError, close, end_item, fail, finish, go_on, is_rewriting, pass_over, stand, stop_run
from .state import READY, Sequence, State

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
    if of_the_run := LIFECYCLE.get(type(event)):
        of_the_run(state, event)
        return state
    if state.ended or state.outcome is not None:
        raise FlowError(f"the run has ended; “{event.event}” cannot follow")
    address = getattr(event, "address", "")
    seq = state.at.get(address)
    if seq is None:
        raise FlowError(f"“{event.event}” is for {address}, where nothing is under way")
    rule = _RULES.get((type(seq.phase), type(event)))
    if rule is None:
        raise FlowError(f"“{event.event}” cannot happen while the step is {seq.phase.name}")
    rule(state, seq, seq.step, event)
    look_at_limits(state, event.at)
    return state


# -- steps ------------------------------------------------------------------------------------------

#: What is done when it was carried out, and leaves nothing to be waited for.
_DONE_AT_ONCE = (PerformPlan, DraftPlan, WritePlan, ComputePlan, CallPlan, AssignmentPlan)


def _done(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    if not isinstance(step.how, _DONE_AT_ONCE) and not isinstance(seq.phase, Following):
        raise FlowError(f"“{step.id}” cannot simply be done")
    if isinstance(step.how, CallPlan) and not isinstance(seq.phase, AtAnother):
        raise FlowError(f"the run “{step.id}” calls for has not begun")
    if isinstance(step.how, AssignmentPlan):
        _thought(state, seq, step, event)
        return
    _spend(state, seq, event.usage)
    seq.values[step.id] = event.output
    go_on(state, seq)


def _thought(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    """An assignment has thought: it wants to use tools, or has its answer."""
    block = seq.block = seq.block or AssignmentBlock(began=event.at)
    assert isinstance(block, AssignmentBlock)
    _spend(state, seq, event.usage)
    calls = event.output.get(CALLS)
    if calls:
        block.said, block.calls = str(event.output.get("text", "")), list(calls)
        stand(state, seq, Open())
        block.start(state, seq)
    else:
        seq.values[step.id] = event.output
        close(state, seq)


def _spend(state: State, seq: Sequence, usage: Usage) -> None:
    """Book what was used: for the run, and for the blocks around."""
    if not (usage.calls or usage.cost or usage.tokens_in or usage.tokens_out or usage.seconds):
        return
    state.usage += usage
    sequence: Sequence | None = seq
    while sequence is not None:
        if sequence.block is not None:
            sequence.block.spent += usage.cost
        sequence = sequence.parent


def _redone(state: State, seq: Sequence, step: PlannedStep, event: Done) -> None:
    assert isinstance(step.how, AskPlan)
    draft = step.how.draft
    _spend(state, seq, event.usage)
    (seq.holder(draft) or seq).values[draft] = event.output
    # The notes stay: later rewrites keep to earlier notes too.
    seq.attempt = 1
    seq.round += 1
    stand(state, seq, READY)


def _failed(state: State, seq: Sequence, step: PlannedStep, event: Failed) -> None:
    _spend(state, seq, event.usage)
    if event.retryable and seq.attempt <= step.retries:
        stand(state, seq, Retrying(event.at + _pause(step, seq.attempt, event)))
    else:
        fail(state, seq, event.message)


def _pause(step: PlannedStep, attempt: int, event: Failed) -> float:
    """Seconds to wait: doubling, with a jitter that a replay finds again, never less than the outside asked for."""
    seed = zlib.crc32(f"{event.address}:{attempt}:{event.at}".encode())
    backoff: float = step.wait * 2.0 ** (attempt - 1) * (0.85 + 0.3 * seed / 0xFFFFFFFF)
    return min(LONGEST_WAIT, max(backoff, event.retry_after or 0.0))


def _again(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    phase = Rewriting() if is_rewriting(seq) else READY
    seq.attempt += 1
    stand(state, seq, phase)


def _asked(state: State, seq: Sequence, step: PlannedStep, event: Asked) -> None:
    stand(state, seq, Asking())
    rests(state, seq)


def _leased(state: State, seq: Sequence, step: PlannedStep, event: Leased) -> None:
    """Somebody is to carry it out: nothing has come of it yet."""


def _agreed(state: State, seq: Sequence, step: PlannedStep, event: Agreed) -> None:
    """Others are still waited for: the question stays as it is."""


def _answered(state: State, seq: Sequence, step: PlannedStep, event: Answered) -> None:
    assert isinstance(step.how, AskPlan)
    wakes(seq)
    if event.verdict == "decline":
        end_item(state, seq, "declined", event.note)
        return
    if event.verdict == "back":
        if seq.round >= step.how.rounds:
            raise FlowError("this was the last round; approve, edit or decline")
        seq.notes.append(event.note)
        seq.attempt = 1
        stand(state, seq, Rewriting())
        return
    changed = {step.how.draft: {"text": event.text}, **event.values}
    answer = changed.pop(step.id, {})
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
        **answer,
    }
    go_on(state, seq)


def _to_permit(state: State, seq: Sequence, step: PlannedStep, event: Asked) -> None:
    stand(state, seq, Permitting(event.scope))


def _covered(state: State, seq: Sequence, step: PlannedStep, event: Permitted) -> None:
    stand(state, seq, READY)


def _permitted(state: State, seq: Sequence, step: PlannedStep, event: Answered) -> None:
    """A person's word on an act of an assignment; a note goes back to it."""
    if event.verdict != "approve":
        finish(state, seq, "declined", event.note)
        return
    block, phase = seq.parent.block if seq.parent is not None else None, seq.phase
    assert isinstance(block, AssignmentBlock)
    assert isinstance(phase, Permitting)
    block.allowed.add(step.id if state.rules < 2 else phase.scope)
    stand(state, seq, READY)


def _queued(state: State, seq: Sequence, step: PlannedStep, event: Queued) -> None:
    stand(state, seq, InOutbox())


def _sent(state: State, seq: Sequence, step: PlannedStep, event: Sent) -> None:
    seq.values[step.id] = event.receipt
    go_on(state, seq)


def _accepted(state: State, seq: Sequence, step: PlannedStep, event: Accepted) -> None:
    """A job was taken: from now on it is only looked at, and never handed in again by itself."""
    seq.attempt = 1
    stand(state, seq, Pausing(event.due, Job(event.receipt, event.at)))


def _followed(state: State, seq: Sequence, step: PlannedStep, event: Followed) -> None:
    assert isinstance(seq.phase, Following)
    seq.attempt = 1
    stand(state, seq, Pausing(event.due, seq.phase.job))


def _follow(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    assert isinstance(seq.phase, Pausing)
    stand(state, seq, Following(seq.phase.job))


def _lost_sight(state: State, seq: Sequence, step: PlannedStep, event: Failed) -> None:
    """Looking at a job failed; that is tried again while it may, and the job itself is left alone."""
    assert isinstance(seq.phase, Following)
    _spend(state, seq, event.usage)
    if event.retryable and seq.attempt <= step.retries:
        due = event.at + _pause(step, seq.attempt, event)
        seq.attempt += 1
        stand(state, seq, Pausing(due, seq.phase.job))
    else:
        fail(state, seq, event.message)


def _unsure(state: State, seq: Sequence, step: PlannedStep, event: Unsure) -> None:
    stand(state, seq, InDoubt(event.message))


def _opened(state: State, seq: Sequence, step: PlannedStep, event: Opened) -> None:
    block = seq.block = opened(step, event)
    stand(state, seq, Open())
    block.start(state, seq)


def _checked(state: State, seq: Sequence, step: PlannedStep, event: Checked) -> None:
    block, how = seq.block, step.how
    assert block is not None
    assert isinstance(how, RepeatPlan)
    late = event.at - block.began >= how.seconds
    if event.holds or ((block.started >= how.rounds or late) and not how.strict):
        seq.values[step.id] = {"rounds": block.started, "came": "yes" if event.holds else "no"}
        close(state, seq)
    elif block.started >= how.rounds or late:
        n = block.started
        fail(state, seq, f"What was waited for did not come in {n} round{'s' if n != 1 else ''}.")
    elif how.wait > 0:
        stand(state, seq, Between(event.at + min(how.wait * how.grow ** (block.started - 1), 86_400.0)))
    else:
        _next_round(state, seq, step, event)


def _next_round(state: State, seq: Sequence, step: PlannedStep, event: Event) -> None:
    assert seq.block is not None
    stand(state, seq, Open())
    seq.block.start(state, seq)


def _resting(state: State, seq: Sequence, step: PlannedStep, event: Resting) -> None:
    stand(state, seq, Awaiting(event.due) if event.listening else Sleeping(event.due or 0.0))


def _rested(state: State, seq: Sequence, step: PlannedStep, event: TimerFired) -> None:
    if isinstance(step.how, PerformPlan):
        stand(state, seq, Due())
        return
    assert isinstance(step.how, WaitPlan)
    if isinstance(seq.phase, Awaiting) and step.how.strict:
        fail(state, seq, "What was waited for did not arrive in time.")
        return
    seq.values[step.id] = {"came": "no", "item": {}}
    go_on(state, seq)


def _heard(state: State, seq: Sequence, step: PlannedStep, event: Heard) -> None:
    seq.values[step.id] = {"came": "yes", "item": event.item}
    go_on(state, seq)


def _called(state: State, seq: Sequence, step: PlannedStep, event: Called) -> None:
    stand(state, seq, AtAnother())


def _stopped(state: State, seq: Sequence, step: PlannedStep, event: Stopped) -> None:
    if event.whole:
        stop_run(state, "done" if event.well else "failed", event.message)
    elif event.well:
        end_item(state, seq, "skipped", event.message)
    else:
        seq.phase = Broken(event.message)
        end_item(state, seq, "failed", event.message)


def _judged(state: State, seq: Sequence, step: PlannedStep, event: Judged) -> None:
    assert isinstance(seq.phase, Stuck)
    message = seq.phase.message
    if event.choice == "again":
        state.generation += 1
        resume(state, seq)
    elif event.choice == "value":
        seq.values[step.id] = event.value
        go_on(state, seq)
    elif event.choice == "skip":
        pass_over(state, seq, message)
    else:
        seq.phase = Broken(message)
        finish(state, seq, "failed", message)


_RULES: dict[tuple[type[Phase], type], Callable[..., None]] = {
    (Ready, Done): _done,
    (Ready, Failed): _failed,
    (Ready, Leased): _leased,
    (Due, Leased): _leased,
    (Rewriting, Leased): _leased,
    (Ready, Asked): _asked,
    (Ready, Queued): _queued,
    (Ready, Opened): _opened,
    (Ready, Resting): _resting,
    (Ready, Called): _called,
    (Ready, Stopped): _stopped,
    (Retrying, TimerFired): _again,
    (Due, Done): _done,
    (Due, Failed): _failed,
    (Rewriting, Done): _redone,
    (Rewriting, Failed): _failed,
    (Asking, Agreed): _agreed,
    (Asking, Answered): _answered,
    (Permitting, Agreed): _agreed,
    (Permit, Asked): _to_permit,
    (Permit, Failed): _failed,
    (Permit, Permitted): _covered,
    (Permitting, Answered): _permitted,
    (InOutbox, Sent): _sent,
    (InOutbox, Failed): _failed,
    (InOutbox, Unsure): _unsure,
    (InOutbox, Accepted): _accepted,
    (InDoubt, Accepted): _accepted,
    (Pausing, TimerFired): _follow,
    (Following, Followed): _followed,
    (Following, Done): _done,
    (Following, Failed): _lost_sight,
    (InDoubt, Sent): _sent,
    (InDoubt, Failed): _failed,
    (InDoubt, Queued): _queued,
    (Checking, Checked): _checked,
    (Checking, Failed): _failed,
    (Between, TimerFired): _next_round,
    (Sleeping, TimerFired): _rested,
    (Awaiting, TimerFired): _rested,
    (Awaiting, Heard): _heard,
    (AtAnother, Done): _done,
    (AtAnother, Failed): _failed,
    (Stuck, Judged): _judged,
}
