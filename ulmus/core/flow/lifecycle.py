"""What happens to a run as a whole: paused and let go on, cancelled, ended, taken up again; and its limits."""

from __future__ import annotations

from collections.abc import Callable

from ..workflow.plans import AskPlan
from .address import Address
from .decisions import Hold
from .events import Cancelled, Ended, Held, Released, Spent, TakenUp
from .phases import Broken
from .resuming import back_to, reopen, resume
from .standing import FlowError, stop_run
from .state import Sequence, State


def look_at_limits(state: State, now: float) -> None:
    """Hold the run where it has reached one of its limits."""
    if state.held or state.outcome is not None:
        return
    limits, granted = state.plan.limits, state.granted
    money = limits.run_money
    if money is not None and state.usage.cost > money + granted.get("money", 0.0):
        spent = f"{state.usage.cost:.4f}".rstrip("0")
        state.over = Hold("money", f"This run has cost {spent}; its limit is {money:g}. Press Go on, or cancel it.")
    elif state.steps >= limits.steps + granted.get("steps", 0.0):
        state.over = Hold("steps", f"This run has taken {state.steps} steps, its limit. Press Go on, or cancel it.")
    elif now - state.began > limits.hours * 3600 + granted.get("time", 0.0):
        state.over = Hold("time", f"This run has taken more than {limits.hours:g} hours. Press Go on, or cancel it.")


def _held(state: State, event: Held) -> None:
    if state.ended or state.outcome is not None or state.held:
        raise FlowError("only a run that goes on can be paused")
    state.held, state.held_for, state.over = event.message, event.reason, None


def _released(state: State, event: Released) -> None:
    if not state.held:
        raise FlowError("this run is not paused")
    limits = state.plan.limits
    if state.held_for == "money":
        state.granted["money"] = state.usage.cost
    elif state.held_for == "steps":
        state.granted["steps"] = state.granted.get("steps", 0.0) + limits.steps
    elif state.held_for == "time":
        state.granted["time"] = event.at - state.began
    elif state.held_for == "budget":
        state.granted["budget"] = 1.0
    state.held = state.held_for = ""
    state.news = list(state.open.values())
    look_at_limits(state, event.at)


def _cancelled(state: State, event: Cancelled) -> None:
    if state.outcome not in (None, "failed"):
        raise FlowError("the run has ended; “cancelled” cannot follow")
    stop_run(state, "cancelled", f"Cancelled by {event.by}." if event.by else "Cancelled.")


def _spent(state: State, event: Spent) -> None:
    """Booked whenever it comes, also after the end."""
    state.usage += event.usage


def _ended(state: State, event: Ended) -> None:
    if state.ended:
        raise FlowError("the run has ended; “ended” cannot follow")
    state.ended, state.outcome, state.message = True, event.outcome, event.message


def _taken_up(state: State, event: TakenUp) -> None:
    if state.outcome == "cancelled":
        raise FlowError("a cancelled run is not taken up again; carry it out again instead")
    try:
        target = Address.parse(event.address)
    except ValueError as error:
        raise FlowError(str(error)) from None
    path: list[tuple[Sequence, int]] = []
    seq = state.root
    for name, number in target.within:
        step = next((s for s in seq.steps if s.id == name), None)
        if step is not None and isinstance(step.how, AskPlan):
            target = Address(name)  # a rewrite is taken up through the step that asks
            break
        block = seq.block if step is not None and seq.current is step and seq.block else seq.closed.get(name)
        kept = block.kept.get(number) if block else None
        if kept is None:
            raise FlowError(f"nothing failed at {event.address}")
        path.append((seq, number))
        seq = kept
    if state.outcome is None and not path:
        raise FlowError("only what has failed or ended can be taken up again")
    if state.held:
        raise FlowError("the run is paused; let it go on first")
    index = next((i for i, s in enumerate(seq.steps) if s.id == target.step), None)
    if index is None:
        raise FlowError(f"there is no step at {event.address}")
    state.generation += 1
    if state.outcome is not None:
        state.stopped = state.outcome, state.message
    state.outcome, state.message, state.ended, state.over = None, "", False, None
    for name, values in event.values.items():
        holder = seq.holder(name)
        if holder is not None:
            holder.values[name] = values
    for parent, number in path:
        reopen(state, parent, target_of(parent, path, target), number)
    if index != seq.position or not isinstance(seq.phase, Broken):
        back_to(state, seq, index)
    resume(state, seq)


def target_of(parent: Sequence, path: list[tuple[Sequence, int]], target: Address) -> str:
    """The name of the block of `parent` that `target` stands in."""
    depth = next(i for i, (seq, _) in enumerate(path) if seq is parent)
    return target.within[depth][0]


LIFECYCLE: dict[type, Callable[..., None]] = {
    Held: _held,
    Released: _released,
    Spent: _spent,
    Cancelled: _cancelled,
    Ended: _ended,
    TakenUp: _taken_up,
}
