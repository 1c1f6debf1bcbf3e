"""The state machine. `_RULES` says which event is allowed in which phase and what it does; everything
else is an error, so that a journal that could not have happened is refused and not guessed at."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable

from .address import Address
from .decisions import Ask, Decision, Finish, Perform, Rewrite, Send, Wait, Write
from .events import (
    Answered,
    Asked,
    Begun,
    Cancelled,
    Done,
    Ended,
    Event,
    Failed,
    Queued,
    Sent,
    TakenUp,
    TimerFired,
    Unsure,
)
from .plan import Plan, PlannedStep
from .state import State

LONGEST_WAIT = 3600.0


class FlowError(ValueError):
    """An event that cannot happen in this state."""


def begin(plan: Plan, event: Begun) -> State:
    """The state of a run that has just begun."""
    return State(plan=plan, values={**event.context, plan.start: event.item})


def replay(plan: Plan, events: Iterable[Event]) -> State:
    """The state after `events`, the first of which must be `Begun`."""
    stream = iter(events)
    first = next(stream, None)
    if not isinstance(first, Begun):
        raise FlowError("a journal starts with “begun”")
    state = begin(plan, first)
    for event in stream:
        state = apply(state, event)
    return state


def decide(state: State) -> list[Decision]:
    """The open decisions. Pure: asking twice gives the same answer."""
    if state.ended:
        return []
    if state.outcome is not None:
        return [Finish(state.outcome, state.message)]
    step = state.current
    if step is None:
        return [Finish("done", "")]
    address = _address(state, step)
    match state.phase, step.manner:
        case "ready", "perform":
            return [Perform(address, step.id, state.attempt)]
        case "ready", "ask":
            return [Ask(address, step.id, state.round, state.round >= step.rounds)]
        case "ready", "send":
            return [Send(address, step.id, state.attempt, state.generation)]
        case "ready", "write":
            return [Write(address, step.id, state.generation)]
        case "rewriting", _:
            previous = str(state.values.get(step.about, {}).get("text", ""))
            return [Perform(address, step.about, state.attempt, Rewrite(previous, tuple(state.notes)))]
        case "waiting", _:
            return [Wait(address, state.due)]
    return []


def apply(state: State, event: Event) -> State:
    """`state` after `event`; the same object, changed. Costs the same however long the journal is.

    Raises `FlowError` where the event cannot happen.
    """
    let_rest = isinstance(event, Cancelled) and state.outcome == "failed"
    if state.ended and not isinstance(event, TakenUp) and not let_rest:
        raise FlowError(f"the run has ended; “{event.event}” cannot follow")
    if state.outcome is not None and not isinstance(event, Ended | TakenUp) and not let_rest:
        raise FlowError(f"the run is ending; “{event.event}” cannot follow")
    rule = _RULES.get((state.phase, type(event))) or _RULES.get(("any", type(event)))
    if rule is None:
        raise FlowError(f"“{event.event}” cannot happen while the step is {state.phase}")
    address = getattr(event, "address", None)
    step = state.current
    if address is not None and not isinstance(event, TakenUp) and (step is None or address != _address(state, step)):
        raise FlowError(f"“{event.event}” is for {address}, which is not where the run stands")
    rule(state, event)
    return state


def _address(state: State, step: PlannedStep) -> str:
    if step.manner != "ask":
        return step.id
    if _is_rewriting(state):
        return str(Address(step.about, 1, ((step.id, state.round),)))
    return str(Address(step.id, state.round))


def _is_rewriting(state: State) -> bool:
    # A rewrite that waits for a new try, or failed, is still at the rewrite's address.
    return state.phase == "rewriting" or (state.phase in ("waiting", "failed") and len(state.notes) >= state.round)


def _next(state: State) -> None:
    state.position += 1
    state.phase, state.attempt, state.round, state.due = "ready", 1, 1, 0.0
    state.notes = []


def _done(state: State, event: Done) -> None:
    step = state.current
    assert step is not None
    state.usage += event.usage
    if step.manner not in ("perform", "write"):
        raise FlowError(f"“{step.id}” cannot simply be done")
    state.values[step.id] = event.output
    _next(state)


def _redone(state: State, event: Done) -> None:
    step = state.current
    assert step is not None
    state.usage += event.usage
    state.values[step.about] = event.output
    # The notes stay: later rewrites keep to earlier notes too.
    state.phase, state.attempt = "ready", 1
    state.round += 1


def _failed(state: State, event: Failed) -> None:
    step = state.current
    assert step is not None
    state.usage += event.usage
    if event.retryable and state.attempt <= step.retries:
        state.phase = "waiting"
        state.due = event.at + _pause(step, state.attempt, event)
        return
    state.phase, state.outcome, state.message = "failed", "failed", event.message


def _pause(step: PlannedStep, attempt: int, event: Failed) -> float:
    """Seconds to wait: doubling, with a jitter that a replay finds again, never less than the outside asked for."""
    seed = zlib.crc32(f"{event.address}:{attempt}:{event.at}".encode())
    backoff: float = step.wait * 2.0 ** (attempt - 1) * (0.85 + 0.3 * seed / 0xFFFFFFFF)
    return min(LONGEST_WAIT, max(backoff, event.retry_after or 0.0))


def _fired(state: State, event: TimerFired) -> None:
    state.phase = "rewriting" if _is_rewriting(state) else "ready"
    state.attempt += 1


def _asked(state: State, event: Asked) -> None:
    state.phase = "asked"


def _answered(state: State, event: Answered) -> None:
    step = state.current
    assert step is not None
    if event.verdict == "decline":
        state.outcome, state.message = "declined", event.note
        return
    if event.verdict == "back":
        if state.round >= step.rounds:
            raise FlowError("this was the last round; approve, edit or decline")
        state.notes.append(event.note)
        state.phase, state.attempt = "rewriting", 1
        return
    draft = state.values.get(step.about)
    if isinstance(draft, dict):
        state.values[step.about] = {**draft, "text": event.text}
    state.values[step.id] = {
        "text": event.text,
        "by": event.by,
        "note": event.note,
        "rounds": state.round,
        "edited": event.edited,
    }
    _next(state)


def _queued(state: State, event: Queued) -> None:
    state.phase = "queued"


def _sent(state: State, event: Sent) -> None:
    step = state.current
    assert step is not None
    state.values[step.id] = event.receipt
    _next(state)


def _unsure(state: State, event: Unsure) -> None:
    state.phase, state.message = "unsure", event.message


def _taken_up(state: State, event: TakenUp) -> None:
    step = state.current
    if state.outcome != "failed" or step is None:
        raise FlowError("only a run that failed can be taken up again")
    rewriting = _is_rewriting(state)
    state.outcome, state.message, state.ended = None, "", False
    state.phase, state.attempt = "rewriting" if rewriting else "ready", 1
    state.generation += 1


def _cancelled(state: State, event: Cancelled) -> None:
    state.outcome, state.message = "cancelled", f"Cancelled by {event.by}." if event.by else "Cancelled."


def _ended(state: State, event: Ended) -> None:
    state.ended, state.outcome, state.message = True, event.outcome, event.message


_RULES: dict[tuple[str, type], Callable[..., None]] = {
    ("ready", Done): _done,
    ("ready", Failed): _failed,
    ("ready", Asked): _asked,
    ("ready", Queued): _queued,
    ("waiting", TimerFired): _fired,
    ("rewriting", Done): _redone,
    ("rewriting", Failed): _failed,
    ("asked", Answered): _answered,
    ("queued", Sent): _sent,
    ("queued", Failed): _failed,
    ("queued", Unsure): _unsure,
    ("unsure", Sent): _sent,
    ("unsure", Failed): _failed,
    ("unsure", Queued): _queued,
    ("failed", TakenUp): _taken_up,
    ("any", Cancelled): _cancelled,
    ("any", Ended): _ended,
}
