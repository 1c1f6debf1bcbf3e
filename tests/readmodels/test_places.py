"""How each place of a run stands: blocks that are behind it, and what it left undone when it ended."""

from __future__ import annotations

import unittest
from typing import Any

from ulmus.core import flow
from ulmus.core.workflow import Workflow, read_file
from ulmus.readmodels.journals import places
from ulmus.steps import kinds


def step(id_: str, kind: str, steps: Any = (), lanes: Any = (), **settings: Any) -> dict[str, Any]:
    inside = {"steps": list(steps)} if steps else {"lanes": list(lanes)} if lanes else {}
    return {"id": id_, "kind": kind, "settings": settings, **inside}


def page(*steps: dict[str, Any]) -> Workflow:
    start = {"id": "start", "kind": "by_hand", "settings": {}}
    return read_file({"format": "ulmus-workflow", "version": 1, "name": "P", "start": start, "steps": list(steps)})


SET = step("said", "set_values", values={"text": "x"})
FORK = step("way", "fork", lanes=[{"id": "left", "when": "", "steps": [SET]}])


class Places(unittest.TestCase):
    def run_of(self, workflow: Workflow, *events: flow.Event) -> Any:
        begun = flow.Begun(at=1.0, item={"title": "x"}, rules=flow.RULES)
        state = flow.replay(flow.plan(workflow, kinds()), [begun, *events])
        return places(workflow, [begun, *events], state), state

    def test_a_fork_in_an_item_that_is_behind_says_which_lane_it_took(self) -> None:
        workflow = page(step("all", "for_each", steps=[FORK], list="<<start.title>>"))
        found, _ = self.run_of(
            workflow,
            flow.Opened(at=2.0, address="all", items=["a", "b"], found=2),
            flow.Opened(at=3.0, address="all:1/way", lanes=[1]),
            flow.Done(at=4.0, address="all:1/way:1/said", output={"text": "x"}),
        )
        self.assertEqual((found["way"]["all:1/way"].state, found["way"]["all:1/way"].brief), ("fresh", "left"))
        self.assertEqual(found["all"]["all"].state, "running", "the other item is still under way")

    def test_an_act_that_was_under_way_when_the_run_ended_is_not_running_for_ever(self) -> None:
        workflow = page(step("job", "run_job", service="s", path="/jobs"), SET)
        began = (
            flow.Queued(at=2.0, address="job", piece=1, key="k"),
            flow.Accepted(at=3.0, address="job", receipt={"place": "p"}, due=9.0),
        )
        found, _ = self.run_of(workflow, *began)
        self.assertEqual(found["job"]["job"].state, "running")
        ended = (flow.Cancelled(at=4.0, by="Mara"), flow.Ended(at=4.0, outcome="cancelled", message="Cancelled by Mara."))
        found, state = self.run_of(workflow, *began, *ended)
        self.assertTrue(state.ended)
        self.assertEqual(found["job"]["job"].state, "passed")
        self.assertIn("ended before", found["job"]["job"].message)

    def test_a_question_a_cancelled_run_leaves_open_is_no_question_any_more(self) -> None:
        workflow = page(step("asked", "ask_question", question="Well?", who="a@a.example"))
        asked = flow.Asked(at=2.0, address="asked", approval=1, text="Well?")
        found, _ = self.run_of(workflow, asked)
        self.assertEqual(found["asked"]["asked"].state, "asking")
        ended = (flow.Cancelled(at=3.0, by=""), flow.Ended(at=3.0, outcome="cancelled", message="Cancelled."))
        found, _ = self.run_of(workflow, asked, *ended)
        self.assertEqual(found["asked"]["asked"].state, "passed")
