"""Taking up again: how a sequence goes back to an earlier step, and a block stands open again for what failed in it."""

from __future__ import annotations

from ..workflow.plans import AssignmentPlan, EachPlan, ForkPlan, RepeatPlan
from .phases import Open, Rewriting
from .plan import PlannedStep
from .standing import is_rewriting, place, stand
from .state import READY, Sequence, State


def back_to(state: State, seq: Sequence, index: int) -> None:
    """Have the sequence stand at an earlier (or later) step, without the values of the steps from there on."""
    for step in seq.steps[index:]:
        _forget(seq, step)
        for told in [key for key in state.troubles if key.startswith(f"{seq.prefix}{step.id}:")]:
            del state.troubles[told]
    place(seq, index)


def _forget(seq: Sequence, step: PlannedStep) -> None:
    seq.values.pop(step.id, None)
    seq.closed.pop(step.id, None)
    steps = [*step.steps, *(s for lane in step.lanes for s in lane.steps)]
    if isinstance(step.how, ForkPlan | RepeatPlan):
        for inner in steps:
            _forget(seq, inner)


def reopen(state: State, parent: Sequence, name: str, number: int) -> None:
    """Have a block stand open again for a sequence in it that failed."""
    index = next(i for i, s in enumerate(parent.steps) if s.id == name)
    block = parent.block if parent.position == index and parent.block else parent.closed[name]
    step = parent.steps[index]
    if state.rules >= 2 and isinstance(step.how, ForkPlan) and parent.position > index:
        # The page went on without this lane; it is taken up by itself, and nothing after the fork happens twice.
        block.failures.pop(number, None)
        seq = block.kept.pop(number)
        seq.beside = (step, block)
        block.running[number] = seq
        return
    if not isinstance(parent.phase, Open) or parent.position != index:
        for step in parent.steps[index + 1 :]:
            _forget(parent, step)
        place(parent, index)
        parent.block, parent.generation = block, state.generation
        stand(state, parent, Open())
    block.failures.pop(number, None)
    seq = block.kept.pop(number)
    block.running[number] = seq


def resume(state: State, seq: Sequence) -> None:
    """Go on at the step the sequence stands at; a block goes on with what failed in it."""
    step = seq.step
    seq.generation = state.generation
    if seq.block is not None and seq.block.kept:
        block = seq.block
        stand(state, seq, Open())
        for number in sorted(block.kept):
            block.failures.pop(number, None)
            child = block.kept.pop(number)
            block.running[number] = child
            resume(state, child)
        if isinstance(step.how, EachPlan):
            block.start(state, seq)
        return
    phase, seq.attempt = Rewriting() if is_rewriting(seq) else READY, 1
    if not isinstance(step.how, AssignmentPlan):
        seq.block = None
    stand(state, seq, phase)
