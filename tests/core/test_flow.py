"""The interpreter: what it decides, what it refuses, and that a replay always agrees."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core import flow
from ulmus.core.cost import Usage
from ulmus.core.flow import (
    Address,
    Answered,
    Ask,
    Asked,
    Begun,
    Cancelled,
    Done,
    Ended,
    Event,
    Failed,
    Finish,
    FlowError,
    Perform,
    Plan,
    PlannedStep,
    Queued,
    Send,
    Sent,
    State,
    TakenUp,
    TimerFired,
    Unsure,
    Wait,
    Write,
)
from ulmus.core.workflow.plans import AskPlan, PerformPlan, SendPlan, WritePlan

PLAN = Plan(
    "feed",
    (
        PlannedStep("page", PerformPlan(), retries=2, wait=4),
        PlannedStep("post", PerformPlan(), retries=1, wait=4),
        PlannedStep("editor", AskPlan(draft="post", rounds=3)),
        PlannedStep("out", SendPlan()),
        PlannedStep("log", WritePlan()),
    ),
)
BEGUN = Begun(at=1.0, item={"link": "http://a.example"}, context={"run": {"number": 1}})


class Journal:
    """A run driven by hand, that keeps what happened."""

    def __init__(self) -> None:
        self.events: list[Event] = [BEGUN]
        self.state: State = flow.begin(PLAN, BEGUN)
        self.now = 1.0

    def does(self, kind: type, address: str | None = None, **fields: Any) -> Journal:
        self.now += 1.0
        given_ = {"at": self.now, **fields} | ({"address": address} if address else {})
        event = kind(**given_)
        flow.apply(self.state, event)
        self.events.append(event)
        return self

    @property
    def next(self) -> list[flow.Decision]:
        return flow.decide(self.state)

    def drafted(self) -> Journal:
        self.does(Done, "page", output={"text": "T"})
        return self.does(Done, "post", output={"text": "D", "words": 1}, usage=Usage(calls=1, tokens_in=10, tokens_out=5, cost=0.1))

    def asked(self) -> Journal:
        return self.drafted().does(Asked, "editor", approval=1, text="D")

    def approved(self) -> Journal:
        return self.asked().does(Answered, "editor", verdict="approve", text="D, changed", by="Ines", edited=True)


class StraightOn(unittest.TestCase):
    def test_the_whole_way(self) -> None:
        run = Journal()
        self.assertEqual(run.next, [Perform("page", "page", 1)])
        run.does(Done, "page", output={"text": "T"})
        self.assertEqual(run.next, [Perform("post", "post", 1)])
        run.does(Done, "post", output={"text": "D"})
        self.assertEqual(run.next, [Ask("editor", "editor", 1, False)])
        run.does(Asked, "editor", approval=1, text="D")
        self.assertEqual(run.next, [])
        run.does(Answered, "editor", verdict="approve", text="D", by="Ines")
        self.assertEqual(run.next, [Send("out", "out", 1, 0)])
        run.does(Queued, "out", piece=1, key="k")
        self.assertEqual(run.next, [])
        run.does(Sent, "out", receipt={"link": "http://p.example/1"})
        self.assertEqual(run.next, [Write("log", "log", 0)])
        run.does(Done, "log", output={"row": 1})
        self.assertEqual(run.next, [Finish("done", "")])
        run.does(Ended, outcome="done")
        self.assertEqual(run.next, [])

    def test_values_gather_under_their_steps_names(self) -> None:
        run = Journal().approved()
        self.assertEqual(run.state.values["feed"], {"link": "http://a.example"})
        self.assertEqual(run.state.values["run"], {"number": 1})
        self.assertEqual(run.state.values["editor"]["rounds"], 1)

    def test_an_approved_text_is_the_drafts_text_from_then_on(self) -> None:
        run = Journal().approved()
        self.assertEqual(run.state.values["post"], {"text": "D, changed", "words": 1})

    def test_a_decline_ends_the_run_with_nothing_sent(self) -> None:
        run = Journal().asked().does(Answered, "editor", verdict="decline", note="Not this one.")
        self.assertEqual(run.next, [Finish("declined", "Not this one.")])

    def test_a_page_without_steps_is_done_at_once(self) -> None:
        self.assertEqual(flow.decide(flow.begin(Plan("feed", ()), BEGUN)), [Finish("done", "")])

    def test_deciding_twice_gives_the_same_and_changes_nothing(self) -> None:
        run = Journal().drafted()
        self.assertEqual(run.next, run.next)


class SentBack(unittest.TestCase):
    def back(self, run: Journal, round_: int, note: str) -> Journal:
        address = str(Address("editor", round_))
        return run.does(Answered, address, verdict="back", note=note)

    def test_a_note_has_the_draft_made_again_within_the_round(self) -> None:
        run = self.back(Journal().asked(), 1, "shorter")
        decision = run.next[0]
        assert isinstance(decision, Perform)
        self.assertEqual((decision.address, decision.step), ("editor:1/post", "post"))
        self.assertEqual(decision.rewrite, flow.Rewrite("D", ("shorter",)))

    def test_the_rewrite_is_asked_about_in_the_next_round(self) -> None:
        run = self.back(Journal().asked(), 1, "shorter").does(Done, "editor:1/post", output={"text": "D2"})
        self.assertEqual(run.next, [Ask("editor:2", "editor", 2, False)])
        self.assertEqual(run.state.values["post"], {"text": "D2"})

    def test_later_rewrites_know_all_notes(self) -> None:
        run = self.back(Journal().asked(), 1, "shorter").does(Done, "editor:1/post", output={"text": "D2"})
        run = self.back(run.does(Asked, "editor:2", approval=2, text="D2"), 2, "say the price")
        decision = run.next[0]
        assert isinstance(decision, Perform)
        self.assertEqual(decision.rewrite, flow.Rewrite("D2", ("shorter", "say the price")))

    def test_the_last_round_is_said_to_be_the_last_and_takes_no_note(self) -> None:
        run = Journal().asked()
        for n in (1, 2):
            run = self.back(run, n, f"note {n}").does(Done, f"editor:{n}/post", output={"text": f"D{n}"})
            if n == 2:
                self.assertEqual(run.next, [Ask("editor:3", "editor", 3, True)])
            run.does(Asked, f"editor:{n + 1}", approval=n, text="D")
        with self.assertRaises(FlowError):
            self.back(run, 3, "once more")
        run.does(Answered, "editor:3", verdict="approve", text="fine")
        self.assertEqual(run.state.values["editor"]["rounds"], 3)

    def test_a_rewrite_that_fails_is_tried_again_as_a_rewrite(self) -> None:
        run = self.back(Journal().asked(), 1, "shorter")
        run.does(Failed, "editor:1/post", message="busy", retryable=True)
        self.assertIsInstance(run.next[0], Wait)
        run.does(TimerFired, "editor:1/post")
        decision = run.next[0]
        assert isinstance(decision, Perform)
        self.assertEqual((decision.address, decision.attempt), ("editor:1/post", 2))
        self.assertIsNotNone(decision.rewrite)

    def test_a_rewrite_that_failed_for_good_is_taken_up_as_a_rewrite(self) -> None:
        run = self.back(Journal().asked(), 1, "shorter").does(Failed, "editor:1/post", message="no")
        run.does(Ended, outcome="failed", message="no").does(TakenUp, "editor", by="Mara")
        self.assertEqual(run.next[0].address, "editor:1/post")  # type: ignore[union-attr]


class Failures(unittest.TestCase):
    def test_what_can_be_tried_again_waits_longer_each_time(self) -> None:
        run, waits = Journal(), []
        for _ in range(2):
            run.does(Failed, "page", message="busy", retryable=True)
            decision = run.next[0]
            assert isinstance(decision, Wait)
            waits.append(decision.due - run.now)
            run.does(TimerFired, "page")
        self.assertTrue(3.3 < waits[0] < 4.7, waits)
        self.assertTrue(6.7 < waits[1] < 9.3, waits)
        self.assertEqual(run.next, [Perform("page", "page", 3)])

    def test_after_the_last_try_the_run_fails_with_the_reason(self) -> None:
        run = Journal()
        for _ in range(2):
            run.does(Failed, "page", message="busy", retryable=True).does(TimerFired, "page")
        run.does(Failed, "page", message="still busy", retryable=True)
        self.assertEqual(run.next, [Finish("failed", "still busy")])

    def test_what_cannot_be_mended_by_waiting_fails_at_once(self) -> None:
        run = Journal().does(Failed, "page", message="gone", retryable=False)
        self.assertEqual(run.next, [Finish("failed", "gone")])

    def test_the_outsides_own_wish_is_honoured(self) -> None:
        run = Journal().does(Failed, "page", message="busy", retryable=True, retry_after=60.0)
        self.assertEqual(run.next, [Wait("page", run.now + 60.0)])

    def test_no_wait_is_longer_than_an_hour(self) -> None:
        run = Journal().does(Failed, "page", message="busy", retryable=True, retry_after=1e9)
        self.assertEqual(run.next, [Wait("page", run.now + 3600.0)])

    def test_a_failed_run_is_taken_up_where_it_stopped(self) -> None:
        run = Journal()
        run.does(Done, "page", output={"text": "T"}).does(Failed, "post", message="no").does(Ended, outcome="failed")
        run.does(TakenUp, "post", by="Mara")
        self.assertEqual(run.next, [Perform("post", "post", 1, None, 1)])
        self.assertEqual(run.state.values["page"], {"text": "T"})

    def test_taking_up_gives_later_effects_a_new_generation(self) -> None:
        run = Journal().approved().does(Queued, "out", piece=1, key="k").does(Failed, "out", message="refused")
        run.does(Ended, outcome="failed").does(TakenUp, "out")
        self.assertEqual(run.next, [Send("out", "out", 1, 1)])

    def test_a_run_that_did_not_fail_cannot_be_taken_up(self) -> None:
        with self.assertRaises(FlowError):
            Journal().drafted().does(TakenUp, "editor")

    def test_a_failed_run_can_be_left_to_rest_and_stays_ended(self) -> None:
        run = Journal().does(Failed, "page", message="gone").does(Ended, outcome="failed").does(Cancelled, by="Mara")
        self.assertEqual((run.state.outcome, run.state.ended, run.next), ("cancelled", True, []))
        with self.assertRaises(FlowError):
            run.does(TakenUp, "page")

    def test_a_piece_in_doubt_waits_for_a_person(self) -> None:
        run = Journal().approved().does(Queued, "out", piece=1, key="k").does(Unsure, "out", message="?")
        self.assertEqual(run.next, [])
        again = run.does(Queued, "out", piece=1, key="k")
        self.assertEqual(again.next, [])
        again.does(Sent, "out", receipt={"link": "x"})
        self.assertIsInstance(again.next[0], Write)

    def test_spent_cost_is_kept_also_of_failures(self) -> None:
        run = Journal().does(Done, "page", output={})
        run.does(Failed, "post", message="no", usage=Usage(calls=1, cost=0.2))
        self.assertAlmostEqual(run.state.usage.cost, 0.2)


class Refusals(unittest.TestCase):
    def test_events_for_another_place_are_refused(self) -> None:
        with self.assertRaises(FlowError):
            Journal().does(Done, "post", output={})

    def test_a_finished_address_never_runs_again(self) -> None:
        run = Journal().does(Done, "page", output={})
        with self.assertRaises(FlowError):
            run.does(Done, "page", output={})

    def test_a_double_answer_is_refused(self) -> None:
        run = Journal().approved()
        with self.assertRaises(FlowError):
            run.does(Answered, "editor", verdict="approve", text="again")

    def test_a_receipt_cannot_come_before_the_piece_was_queued(self) -> None:
        with self.assertRaises(FlowError):
            Journal().approved().does(Sent, "out", receipt={})

    def test_nothing_follows_the_end(self) -> None:
        run = Journal().does(Cancelled, by="Mara").does(Ended, outcome="cancelled")
        with self.assertRaises(FlowError):
            run.does(Done, "page", output={})

    def test_a_journal_begins_with_the_beginning(self) -> None:
        with self.assertRaises(FlowError):
            flow.replay(PLAN, [Done(at=1, address="page", output={})])

    def test_asking_cannot_simply_be_done(self) -> None:
        with self.assertRaises(FlowError):
            Journal().drafted().does(Done, "editor", output={})


class Addresses(unittest.TestCase):
    steps = st.from_regex(r"[a-z][a-z0-9_]{0,6}", fullmatch=True)

    @given(steps, st.integers(1, 99), st.lists(st.tuples(steps, st.integers(1, 99)), max_size=3))
    def test_what_is_written_is_read(self, step: str, round_: int, within: list[tuple[str, int]]) -> None:
        address = Address(step, round_, tuple(within))
        self.assertEqual(Address.parse(str(address)), address)

    def test_wrong_addresses_are_refused(self) -> None:
        for text in ("", "a//b", ":2", "a:x", "a:1:2"):
            with self.subTest(text=text), self.assertRaises(ValueError):
                Address.parse(text)
