"""Taking up again: how a sequence goes back to an earlier step, and a block stands open again for what failed in it."""

from __future__ import annotations

from .blocks import is_rewriting, place, stand, start
from .plan import PlannedStep
from .state import Sequence, State


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
    inside = [*step.steps, *(s for lane in step.lanes for s in lane.steps)]
    if step.manner in ("fork", "repeat"):
        for inner in inside:
            _forget(seq, inner)


def reopen(state: State, parent: Sequence, name: str, number: int) -> None:
    """Have a block stand open again for a sequence in it that failed."""
    index = next(i for i, s in enumerate(parent.steps) if s.id == name)
    block = parent.block if parent.position == index and parent.block else parent.closed[name]
    step = parent.steps[index]
    if state.rules >= 2 and step.manner == "fork" and parent.position > index:
        # The page went on without this lane; it is taken up by itself, and nothing after the fork happens twice.
        block.failures.pop(number, None)
        seq = block.kept.pop(number)
        seq.beside = (step, block)
        block.running[number] = seq
        return
    if parent.phase != "open" or parent.position != index:
        for step in parent.steps[index + 1 :]:
            _forget(parent, step)
        place(parent, index)
        parent.block, parent.phase = block, "open"
        parent.generation = state.generation
        stand(state, parent)
    block.failures.pop(number, None)
    seq = block.kept.pop(number)
    block.running[number] = seq


def resume(state: State, seq: Sequence) -> None:
    """Go on at the step the sequence stands at; a block goes on with what failed in it."""
    step = seq.current
    assert step is not None
    seq.generation = state.generation
    if seq.block is not None and seq.block.kept:
        block = seq.block
        seq.phase = "open"
        stand(state, seq)
        for number in sorted(block.kept):
            block.failures.pop(number, None)
            child = block.kept.pop(number)
            block.running[number] = child
            resume(state, child)
        if step.manner == "each":
            start(state, seq)
        return
    seq.phase, seq.attempt = "rewriting" if is_rewriting(seq) else "ready", 1
    if step.manner != "assign":
        seq.block = None
    stand(state, seq)
