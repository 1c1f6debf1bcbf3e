"""Prompt tests, and two versions of a page compared on samples and on what runs began with, with nothing going out."""

from __future__ import annotations

import copy
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from tests.runtime.house import WHO, page
from ulmus.protocols import chat
from ulmus.runtime import workflows
from ulmus.store import tables


class Comparing(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.document = page(self.town.url)
        self.id_ = self.made(self.document)
        workflows.capture(self.engine, self.id_, 3)
        workflows.go_live(self.engine, self.id_, WHO)

    def changed(self, **settings: Any) -> dict[str, Any]:
        """Save the page with other settings of its draft."""
        document = copy.deepcopy(self.document)
        next(s for s in document["steps"] if s["id"] == "post")["settings"].update(settings)
        version = self.owner.get(f"/workflows/{self.id_}/bench")["version"]
        self.owner.put(f"/workflows/{self.id_}", {"document": document, "version": version})
        return document

    def compared(self, **body: Any) -> dict[str, Any]:
        self.owner.post(f"/workflows/{self.id_}/comparison", {"before": 1, **body})
        told: dict[str, Any] = {}

        def done() -> bool:
            told.update(self.owner.get(f"/workflows/{self.id_}/comparison")["comparison"])
            return not told["going"]

        self.wait_for(done, seconds=30)
        return told

    def test_what_a_change_of_a_rule_breaks_is_told_by_item_and_nothing_goes_out(self) -> None:
        self.changed(rules=[{"rule": "words", "least": 4000}], revisions=0)
        told = self.compared()
        (line,) = told["lines"]
        self.assertEqual(
            (told["before"], told["after"], told["of"], told["failed"]), ("revision 1", "the page as it is now", 3, [])
        )
        self.assertEqual((line["step"], line["passes"]["of"], line["passes"]["before"], line["passes"]["after"]), ("post", 3, 3, 0))
        self.assertEqual({pair["came"] for pair in told["pairs"]}, {"broke"})
        self.assertIn("at least 4000", told["pairs"][0]["after"]["wrong"][0])
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Piece).count() + session.query(tables.Approval).count(), 0)
            self.assertEqual(session.query(tables.SheetRow).count(), 0)

    def test_last_week_s_runs_are_items_too_each_once_and_nothing_is_paid_for_twice(self) -> None:
        self.new_item(self.id_)
        self.new_item(self.id_)
        path = f"/workflows/{self.id_}/comparison"
        self.assertEqual(self.owner.get(f"{path}/items", samples="false", days=7)["count"], 2)
        self.assertEqual(self.owner.get(f"{path}/items", samples="true", days=0)["count"], 3)
        self.changed(standing="You write for children.")
        told = self.compared(samples=False)
        self.assertEqual((told["of"], len(told["pairs"])), (2, 2))
        with mock.patch.object(chat, "complete", side_effect=AssertionError("it is asked again")):
            self.assertEqual(self.compared(samples=False)["lines"], told["lines"])
        with self.services.store.write() as session:
            session.query(tables.Run).update({tables.Run.started_at: tables.Run.started_at - 30 * 86_400})
        self.assertEqual(self.owner.get(f"{path}/items", samples="false", days=7)["count"], 0)

    def test_drafts_inside_a_block_are_compared_place_by_place(self) -> None:
        document = copy.deepcopy(self.document)
        post = next(s for s in document["steps"] if s["id"] == "post")
        post["settings"] |= {"prompt": "One post on <<one.link>>.\n<<page.text>>", "rules": []}
        loop = {"id": "loop", "kind": "for_each", "settings": {"list": "<<page.links>>", "item": "one", "most": 2}, "steps": [post]}
        document["steps"] = [document["steps"][0], loop]
        version = self.owner.get(f"/workflows/{self.id_}/bench")["version"]
        self.owner.put(f"/workflows/{self.id_}", {"document": document, "version": version})
        workflows.go_live(self.engine, self.id_, WHO)
        loop["steps"] = [post | {"settings": post["settings"] | {"rules": [{"rule": "words", "least": 4000}], "revisions": 0}}]
        version = self.owner.get(f"/workflows/{self.id_}/bench")["version"]
        self.owner.put(f"/workflows/{self.id_}", {"document": document, "version": version})
        told = self.compared(before=2, days=0)
        self.assertGreater(len(told["pairs"]), 0)
        for pair in told["pairs"]:
            self.assertTrue(pair["place"].startswith("loop:"))
            self.assertIn("at least 4000", str(pair["after"]["wrong"]))
            self.assertNotIn("at least 4000", str(pair["before"]["wrong"]))

    def test_what_approvers_change_alike_is_told_and_what_they_left_alone_is_not(self) -> None:
        run = self.new_item(self.id_)
        self.question(run)
        edits = [(f"An amazing {what}.", f"A {what}.") for what in ("bean", "boat", "lock")] + [("Left alone.", "Left alone.")] * 5
        with self.services.store.write() as session:
            for n, (text, final) in enumerate(edits):
                told = {"run_id": run, "address": f"editor:{n + 20}", "round": 1, "last": False, "draft": "post", "who": WHO}
                session.add(
                    tables.Approval(**told, text=text, final_text=final, state="approve", created_at=1.0, decided_at=float(n))
                )
        for path in (f"/workflows/{self.id_}/lessons/post", "/brands/marrowbank/lessons"):
            (first, *_) = self.owner.get(path)
            self.assertEqual((first["count"], first["of"], first["rule"]["words"]), (3, 3, ["amazing"]), first)
        self.assertEqual(self.owner.get(f"/workflows/{self.id_}/lessons/other"), [])

    def test_what_cannot_be_compared_is_said(self) -> None:
        path = f"/workflows/{self.id_}/comparison"
        self.assertIsNone(self.owner.get(path)["comparison"])
        self.assertIn("two different", self.owner.post(path, {"before": 0}, 409)["message"])
        self.assertIn("no revision 9", self.owner.post(path, {"before": 9}, 404)["message"])
        self.assertIn("keep a sample", self.owner.post(path, {"before": 1, "samples": False}, 409)["message"])
        self.visitor("reviewer").post(path, {"before": 1}, 403)
        self.owner.delete(path)

    def test_tests_of_a_prompt_are_told_and_hold_up_going_live_where_that_is_wanted(self) -> None:
        label = self.owner.get(f"/workflows/{self.id_}/bench")["samples"][0]["label"]
        tests = [{"holds": "characters < 300"}, {"holds": 'text contains "zebra"', "sample": label}]
        self.changed(tests=tests)
        before = f"/workflows/{self.id_}/before"
        self.owner.post(f"/workflows/{self.id_}/proofs")
        self.wait_for(lambda: any("zebra" in p["message"] for p in self.owner.get(before)["problems"]), seconds=20)
        (told,) = [p for p in self.owner.get(before)["problems"] if "test" in p["message"]]
        self.assertEqual((told["step"], told["severity"]), ("post", "warning"))
        self.changed(tests=tests, tested=True)
        (told,) = [p for p in self.owner.get(before)["problems"] if "test" in p["message"]]
        self.assertEqual(told["severity"], "error")
        self.assertIn("not ready", self.owner.post(f"/workflows/{self.id_}/live", status=409)["message"])
        # Fresh for other words of a test, out of date for another prompt.
        self.changed(tests=tests[:1], tested=True, prompt="Write. <<page.text>>")
        (told,) = [p for p in self.owner.get(before)["problems"] if "test" in p["message"]]
        self.assertIn("were not run", told["message"])
        self.owner.post(f"/workflows/{self.id_}/proofs")
        self.wait_for(lambda: not [p for p in self.owner.get(before)["problems"] if "test" in p["message"]], seconds=20)
        self.assertEqual(self.owner.post(f"/workflows/{self.id_}/live")["revision"], 2)

    def test_a_test_that_names_nothing_is_a_fault_of_the_line(self) -> None:
        self.changed(tests=[{"holds": "colour is red"}])
        problems = self.owner.get(f"/workflows/{self.id_}/bench")["problems"]
        self.assertTrue(any("colour" in p["message"] and p["step"] == "post" for p in problems))
