"""Blocks of the interpreter: by example, and as properties over random pages and random orders of events."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.core.pages import BEGUN, Player, picture, plans
from tests.short import examples
from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.core.flow import (
    Cancelled,
    Check,
    Checked,
    Done,
    Ended,
    Failed,
    Finish,
    FlowError,
    Held,
    Hold,
    Judge,
    Judged,
    Open,
    Opened,
    Perform,
    Plan,
    PlannedLane,
    PlannedStep,
    Released,
    Stopped,
    TakenUp,
    TimerFired,
    Wait,
)
from ulmus.core.workflow.model import Limits
from ulmus.core.workflow.plans import (
    AskPlan,
    AssignmentPlan,
    DestinationsPlan,
    EachPlan,
    ForkPlan,
    PerformPlan,
    RepeatPlan,
    SendPlan,
    StopPlan,
    WritePlan,
)

PAGE = PlannedStep("page", PerformPlan(), retries=0)
POST = PlannedStep("post", PerformPlan(), retries=0)
LOG = PlannedStep("log", WritePlan())


class Run:
    """A run driven by hand."""

    def __init__(self, *steps: PlannedStep, limits: Limits | None = None) -> None:
        self.plan = Plan("start", steps, limits or Limits())
        self.state = flow.begin(self.plan, BEGUN)
        self.events: list[flow.Event] = [BEGUN]
        self.now = 1.0

    def does(self, kind: type, address: str = "", **fields: Any) -> Run:
        self.now += 1
        event = kind(at=self.now, **fields, **({"address": address} if address else {}))
        flow.apply(self.state, event)
        self.events.append(event)
        return self

    def done(self, address: str, text: str = "") -> Run:
        return self.does(Done, address, output={"text": text or address})

    @property
    def next(self) -> list[flow.Decision]:
        return flow.decide(self.state)

    @property
    def places(self) -> list[str]:
        return [d.address for d in self.next if not isinstance(d, Finish | Hold)]


def each(*steps: PlannedStep, **more: Any) -> PlannedStep:
    policy = {name: more.pop(name) for name in ("retries", "then") if name in more}
    return PlannedStep("all", EachPlan(item="it", **({"parallel": 2} | more)), steps=steps, **policy)


class ForEach(unittest.TestCase):
    def opened(self, *steps: PlannedStep, items: list[Any], **more: Any) -> Run:
        return Run(each(*steps, **more), LOG).does(Opened, "all", items=items)

    def test_so_many_at_a_time_in_the_order_of_the_items(self) -> None:
        run = self.opened(PAGE, items=["a", "b", "c"])
        self.assertEqual(run.places, ["all:1/page", "all:2/page"])
        run.done("all:2/page")
        self.assertEqual(run.places, ["all:1/page", "all:3/page"])

    def test_results_keep_the_order_of_the_input_whoever_ends_first(self) -> None:
        run = self.opened(PAGE, items=["a", "b", "c"])
        run.done("all:2/page").done("all:3/page").done("all:1/page")
        given = run.state.values["all"]
        self.assertEqual([r["it"] for r in given["results"]], ["a", "b", "c"])
        self.assertEqual(given["results"][1]["page"], {"text": "all:2/page"})
        self.assertEqual((given["count"], given["failed"]), (3, 0))
        self.assertEqual(run.places, ["log"])

    def test_values_inside_are_the_items_own(self) -> None:
        run = self.opened(PAGE, POST, items=["a", "b"]).done("all:1/page", "one").done("all:2/page", "two")
        self.assertEqual(run.state.scope("all:1/post")["page"], {"text": "one"})
        self.assertEqual(run.state.scope("all:2/post")["it"], "b")
        self.assertEqual(run.state.scope("all:2/post")["start"], {"text": "i"})

    def test_a_failing_item_harms_nobody(self) -> None:
        run = self.opened(PAGE, items=["a", "b"]).does(Failed, "all:1/page", message="gone").done("all:2/page")
        self.assertEqual(run.state.values["all"]["failures"], [{"number": 1, "message": "gone"}])
        self.assertEqual([r["it"] for r in run.state.values["all"]["results"]], ["b"])

    def test_where_so_set_a_failing_item_stops_it_once_the_others_have_ended(self) -> None:
        run = self.opened(PAGE, items=["a", "b", "c"], strict=True).does(Failed, "all:1/page", message="gone")
        self.assertEqual(run.places, ["all:2/page"])
        run.done("all:2/page")
        self.assertEqual(run.next, [Finish("failed", "Item 1: gone")])

    def test_what_failed_is_taken_up_with_the_good_results_kept(self) -> None:
        run = self.opened(PAGE, items=["a", "b", "c"], strict=True)
        run.does(Failed, "all:1/page", message="gone").done("all:2/page").does(Ended, outcome="failed")
        run.does(TakenUp, "all")
        self.assertEqual(run.places, ["all:1/page", "all:3/page"])
        run.done("all:1/page").done("all:3/page")
        self.assertEqual([r["it"] for r in run.state.values["all"]["results"]], ["a", "b", "c"])

    def test_one_item_is_taken_up_after_the_run_has_ended(self) -> None:
        run = self.opened(PAGE, items=["a", "b"]).does(Failed, "all:1/page", message="gone").done("all:2/page")
        run.done("log").does(Ended, outcome="done").does(TakenUp, "all:1/page")
        self.assertEqual(run.places, ["all:1/page"])
        run.done("all:1/page")
        self.assertEqual([r["it"] for r in run.state.values["all"]["results"]], ["a", "b"])
        self.assertEqual(run.next[0].generation, 1)  # type: ignore[union-attr]

    def test_nothing_to_go_through_is_done_at_once(self) -> None:
        run = self.opened(PAGE, items=[])
        self.assertEqual(run.state.values["all"]["results"], [])
        self.assertEqual(run.places, ["log"])

    def test_a_block_whose_steps_are_all_muted_ends_however_long_the_list(self) -> None:
        run = self.opened(items=list(range(5000)))
        self.assertEqual(run.state.values["all"]["count"], 5000)

    def test_a_block_in_a_block(self) -> None:
        inner = PlannedStep("inner", EachPlan(item="x", parallel=9), steps=(PAGE,))
        run = self.opened(inner, items=["a"]).does(Opened, "all:1/inner", items=[1, 2])
        self.assertEqual(run.places, ["all:1/inner:1/page", "all:1/inner:2/page"])
        run.done("all:1/inner:2/page").done("all:1/inner:1/page")
        results = run.state.values["all"]["results"][0]["inner"]["results"]
        self.assertEqual([r["x"] for r in results], [1, 2])

    def test_each_item_is_approved_on_its_own(self) -> None:
        ask = PlannedStep("editor", AskPlan(draft="page", rounds=2))
        run = self.opened(PAGE, ask, items=["a", "b"]).done("all:1/page").done("all:2/page")
        run.does(flow.Asked, "all:1/editor", approval=1, text="x").does(flow.Asked, "all:2/editor", approval=2, text="x")
        run.does(flow.Answered, "all:1/editor", verdict="back", note="shorter")
        self.assertEqual(run.places, ["all:1/editor:1/page"])
        run.does(flow.Answered, "all:2/editor", verdict="decline", note="no").done("all:1/editor:1/page", "short")
        self.assertEqual(run.places, ["all:1/editor:2"])
        run.does(flow.Asked, "all:1/editor:2", approval=3, text="x")
        run.does(flow.Answered, "all:1/editor:2", verdict="approve", text="short!")
        given = run.state.values["all"]
        self.assertEqual([r["page"]["text"] for r in given["results"]], ["short!"])
        self.assertEqual(given["passed_over"], 1)


class Fork(unittest.TestCase):
    def fork(self, **more: Any) -> PlannedStep:
        lanes = (PlannedLane("good", (PAGE,)), PlannedLane("other", (POST,)))
        return PlannedStep("way", ForkPlan(every=not more.pop("strict", False)), lanes=lanes, **more)

    def test_the_chosen_lane_and_its_values_afterwards(self) -> None:
        run = Run(self.fork(strict=True), LOG).does(Opened, "way", lanes=[2])
        self.assertEqual(run.places, ["way:2/post"])
        run.done("way:2/post", "p")
        self.assertEqual(run.state.values["post"], {"text": "p"})
        self.assertEqual(run.state.values["way"], {"lane": "other", "lanes": ["other"], "failed": 0, "failures": []})

    def test_every_lane_that_fits_runs_and_they_meet(self) -> None:
        run = Run(self.fork(), LOG).does(Opened, "way", lanes=[1, 2])
        run.done("way:2/post")
        self.assertEqual(run.places, ["way:1/page"])
        run.done("way:1/page")
        self.assertEqual(run.places, ["log"])

    def test_no_lane_fits(self) -> None:
        run = Run(self.fork(), LOG).does(Opened, "way", lanes=[])
        self.assertEqual(run.places, ["log"])

    def test_a_failing_lane_stops_only_itself_and_is_taken_up_alone(self) -> None:
        run = Run(self.fork(), LOG).does(Opened, "way", lanes=[1, 2]).does(Failed, "way:1/page", message="no")
        self.assertEqual(run.places, ["way:2/post"])
        run.done("way:2/post")
        self.assertEqual(run.state.values["way"]["failures"], [{"lane": "good", "message": "no"}])
        self.assertEqual(run.places, ["log"], "the page goes on without it")
        run.done("log")
        self.assertEqual(run.next, [Finish("failed", "Lane “good”: no The rest went on.")], "and tells of it at its end")
        run.does(Ended, outcome="failed").does(TakenUp, "way:1/page")
        self.assertEqual(run.places, ["way:1/page"])
        run.done("way:1/page", "late")
        self.assertEqual(run.next, [Finish("done", "")], "what came after it is not carried out twice")
        self.assertEqual((run.state.values["page"]["text"], run.state.values["way"]["failed"]), ("late", 0))

    def test_where_all_of_several_lanes_fail_so_does_the_fork(self) -> None:
        run = Run(self.fork(), LOG).does(Opened, "way", lanes=[1, 2]).does(Failed, "way:1/page", message="no")
        run.does(Failed, "way:2/post", message="neither")
        self.assertEqual(run.next, [Finish("failed", "Lane “good”: no")])

    def test_one_of_several_lanes_is_stopped_by_the_page_or_passed_over(self) -> None:
        for event in ({"well": True}, {"well": False}):
            stop = PlannedStep("enough", StopPlan())
            fork = PlannedStep("way", ForkPlan(every=True), lanes=(PlannedLane("good", (stop,)), PlannedLane("other", (POST,))))
            run = Run(fork, LOG).does(Opened, "way", lanes=[1, 2])
            run.does(Stopped, "way:1/enough", whole=False, message="not there", **event)
            run.done("way:2/post")
            self.assertEqual(run.places, ["log"])
            run.done("log")
            self.assertEqual(run.state.outcome, "done" if event["well"] else "failed")

    def test_a_run_from_before_keeps_the_rules_it_began_with(self) -> None:
        plan = Plan("start", (self.fork(), LOG))
        state = flow.begin(plan, BEGUN.model_copy(update={"rules": 1}))
        flow.apply(state, Opened(at=2, address="way", lanes=[1, 2]))
        flow.apply(state, Failed(at=3, address="way:1/page", message="no"))
        flow.apply(state, Done(at=4, address="way:2/post", output={}))
        self.assertEqual(flow.decide(state), [Finish("failed", "Lane “good”: no")])


class Destinations(unittest.TestCase):
    """Three places, of which the last is muted."""

    def run_to(self, *lanes: int, then: Any = "stop") -> Run:
        names = ("here", "there", "room")
        lines = [PlannedStep(name, SendPlan(), retries=0, then=then) for name in names]
        planned = [PlannedLane(one.id, (one,) if one.id != "room" else (), {one.id: {"link": ""}}) for one in lines]
        block = PlannedStep("out", DestinationsPlan(), lanes=tuple(planned), then=then)
        return Run(block, LOG).does(Opened, "out", items=["Pondside", "Lockside", "Room"], lanes=list(lanes or (1, 2)))

    def sent(self, run: Run, address: str, link: str) -> Run:
        run.does(flow.Queued, address, piece=1, key="k")
        return run.does(flow.Sent, address, receipt={"link": link, "text": "Beans."})

    def test_all_go_out_side_by_side_and_what_became_of_each_is_one_list(self) -> None:
        run = self.run_to()
        self.assertEqual(run.places, ["out:1/here", "out:2/there"])
        self.sent(self.sent(run, "out:2/there", "https://l/2"), "out:1/here", "https://p/1")
        given = run.state.values["out"]
        self.assertEqual(
            [(r["to"], r["link"], r["state"]) for r in given["results"]][:2],
            [("Pondside", "https://p/1", "out"), ("Lockside", "https://l/2", "out")],
        )
        self.assertEqual((given["results"][2]["state"], given["links"], given["out"]), ("muted", "https://p/1\nhttps://l/2", 2))
        self.assertEqual(run.state.values["room"], {"link": ""}, "one that is muted is there, and empty")
        self.assertEqual(run.places, ["log"])

    def test_one_fails_alone_is_told_by_its_name_and_taken_up_alone(self) -> None:
        run = self.run_to().does(Failed, "out:1/here", message="refused")
        self.sent(run, "out:2/there", "https://l/2")
        self.assertEqual(
            run.state.values["out"]["results"][0], {"to": "Pondside", "link": "", "text": "", "state": "failed", "why": "refused"}
        )
        self.assertEqual((run.state.values["here"], run.places), ({"link": ""}, ["log"]))
        self.assertEqual(run.done("log").next, [Finish("failed", "Pondside: refused The rest went on.")])
        run.does(Ended, outcome="failed").does(TakenUp, "out:1/here")
        self.sent(run, "out:1/here", "https://p/1")
        given = run.state.values["out"]
        self.assertEqual((given["failed"], given["out"], given["results"][0]["link"]), (0, 2, "https://p/1"))
        self.assertEqual(run.next, [Finish("done", "")], "nothing after it happens twice")

    def test_taken_up_alone_a_run_that_failed_further_down_stays_failed(self) -> None:
        run = self.run_to().does(Failed, "out:1/here", message="refused")
        self.sent(run, "out:2/there", "https://l/2").does(Failed, "log", message="no sheet")
        run.does(Ended, outcome="failed", message="no sheet").does(TakenUp, "out:1/here")
        self.assertEqual(run.places, ["out:1/here"])
        self.sent(run, "out:1/here", "https://p/1")
        self.assertEqual(run.next, [Finish("failed", "no sheet")])
        run.does(Ended, outcome="failed", message="no sheet").does(TakenUp, "log").done("log")
        self.assertEqual(run.next, [Finish("done", "")], "and the rest can be taken up as ever")

    def test_a_page_that_ends_first_waits_for_what_was_taken_up_alone(self) -> None:
        run = self.run_to().does(Failed, "out:1/here", message="refused")
        self.sent(run, "out:2/there", "https://l/2").does(TakenUp, "out:1/here")
        run.done("log")
        self.assertEqual(run.places, ["out:1/here"], "it is not forgotten on its way")
        self.sent(run, "out:1/here", "https://p/1")
        self.assertEqual(run.next, [Finish("done", "")])

    def test_where_nothing_went_out_anywhere_the_page_does_not_go_on(self) -> None:
        run = self.run_to().does(Failed, "out:1/here", message="refused").does(Failed, "out:2/there", message="gone")
        self.assertEqual(run.next, [Finish("failed", "Pondside: refused")])

    def test_one_that_is_passed_over_says_so(self) -> None:
        run = self.run_to(then="skip").does(Failed, "out:1/here", message="refused")
        self.sent(run, "out:2/there", "https://l/2")
        self.assertEqual(run.state.values["out"]["results"][0]["state"], "passed over")
        self.assertEqual(run.done("log").next, [Finish("done", "")])


class Repeat(unittest.TestCase):
    def test_round_after_round_with_growing_waits_until_it_holds(self) -> None:
        block = PlannedStep("till", RepeatPlan(rounds=5, wait=10, grow=2, strict=False), steps=(PAGE,))
        run = Run(block, LOG).does(Opened, "till").done("till:1/page", "pending")
        self.assertEqual(run.next, [Check("till", "till", 1)])
        self.assertEqual(run.state.scope("till")["page"], {"text": "pending"})
        run.does(Checked, "till", holds=False)
        self.assertEqual(run.next, [Wait("till", run.now + 10)])
        run.does(TimerFired, "till").done("till:2/page").does(Checked, "till", holds=False)
        self.assertEqual(run.next, [Wait("till", run.now + 20)])
        run.does(TimerFired, "till").done("till:3/page", "ready").does(Checked, "till", holds=True)
        self.assertEqual(run.state.values["till"], {"rounds": 3, "came": "yes"})
        self.assertEqual(run.state.values["page"], {"text": "ready"})
        self.assertEqual(run.places, ["log"])

    def test_what_never_comes_fails_or_goes_on_as_set(self) -> None:
        for strict, expected in ((True, ["Finish"]), (False, ["Write"])):
            with self.subTest(strict=strict):
                block = PlannedStep("till", RepeatPlan(rounds=1, strict=strict), steps=(PAGE,))
                run = Run(block, LOG).does(Opened, "till").done("till:1/page").does(Checked, "till", holds=False)
                self.assertEqual([type(d).__name__ for d in run.next], expected)

    def test_the_greatest_time_counts_too(self) -> None:
        block = PlannedStep("till", RepeatPlan(rounds=99, seconds=2.5), steps=(PAGE,))
        run = Run(block).does(Opened, "till")
        for n in (1, 2):
            run.done(f"till:{n}/page").does(Checked, "till", holds=False)
            if run.state.outcome:
                break
        self.assertEqual(run.state.outcome, "failed")
        self.assertIn("did not come", run.state.message)

    def test_a_later_round_sees_the_values_of_the_one_before(self) -> None:
        block = PlannedStep("till", RepeatPlan(rounds=3, strict=False), steps=(PAGE, POST))
        run = Run(block).does(Opened, "till").done("till:1/page").done("till:1/post", "first").does(Checked, "till", holds=False)
        self.assertEqual(run.state.scope("till:2/page")["post"], {"text": "first"})


class Policies(unittest.TestCase):
    def run_with(self, then: Any) -> Run:
        return Run(PlannedStep("page", PerformPlan(), retries=0, then=then, fallback={"text": "none"}), LOG)

    def test_a_stated_value_stands_in(self) -> None:
        run = self.run_with("value").does(Failed, "page", message="gone")
        self.assertEqual((run.state.values["page"], run.places), ({"text": "none"}, ["log"]))

    def test_outside_a_block_the_line_is_passed_over_and_not_the_run(self) -> None:
        run = self.run_with("skip").does(Failed, "page", message="gone")
        self.assertEqual((run.places, run.state.passed), (["log"], {"page": "gone"}))
        self.assertNotIn("page", run.state.values)

    def test_inside_a_block_only_the_item_is_passed_over(self) -> None:
        step = PlannedStep("page", PerformPlan(), retries=0, then="skip")
        run = Run(each(step, POST), LOG).does(Opened, "all", items=["a"]).does(Failed, "all:1/page", message="gone")
        self.assertEqual((run.state.values["all"]["passed_over"], run.places), (1, ["log"]))

    def test_inside_one_of_several_lanes_only_the_lane_is_passed_over(self) -> None:
        step = PlannedStep("page", PerformPlan(), retries=0, then="skip")
        lane = PlannedStep("way", ForkPlan(every=True), lanes=(PlannedLane("a", (step,)), PlannedLane("b", (POST,))))
        run = Run(each(lane), LOG).does(Opened, "all", items=["a"]).does(Opened, "all:1/way", lanes=[1, 2])
        run.does(Failed, "all:1/way:1/page", message="gone")
        self.assertEqual(run.places, ["all:1/way:2/post"])
        run.done("all:1/way:2/post")
        self.assertEqual((run.state.values["all"]["passed_over"], run.places), (0, ["log"]))

    def test_a_person_is_asked_how_to_go_on(self) -> None:
        for choice, expected in (("again", "Perform"), ("value", "Write"), ("skip", "Write"), ("stop", "Finish")):
            with self.subTest(choice=choice):
                run = self.run_with("ask").does(Failed, "page", message="gone")
                self.assertEqual(run.next, [Judge("page", "page", "gone")])
                run.does(Judged, "page", choice=choice, value={"text": "said"})
                self.assertEqual(type(run.next[0]).__name__, expected)

    def test_the_page_stops_itself(self) -> None:
        stop = PlannedStep("enough", StopPlan())
        run = Run(each(stop), LOG).does(Opened, "all", items=["a"])
        run.does(Stopped, "all:1/enough", well=True, whole=False, message="not for us")
        self.assertEqual((run.state.values["all"]["passed_over"], run.places), (1, ["log"]))
        run = Run(each(stop), LOG).does(Opened, "all", items=["a", "b"])
        run.does(Stopped, "all:1/enough", well=False, whole=True, message="all wrong")
        self.assertEqual(run.next, [Finish("failed", "all wrong")])


class Holding(unittest.TestCase):
    def test_nothing_is_decided_while_paused_and_everything_afterwards(self) -> None:
        run = Run(each(PAGE), LOG).does(Opened, "all", items=["a", "b"]).does(Held, reason="person", message="Paused by Mara.")
        self.assertEqual(run.next, [])
        run.done("all:1/page").does(Released, by="Mara")
        self.assertEqual(run.places, ["all:2/page"])
        self.assertEqual({d.address for d in run.state.take_news()}, {"all:2/page"})  # type: ignore[union-attr]

    def test_a_paused_run_takes_nothing_up_until_it_goes_on(self) -> None:
        run = Run(each(PAGE), LOG).does(Opened, "all", items=["a", "b"]).does(Failed, "all:1/page", message="gone")
        run.does(Held, reason="person", message="Paused.")
        with self.assertRaises(FlowError):
            run.does(TakenUp, "all:1/page")
        run.does(Released)
        run.does(TakenUp, "all:1/page")
        self.assertEqual(sorted(run.places), ["all:1/page", "all:2/page"])

    def test_reaching_a_limit_holds_and_a_word_lets_it_go_on_as_far_again(self) -> None:
        run = Run(*(PlannedStep(f"s{i}", PerformPlan()) for i in range(7)), limits=Limits(steps=2))
        run.done("s0").done("s1")
        self.assertIsInstance(run.next[0], Hold)
        run.does(Held, reason="steps", message="2 steps").does(Released, by="Mara").done("s2")
        self.assertEqual(run.places, ["s3"])
        self.assertIsInstance(run.done("s3").next[0], Hold)

    def test_money(self) -> None:
        run = Run(PAGE, POST, limits=Limits(run_money=0.5)).does(Done, "page", output={}, usage=Usage(cost=0.6))
        hold = run.next[0]
        assert isinstance(hold, Hold)
        self.assertIn("0.6", hold.message)

    def test_time(self) -> None:
        run = Run(PAGE, POST, limits=Limits(hours=1))
        run.now = 4000
        self.assertIsInstance(run.done("page").next[0], Hold)


class TakingUp(unittest.TestCase):
    def test_from_any_step_of_an_ended_run_with_edited_values(self) -> None:
        run = Run(PAGE, POST, LOG).done("page").done("post").done("log").does(Ended, outcome="done")
        run.does(TakenUp, "post", values={"page": {"text": "better"}})
        self.assertEqual(run.places, ["post"])
        self.assertEqual(run.state.values["page"], {"text": "better"})
        self.assertNotIn("log", run.state.values)

    def test_not_where_nothing_failed(self) -> None:
        run = Run(each(PAGE), LOG).does(Opened, "all", items=["a"]).done("all:1/page").done("log").does(Ended, outcome="done")
        for address in ("all:1/page", "all:9/page", "nobody", "log:1/page"):
            with self.subTest(address=address), self.assertRaises(FlowError):
                run.does(TakenUp, address)


NUMBERS = st.lists(st.integers(0, 100_000), max_size=80)


class Properties(unittest.TestCase):
    @examples(300)
    @given(plans(), NUMBERS)
    def test_a_replay_gives_the_same_state_and_the_same_open_decisions(self, plan: Plan, picks: list[int]) -> None:
        run = Player(plan).play(picks)
        again = flow.replay(plan, [flow.read_event(flow.write_event(e)) for e in run.events])
        self.assertEqual(picture(again), picture(run.state))
        self.assertEqual(sorted(map(repr, flow.decide(again))), sorted(map(repr, flow.decide(run.state))))

    @examples(300)
    @given(plans(), NUMBERS)
    def test_an_idle_run_has_nothing_to_do(self, plan: Plan, picks: list[int]) -> None:
        state = Player(plan).play(picks).state
        if not state.ended and state.outcome is None:
            to_do = [d for d in state.open.values() if not isinstance(d, flow.Wait | flow.Judge)]
            self.assertEqual(state.idle, not to_do, to_do)

    @examples(300)
    @given(plans(), NUMBERS)
    def test_a_run_that_has_not_ended_stands_somewhere(self, plan: Plan, picks: list[int]) -> None:
        state = Player(plan).play(picks).state
        self.assertTrue(state.at or state.outcome is not None, "it would stand still for ever")

    @examples(300)
    @given(plans(), NUMBERS)
    def test_a_finished_address_never_runs_again(self, plan: Plan, picks: list[int]) -> None:
        run = Player(plan).play(picks)
        finished: set[str] = set()
        for event in run.events:
            if isinstance(event, flow.TakenUp | flow.Judged):
                finished.clear()
            elif isinstance(event, flow.Done | flow.Sent):
                self.assertNotIn(event.address, finished)
                finished.add(event.address)
        if finished and not run.state.ended:
            self.assertFalse(finished & set(run.state.open))

    @examples(200)
    @given(st.sampled_from(["first", "each"]), NUMBERS)
    def test_an_assignment_never_acts_before_it_was_let(self, asks: Any, picks: list[int]) -> None:
        tools = (PlannedStep("look", PerformPlan(), retries=0), PlannedStep("post", SendPlan(), retries=0))
        run = Player(Plan("start", (PlannedStep("it", AssignmentPlan(asks), steps=tools, retries=0),))).play(picks)
        let: list[str] = []
        for event in run.events:
            if isinstance(event, flow.Answered) and event.verdict == "approve":
                let.append(event.address)
            elif isinstance(event, flow.Queued):
                self.assertTrue(event.address in let if asks == "each" else let, event.address)

    @examples(200)
    @given(plans(), NUMBERS)
    def test_a_run_that_has_not_ended_always_waits_for_something(self, plan: Plan, picks: list[int]) -> None:
        state = Player(plan).play(picks).state
        self.assertTrue(state.ended or state.held or flow.decide(state) or state.at)

    @examples(200)
    @given(st.permutations(range(6)), st.integers(1, 6))
    def test_parallel_order_never_changes_the_result(self, order: list[int], parallel: int) -> None:
        run = Run(each(PAGE, POST, parallel=parallel), LOG).does(Opened, "all", items=list(range(6)))
        rank = {n: i for i, n in enumerate(order)}
        while len(run.places) != 1 or run.places != ["log"]:
            place = min(run.places, key=lambda a: rank[int(a.split(":")[1].split("/")[0]) - 1])
            run.done(place)
        self.assertEqual([r["it"] for r in run.state.values["all"]["results"]], list(range(6)))
        self.assertEqual(run.state.values["all"]["results"][3]["post"], {"text": "all:4/post"})

    @examples(100)
    @given(plans(), NUMBERS)
    def test_cancelling_is_always_possible_and_final(self, plan: Plan, picks: list[int]) -> None:
        state = Player(plan).play(picks).state
        if state.outcome is None:
            flow.apply(state, Cancelled(at=1e6))
            self.assertEqual([type(d) for d in flow.decide(state)], [Finish])


class Opening(unittest.TestCase):
    def test_a_block_is_opened_by_an_event(self) -> None:
        self.assertEqual(Run(each(PAGE)).next, [Open("all", "all")])

    def test_a_step_is_performed_at_its_generation(self) -> None:
        self.assertEqual(Run(PAGE).next, [Perform("page", "page", 1, None, 0)])
