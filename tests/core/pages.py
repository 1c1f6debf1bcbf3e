"""Random pages of steps, and a player that lets something possible happen on them, one event after another."""

from __future__ import annotations

from typing import Any

from hypothesis import strategies as st

from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.core.flow import phases
from ulmus.core.workflow.plans import (
    AfterPiece,
    AskPlan,
    AssignmentPlan,
    CallPlan,
    ComputePlan,
    DestinationsPlan,
    EachPlan,
    ForkPlan,
    PerformPlan,
    RepeatPlan,
    SendPlan,
    StopPlan,
    WaitPlan,
    WritePlan,
)

PLAIN = (PerformPlan, AskPlan, SendPlan, WritePlan, ComputePlan, WaitPlan, CallPlan, StopPlan)


@st.composite
def plans(draw: Any) -> flow.Plan:
    """A page of up to a dozen or so steps, blocks in blocks."""
    counter = iter(range(1000))

    def steps(depth: int) -> tuple[flow.PlannedStep, ...]:
        return tuple(step(depth) for _ in range(draw(st.integers(0 if depth else 1, 3))))

    def step(depth: int) -> flow.PlannedStep:
        name = f"s{next(counter)}"
        more: dict[str, Any] = {
            "retries": draw(st.integers(0, 1)),
            "then": draw(st.sampled_from(["stop", "stop", "skip", "value", "ask"])),
            "fallback": {"text": "instead"},
        }
        strict = draw(st.booleans())
        blocks = (EachPlan, ForkPlan, DestinationsPlan, RepeatPlan, AssignmentPlan) * 2 if depth < 3 else ()
        how: Any = draw(st.sampled_from(PLAIN + blocks))
        if how is AskPlan:
            how = AskPlan(draft="item", rounds=2)
        elif how is PerformPlan:
            how = PerformPlan(draw(st.sampled_from([None, None, AfterPiece("<<s1.link>>", 5.0)])))
        elif how is WaitPlan:
            how = WaitPlan(seconds=1.0, strict=strict)
        elif how is CallPlan:
            how = CallPlan("1")
        elif how is ForkPlan:
            how = ForkPlan(every=not strict)
            more["lanes"] = tuple(flow.PlannedLane(f"l{next(counter)}", steps(depth + 1)) for _ in range(draw(st.integers(1, 3))))
        elif how is DestinationsPlan:
            names = [f"s{next(counter)}" for _ in range(draw(st.integers(1, 3)))]
            lines = [flow.PlannedStep(n, SendPlan(), retries=0, then=draw(st.sampled_from(["stop", "skip"]))) for n in names]
            more["lanes"] = tuple(flow.PlannedLane(one.id, (one,), {one.id: {"link": ""}}) for one in lines)
            how = DestinationsPlan()
        elif how is AssignmentPlan:
            # Its tools are single steps.
            tools = [PerformPlan(), SendPlan(), WritePlan(), CallPlan("1")]
            names = [f"s{next(counter)}" for _ in range(draw(st.integers(1, 3)))]
            more["steps"] = tuple(flow.PlannedStep(n, draw(st.sampled_from(tools)), retries=0) for n in names)
            how = AssignmentPlan(draw(st.sampled_from(["first", "each", "never"])))
        elif how is EachPlan:
            how, more["steps"] = EachPlan(parallel=draw(st.integers(1, 3)), strict=strict), steps(depth + 1)
        elif how is RepeatPlan:
            wait = draw(st.sampled_from([0.0, 5.0]))
            how, more["steps"] = RepeatPlan(rounds=2, wait=wait, strict=strict), steps(depth + 1)
        else:
            how = how()
        return flow.PlannedStep(name, how, **more)

    return flow.Plan("start", steps(0))


BEGUN = flow.Begun(at=1.0, item={"text": "i"}, context={"run": {"number": 1}}, rules=flow.RULES)


class Player:
    """A run in which some possible event follows another, chosen by numbers."""

    def __init__(self, plan: flow.Plan) -> None:
        self.plan = plan
        self.state = flow.begin(plan, BEGUN)
        self.events: list[flow.Event] = [BEGUN]
        self.now = 1.0

    def play(self, picks: list[int]) -> Player:
        for pick in picks:
            self.now += 1
            event = self.possible(pick)
            if event is None:
                break
            flow.apply(self.state, event)
            self.events.append(event)
        return self

    def possible(self, pick: int) -> flow.Event | None:
        """Some event that can happen now."""
        state, at = self.state, self.now
        if state.ended:
            lanes = [child for block in state.root.closed.values() for child in block.kept.values() if child.current]
            if state.outcome == "failed" and lanes and pick % 3 == 1:
                return flow.TakenUp(at=at, address=lanes[pick % len(lanes)].prefix + lanes[pick % len(lanes)].current.id)  # type: ignore[union-attr]
            return flow.TakenUp(at=at, address=self.plan.steps[0].id) if state.outcome == "failed" and pick % 3 == 0 else None
        if state.outcome is not None:
            return flow.Ended(at=at, outcome=state.outcome, message=state.message)
        if state.held:
            return flow.Released(at=at)
        if pick % 41 == 40:
            return flow.Held(at=at, reason="person", message="paused")
        if pick % 97 == 96:
            return flow.Cancelled(at=at)
        addresses = sorted(state.at)
        address = addresses[pick % len(addresses)]
        decision = state.open.get(address)
        return self.answer(decision, address, pick) if decision else self.arrives(address, pick)

    def answer(self, decision: flow.Decision, address: str, pick: int) -> flow.Event:
        """The event that answers an open decision."""
        at = self.now
        match decision:
            case flow.Perform() if pick % 11 == 0:
                return flow.Leased(at=at, address=address, lease=f"{pick}")
            case flow.Perform() | flow.Write() | flow.Compute():
                if pick % 7 == 0:
                    return flow.Failed(at=at, address=address, message="m", retryable=pick % 2 == 0, usage=Usage(cost=0.1))
                return flow.Done(at=at, address=address, output=self.gives(address, pick), usage=Usage(calls=1, cost=0.01))
            case flow.Wait():
                return flow.TimerFired(at=at, address=address)
            case flow.Ask():
                return flow.Asked(at=at, address=address, approval=pick, text="X")
            case flow.Permit():
                covered = sorted(decision.allowed)
                if covered and pick % 2:
                    return flow.Permitted(at=at, address=address, scope=covered[0])
                return flow.Asked(at=at, address=address, approval=pick, text="X", scope=f"scope {pick % 2}")
            case flow.Follow():
                if pick % 5 == 0:
                    return flow.Failed(at=at, address=address, message="m", retryable=pick % 2 == 0)
                if pick % 3 == 0:
                    return flow.Followed(at=at, address=address, due=at + 5)
                return flow.Done(at=at, address=address, output=self.gives(address, pick))
            case flow.Send():
                return flow.Queued(at=at, address=address, piece=pick, key="k")
            case flow.Open():
                seq = self.state.at[address]
                step = seq.current
                assert step is not None
                if isinstance(step.how, EachPlan):
                    return flow.Opened(at=at, address=address, items=[{"text": str(n)} for n in range(pick % 5)])
                lanes = [n for n in range(1, len(step.lanes) + 1) if pick % (n + 1)]
                return flow.Opened(
                    at=at, address=address, lanes=lanes if isinstance(step.how, ForkPlan) and step.how.every else lanes[:1]
                )
            case flow.Check():
                return flow.Checked(at=at, address=address, holds=pick % 3 == 0)
            case flow.Rest():
                return flow.Resting(at=at, address=address, due=at + 9, listening=pick % 2 == 0)
            case flow.Listen():
                return flow.Heard(at=at, address=address, item={}) if pick % 2 else flow.TimerFired(at=at, address=address)
            case flow.Call():
                return flow.Called(at=at, address=address, run=7)
            case flow.Stop():
                return flow.Stopped(at=at, address=address, well=pick % 2 == 0, whole=pick % 3 == 0, message="enough")
            case flow.Judge():
                choice = ("again", "value", "skip", "stop")[pick % 4]
                return flow.Judged(at=at, address=address, choice=choice, value={"text": "said"})  # type: ignore[arg-type]
        raise AssertionError(decision)

    def gives(self, address: str, pick: int) -> dict[str, Any]:
        """What a step gives; an assignment now and then wants to use tools, also one that is not there."""
        step = self.state.at[address].current
        assert step is not None
        output: dict[str, Any] = {"text": f"of {address}"}
        if isinstance(step.how, AssignmentPlan) and pick % 4:
            names = [*(s.id for s in step.steps), "nowhere"]
            output[flow.CALLS] = [{"tool": names[(pick + n) % len(names)], "given": {"n": n}} for n in range(pick % 3 + 1)]
        return output

    def arrives(self, address: str, pick: int) -> flow.Event:
        """What comes from outside where nothing is to be decided."""
        at, seq = self.now, self.state.at[address]
        if isinstance(seq.phase, phases.Asking):
            verdicts = ["approve", "approve", "decline", "back"][: 4 if seq.round < 2 else 3]
            verdict: Any = verdicts[pick % len(verdicts)]
            return flow.Answered(at=at, address=address, verdict=verdict, text="ok", note="n")
        if isinstance(seq.phase, phases.Permitting):
            return flow.Answered(at=at, address=address, verdict=("approve", "back", "decline")[pick % 3], text="X", note="n")
        if isinstance(seq.phase, phases.Queued):
            if pick % 5 == 0:
                return flow.Unsure(at=at, address=address, message="?")
            if pick % 3 == 0:
                return flow.Accepted(at=at, address=address, receipt={"place": "p"}, due=at + 5)
            return flow.Sent(at=at, address=address, receipt={"link": "l"})
        if isinstance(seq.phase, phases.InDoubt):
            return flow.Sent(at=at, address=address, receipt={"link": "l"})
        if isinstance(seq.phase, phases.Called):
            return (
                flow.Done(at=at, address=address, output={"text": "r"})
                if pick % 4
                else flow.Failed(at=at, address=address, message="m")
            )
        children = [a for a in sorted(self.state.at) if a != address and not isinstance(self.state.at[a].phase, phases.Open)]
        inner = children[pick % len(children)]
        decision = self.state.open.get(inner)
        return self.answer(decision, inner, pick) if decision else self.arrives(inner, pick)


def picture(state: flow.State) -> Any:
    """A state as plain values, for comparing."""

    def of(seq: flow.Sequence) -> Any:
        block = seq.block
        inside: Any = None
        if block is not None:
            inside = {name: value for name, value in vars(block).items() if name not in ("running", "kept")}
            inside |= {"running": {n: of(s) for n, s in block.running.items()}, "kept": {n: of(s) for n, s in block.kept.items()}}
            inside["spent"] = round(block.spent, 9)
        return (
            seq.key,
            seq.values,
            seq.position,
            seq.phase,
            seq.attempt,
            seq.round,
            seq.notes,
            seq.generation,
            inside,
            seq.beside is not None,
        )

    flat = (state.outcome, state.message, state.ended, state.held, state.steps, state.usage, sorted(state.at))
    flat = (*flat, state.troubles, state.passed, state.stopped)
    return (of(state.root), flat)
