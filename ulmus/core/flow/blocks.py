"""Sequences and blocks: where a sequence stands, and what becomes of a block when a sequence inside it ends.

- *for each*: iterations begin in the order of the items, so many at a time; results keep that order; an item that
  fails is left out and kept for taking up, or, where so set, fails the block once the others under way have ended.
- *fork*: the chosen lanes run side by side; they meet again when all have ended. Where one lane was to be taken, its
  failure is the fork's; where several are, one that failed stops only itself: the page goes on, the run tells of it at its
  end, and the lane can be taken up alone.
- *repeat until*: one round after another; values of a round are seen by the next.
- *assignment*: a round is thought out, then the tools it calls for are used one after another, each as a sequence of its
  own; what fails is told to the next round. An act asks a person first, each time, or unless it is covered by what was
  allowed before.
"""

from __future__ import annotations

from typing import Any

from ..workflow.kinds import ACTS
from .address import Address
from .decisions import (
    Ask,
    Call,
    Check,
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
    Rewrite,
    Send,
    Set,
    Stop,
    Turn,
    Wait,
    Write,
)
from .plan import PlannedStep
from .state import Block, Phase, Sequence, State

CALLS = "@calls"
"""Where the output of a round of an assignment holds the tools it wants to use; without it, it is the answer."""
GIVEN = "given"
"""The name by which a tool's line reaches what the model gives it."""


class FlowError(ValueError):
    """An event that cannot happen in this state."""


# -- where a sequence stands ------------------------------------------------------------------------


def is_rewriting(seq: Sequence) -> bool:
    """Whether the sequence is making a draft again after a note."""
    # A rewrite that waits for a new try, or failed, is still at the rewrite's address.
    return seq.phase == "rewriting" or (seq.phase in ("waiting", "failed", "stuck") and len(seq.notes) >= seq.round)


def stand(state: State, seq: Sequence) -> None:
    """Register the sequence at its address, with the decision that follows from its phase."""
    leave(state, seq)
    step = seq.current
    assert step is not None
    seq.address = _address(seq, step)
    state.at[seq.address] = seq
    seq.stood = seq.phase
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
    if step.manner == "assign":
        return seq.prefix + str(Address(step.id, seq.round))
    if step.manner != "ask":
        return seq.prefix + step.id
    own = Address(step.about, 1, ((step.id, seq.round),)) if is_rewriting(seq) else Address(step.id, seq.round)
    return seq.prefix + str(own)


def _decision(seq: Sequence, step: PlannedStep, address: str) -> Decision | None:
    match seq.phase:
        case "ready":
            return _first(seq, step, address)
        case "rewriting":
            holder = seq.holder(step.about)
            draft = holder.values[step.about] if holder else {}
            previous = str(draft.get("text", "")) if isinstance(draft, dict) else ""
            return Perform(address, step.about, seq.attempt, Rewrite(previous, tuple(seq.notes)), seq.generation)
        case "waiting" | "between" | "resting" | "pausing":
            return Wait(address, seq.due or 0.0)
        case "listening":
            return Listen(address, step.id, seq.due)
        case "checking":
            return Check(address, step.id, seq.block.started if seq.block else 0)
        case "permit":
            block = seq.parent.block if seq.parent else None
            around = seq.parent.current if seq.parent else None
            covers = block is not None and around is not None and around.asks == "first"
            return Permit(address, step.id, frozenset(block.allowed) if block and covers else frozenset())
        case "following":
            return Follow(address, step.id, seq.attempt, seq.generation, seq.taken_at, seq.receipt)
        case "stuck":
            return Judge(address, step.id, seq.message)
    return None


def _first(seq: Sequence, step: PlannedStep, address: str) -> Decision:
    match step.manner:
        case "ask":
            return Ask(address, step.id, seq.round, seq.round >= step.rounds)
        case "send":
            return Send(address, step.id, seq.attempt, seq.generation)
        case "write":
            return Write(address, step.id, seq.generation)
        case "each" | "fork" | "repeat":
            return Open(address, step.id)
        case "rest":
            return Rest(address, step.id)
        case "stop":
            return Stop(address, step.id)
        case "call":
            return Call(address, step.id, seq.generation)
        case "set":
            return Set(address, step.id)
        case "assign" if seq.block is not None:
            return Perform(address, step.id, seq.attempt, None, seq.generation, tuple(seq.block.talk), seq.block.spent)
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
    seq.phase, seq.attempt, seq.round, seq.due, seq.message = "ready", 1, 1, None, ""
    seq.notes, seq.block = [], None


def fail(state: State, seq: Sequence, message: str) -> None:
    """All tries of the current step have failed: its policy says what is next."""
    step = seq.current
    assert step is not None
    seq.message = message
    match step.then:
        case "value":
            seq.values[step.id] = dict(step.fallback)
            go_on(state, seq)
        case "skip":
            pass_over(state, seq, message)
        case "ask":
            seq.phase = "stuck"
            stand(state, seq)
        case _:
            seq.phase = "failed"
            finish(state, seq, "failed", message)


def pass_over(state: State, seq: Sequence, message: str) -> None:
    """Pass over the item or lane the sequence stands in; where it stands in none, the line alone."""
    if state.rules < 2 or _in_an_item(seq) or _in_a_lane(seq):
        end_item(state, seq, "skipped", message)
        return
    assert seq.current is not None
    state.passed[seq.address] = message
    go_on(state, seq)


def _in_an_item(seq: Sequence) -> bool:
    around = seq.parent.current if seq.parent else None
    return around is not None and (around.manner in ("each", "assign") or (seq.parent is not None and _in_an_item(seq.parent)))


def _in_a_lane(seq: Sequence) -> bool:
    """Whether it stands in one of several lanes that go on side by side."""
    around = seq.parent.current if seq.parent else None
    return around is not None and (
        (around.manner == "fork" and not around.strict) or (seq.parent is not None and _in_a_lane(seq.parent))
    )


def end_item(state: State, seq: Sequence, outcome: Outcome, message: str) -> None:
    """End the innermost item the sequence stands in: an iteration, one of several lanes, or the run itself."""
    top = seq
    while top.parent is not None:
        around = top.parent.current
        assert around is not None
        alone = around.manner == "fork" and not around.strict and (outcome == "declined" or state.rules >= 2)
        if around.manner in ("each", "assign") or alone:
            break
        top = top.parent
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
    """The sequence has ended; its block, or the run, goes on from there."""
    leave(state, seq)
    parent = seq.parent
    if parent is None:
        if outcome == "done" and state.troubles:
            outcome, message = "failed", f"{' '.join(state.troubles.values())} The rest went on."
        stop_run(state, outcome, message)
        return
    if seq.beside is not None:
        _beside_ended(state, parent, seq, outcome, message)
        return
    block, step = parent.block, parent.current
    assert block is not None
    assert step is not None
    block.running.pop(seq.number, None)
    if outcome == "failed" and step.manner != "assign":
        block.failures[seq.number] = message
        block.kept[seq.number] = seq
    match step.manner:
        case "each":
            _item_ended(state, parent, step, block, seq, outcome, message)
        case "fork":
            _lane_ended(state, parent, step, block, seq, outcome, message)
        case "assign":
            _tool_used(state, parent, block, seq, outcome, message)
        case _:
            _round_ended(state, parent, block, seq, outcome, message)


def _drop(state: State, seq: Sequence) -> None:
    leave(state, seq)
    for child in list(seq.block.running.values()) if seq.block else []:
        _drop(state, child)
    if seq.block:
        seq.block.running.clear()


# -- blocks -----------------------------------------------------------------------------------------


def start(state: State, seq: Sequence) -> None:
    """Begin what the block can begin now; a block with nothing to do is closed."""
    step, block = seq.current, seq.block
    assert step is not None
    assert block is not None
    match step.manner:
        case "each":
            if block.starting:
                return  # an iteration without steps ended while it was begun; the loop below goes on
            block.starting = True
            while block.started < len(block.items) and len(block.running) < step.parallel:
                if step.strict and block.failures:
                    break
                block.started += 1
                n = block.started
                _begin(state, seq, n, step.steps, {step.item: block.items[n - 1]})
            block.starting = False
            _each_over(state, seq, step, block)
        case "fork":
            for number in block.lanes:
                block.started += 1
                _begin(state, seq, number, step.lanes[number - 1].steps, {})
            if not block.lanes:
                _lanes_meet(state, seq, step, block)
        case "assign":
            _use_tools(state, seq, step, block)
        case _:
            block.started += 1
            _begin(state, seq, block.started, step.steps, {})


def _begin(
    state: State,
    parent: Sequence,
    number: int,
    steps: tuple[PlannedStep, ...],
    values: dict[str, Any],
    phase: Phase = "ready",
) -> None:
    assert parent.block is not None
    assert parent.current is not None
    key = f"{parent.prefix}{parent.current.id}:{number}"
    child = Sequence(key, steps, values, parent, number, parent.generation, phase=phase)
    parent.block.running[number] = child
    if steps:
        stand(state, child)
    else:
        finish(state, child, "done", "")


def close(state: State, seq: Sequence) -> None:
    """The block has given its values; keep it for taking up what failed in it, and go on."""
    step, block = seq.current, seq.block
    assert step is not None
    assert block is not None
    seq.closed[step.id] = block
    go_on(state, seq)


def _item_ended(
    state: State, parent: Sequence, step: PlannedStep, block: Block, seq: Sequence, outcome: Outcome, message: str
) -> None:
    if outcome == "done":
        block.results[seq.number] = seq.values
    elif outcome != "failed":
        block.passed[seq.number] = message
    start(state, parent)


def _each_over(state: State, seq: Sequence, step: PlannedStep, block: Block) -> None:
    stopping = step.strict and bool(block.failures)
    if block.running or (block.started < len(block.items) and not stopping):
        return
    if stopping:
        number, message = min(block.failures.items())
        fail(state, seq, f"Item {number}: {message}")
        return
    seq.values[step.id] = {
        "results": [block.results[n] for n in sorted(block.results)],
        "count": len(block.items),
        "found": len(block.items) if block.found is None else block.found,
        "failed": len(block.failures),
        "passed_over": len(block.passed),
        "failures": [{"number": n, "message": block.failures[n]} for n in sorted(block.failures)],
    }
    close(state, seq)


def _lane_ended(
    state: State, parent: Sequence, step: PlannedStep, block: Block, seq: Sequence, outcome: Outcome, message: str
) -> None:
    if outcome == "done":
        parent.values.update(seq.values)
    elif outcome != "failed":
        block.passed[seq.number] = message
    if not block.running and block.started >= len(block.lanes):
        _lanes_meet(state, parent, step, block)


def _lanes_meet(state: State, seq: Sequence, step: PlannedStep, block: Block) -> None:
    alone = len(block.lanes) < 2 or step.strict
    if block.failures and (state.rules < 2 or alone or len(block.failures) == len(block.lanes)):
        number, message = min(block.failures.items())
        fail(state, seq, f"Lane “{step.lanes[number - 1].id}”: {message}" if len(block.lanes) > 1 else message)
        return
    names = [step.lanes[n - 1].id for n in block.lanes]
    failed = {step.lanes[n - 1].id: words for n, words in sorted(block.failures.items())}
    seq.values[step.id] = {"lane": names[0] if names else "", "lanes": names}
    if state.rules >= 2:
        seq.values[step.id] |= {"failed": len(failed), "failures": [{"lane": n, "message": m} for n, m in failed.items()]}
    for name, words in failed.items() if not _in_an_item(seq) else ():
        state.troubles[f"{seq.prefix}{step.id}:{name}"] = f"Lane “{name}”: {words}"
    close(state, seq)


def _beside_ended(state: State, parent: Sequence, seq: Sequence, outcome: Outcome, message: str) -> None:
    """A lane that was taken up alone has ended; the page had gone on without it, and stays where it is."""
    assert seq.beside is not None
    step, block = seq.beside
    name = step.lanes[seq.number - 1].id
    block.running.pop(seq.number, None)
    place = f"{parent.prefix}{step.id}:{name}"
    output = parent.values.get(step.id, {})
    if outcome == "failed":
        block.failures[seq.number], block.kept[seq.number] = message, seq
        state.troubles[place] = f"Lane “{name}”: {message}"
    else:
        seq.beside = None
        state.troubles.pop(place, None)
        if outcome == "done":
            parent.values.update(seq.values)
    failures = [{"lane": step.lanes[n - 1].id, "message": m} for n, m in sorted(block.failures.items())]
    parent.values[step.id] = {**output, "failed": len(failures), "failures": failures}
    if state.root.current is None and not state.at:
        finish(state, state.root, "done", "")


def _round_ended(state: State, parent: Sequence, block: Block, seq: Sequence, outcome: Outcome, message: str) -> None:
    if outcome == "failed":
        fail(state, parent, message)
        return
    parent.values.update(seq.values)
    parent.phase = "checking"
    stand(state, parent)


def _use_tools(state: State, seq: Sequence, step: PlannedStep, block: Block) -> None:
    """Use the next tool that was called for; where none is left, think again."""
    while block.calls:
        call = block.calls.pop(0)
        block.started += 1
        tool = next((one for one in step.steps if one.id == call["tool"]), None)
        if tool is None:
            _turn(seq, block, str(call["tool"]), dict(call["given"]), None, "There is no such tool.")
            continue
        covered = state.rules < 2 and step.asks == "first" and tool.id in block.allowed
        asks = tool.manner in ACTS and step.asks != "never" and not covered
        _begin(state, seq, block.started, (tool,), {GIVEN: dict(call["given"])}, "permit" if asks else "ready")
        return
    seq.phase, seq.attempt, seq.round = "ready", 1, block.started + 1
    stand(state, seq)


def _turn(seq: Sequence, block: Block, tool: str, given: dict[str, Any], result: dict[str, Any] | None, failed: str) -> None:
    block.talk.append(Turn(seq.round, block.said, tool, given, result, failed))
    block.said = ""


def _tool_used(state: State, parent: Sequence, block: Block, seq: Sequence, outcome: Outcome, message: str) -> None:
    tool = seq.steps[0].id
    result = seq.values.get(tool)
    said = {"declined": f"A person said no. {message}", "skipped": f"Passed over. {message}"}.get(outcome, message)
    _turn(parent, block, tool, seq.values[GIVEN], result if outcome == "done" else None, "" if outcome == "done" else said.strip())
    start(state, parent)
