"""What goes out is what was approved: pages that would let out something made before the approval are faulty, and mended."""

from __future__ import annotations

import unittest
from typing import Any

from ulmus.core.workflow import Workflow, check, edits, read_file
from ulmus.core.workflow.approved import unapproved
from ulmus.steps import kinds


def line(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    more = {k: settings.pop(k) for k in ("steps", "lanes", "muted") if k in settings}
    return {"id": id_, "kind": kind, "settings": settings, **more}


def page(*steps: dict[str, Any]) -> Workflow:
    start = {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": "x", "label": "X"}]}}
    return read_file({"format": "ulmus-workflow", "version": 1, "name": "P", "start": start, "steps": list(steps)})


BODY = line("body", "draft", model="m", prompt="<<start.x>>")
ASK = line("editor", "ask", draft="body", who="a@a.example")


def out(text: str, id_: str = "out") -> dict[str, Any]:
    return line(id_, "publish_post", channel="pond", text=text)


class Unapproved(unittest.TestCase):
    def faults(self, *steps: dict[str, Any]) -> list[tuple[str, str, tuple[str, ...]]]:
        return [(one.step, one.made, one.moving) for one in unapproved(page(*steps), kinds())]

    def mended(self, *steps: dict[str, Any]) -> list[str]:
        """The page after one press for each fault."""
        workflow = page(*steps)
        for _ in range(5):
            found = unapproved(workflow, kinds())
            if not found:
                return [step.id for step in workflow.steps]
            workflow = edits.put_behind(workflow, found[0].moving, found[0].ask, kinds())
        raise AssertionError("it is not mended")

    def test_what_was_approved_and_what_is_made_of_it_after_is_in_order(self) -> None:
        self.assertEqual(self.faults(BODY, ASK, out("<<body.text>>")), [])
        self.assertEqual(self.faults(BODY, ASK, line("post", "set_values", values={"t": "<<body.text>>"}), out("<<post.t>>")), [])
        self.assertEqual(self.faults(BODY, ASK, out("<<editor.text>>")), [])

    def test_a_value_set_before_the_approval_is_not(self) -> None:
        steps = (BODY, line("post", "set_values", values={"t": "<<body.text>>"}), ASK, out("<<post.t>>"))
        self.assertEqual(self.faults(*steps), [("out", "post", ("post",))])
        self.assertEqual(self.mended(*steps), ["body", "editor", "post", "out"])

    def test_nor_what_another_model_made_of_it_nor_what_was_made_of_that(self) -> None:
        teaser = line("teaser", "draft", model="m", prompt="<<body.text>>")
        both = line("both", "set_values", values={"t": "<<teaser.text>>"})
        row = line("row", "add_row", sheet="s", cells={"T": "<<both.t>>"})
        self.assertEqual(self.faults(BODY, teaser, ASK, both, row), [("row", "both", ("teaser",))])
        self.assertEqual(self.mended(BODY, teaser, both, ASK, row), ["body", "editor", "teaser", "both", "row"])

    def test_a_draft_that_is_asked_about_itself_is_approved(self) -> None:
        teaser = line("teaser", "draft", model="m", prompt="<<body.text>>")
        second = line("second", "ask", draft="teaser", who="a@a.example")
        self.assertEqual(self.faults(BODY, teaser, ASK, second, out("<<teaser.text>> <<body.text>>")), [])

    def test_letting_a_draft_out_before_the_question_is_a_fault(self) -> None:
        self.assertEqual(self.faults(BODY, out("<<body.text>>"), ASK), [("out", "body", ("out",))])
        self.assertEqual(self.mended(BODY, out("<<body.text>>"), ASK), ["body", "editor", "out"])

    def test_records_and_acts_count_too(self) -> None:
        made = line("made", "set_values", values={"t": "<<body.text>>"})
        sub = line("sub", "run_workflow", workflow="1", item={"t": "<<made.t>>"})
        job = line("job", "run_job", service="s", path="/x", body='{"t": <<made.t>>}')
        self.assertEqual([step for step, _, _ in self.faults(BODY, made, ASK, sub, job)], ["sub", "job"])

    def test_inside_a_block_and_in_lanes(self) -> None:
        made = line("made", "set_values", values={"t": "<<body.text>>"})
        each = line("all", "for_each", list="<<start.x>>", item="it", steps=[BODY, made, ASK, out("<<made.t>>")])
        self.assertEqual(self.faults(each), [("out", "made", ("made",))])
        lanes = [{"id": "a", "steps": [out("<<made.t>>", "to_a")]}, {"id": "b", "steps": [out("<<body.text>>", "to_b")]}]
        self.assertEqual(
            self.faults(BODY, made, ASK, line("ways", "fork", which="every", lanes=lanes)), [("to_a", "made", ("made",))]
        )

    def test_what_is_muted_lets_nothing_out(self) -> None:
        made = line("made", "set_values", values={"t": "<<body.text>>"})
        self.assertEqual(self.faults(BODY, made, ASK, {**out("<<made.t>>"), "muted": True}), [])
        self.assertEqual(self.faults(BODY, made, {**ASK, "muted": True}, out("<<made.t>>")), [])

    def test_the_line_says_so_and_offers_the_press(self) -> None:
        made = line("made", "set_values", values={"t": "<<body.text>>"})
        problem = next(p for p in check(page(BODY, made, ASK, out("<<made.t>>")), kinds()) if p.moving)
        self.assertEqual((problem.step, problem.severity, problem.after), ("out", "error", "editor"))
        self.assertIn("changed or turned down", problem.message)
        self.assertIn("Move “made” behind “editor”", problem.mend)


class OtherFaults(unittest.TestCase):
    def problems(self, *steps: dict[str, Any]) -> list[str]:
        return [p.message for p in check(page(*steps), kinds()) if p.severity == "error"]

    def test_a_gap_is_marked_as_one(self) -> None:
        (problem,) = [
            p
            for p in check(page(line("body", "draft", model="m", prompt="About <<? your trade>>.")), kinds())
            if "filled" in p.message
        ]
        self.assertEqual(
            (problem.message, problem.severity, problem.place, problem.start),
            ("To be filled in: your trade.", "error", ("prompt",), 6),
        )

    def test_a_reply_that_names_no_line_is_a_fault(self) -> None:
        workflow = page(BODY)
        start = {"id": "start", "kind": "call", "settings": {"answer": "result", "reply": "<<body.text>>"}}
        document = {**workflow.model_dump(mode="json"), "start": start}
        self.assertTrue(any("no line called" in p.message for p in check(Workflow.model_validate(document), kinds())))
        start["settings"]["reply"] = "body"  # type: ignore[index]
        document = {**workflow.model_dump(mode="json"), "start": start}
        self.assertFalse(any("no line called" in p.message for p in check(Workflow.model_validate(document), kinds())))

    def test_a_question_with_a_body_must_be_said_to_change_nothing(self) -> None:
        ask = line("s", "ask_service", service="k", path="/x", method="POST", body="{}")
        self.assertTrue(any("may change something" in words for words in self.problems(ask)))
        ask["settings"]["harmless"] = True
        self.assertFalse(any("may change something" in words for words in self.problems(ask)))

    def test_a_service_is_a_tool_only_with_a_fixed_address_on_its_own_host(self) -> None:
        for path, words in (("/x/<<given.what>>", "a tool has a fixed one"), ("https://b.example/x", "own host")):
            tool = line("s", "ask_service", service="k", path=path)
            found = self.problems(line("agent", "assignment", model="m", goal="g", who="a@a.example", steps=[tool]))
            self.assertTrue(any(words in one for one in found), found)
        tool = line("s", "ask_service", service="k", path="/x", query={"q": "<<given.what>>"})
        found = self.problems(line("agent", "assignment", model="m", goal="g", who="a@a.example", steps=[tool]))
        self.assertFalse(any("a tool" in one for one in found), found)


if __name__ == "__main__":
    unittest.main()
