"""Limits on money, of a brand and of a workflow, and how they are told."""

from __future__ import annotations

from tests.api.visitor import WithApi
from ulmus.runtime import workflows
from ulmus.store import tables


class Brands(WithApi):
    def test_an_owner_sets_what_a_brand_may_spend_and_today_tells_it(self) -> None:
        self.visitor("maker").put("/brands/marrowbank/limits", {"month_money": 5}, 403)
        self.owner.put("/brands/marrowbank/limits", {"month_money": -5}, 422)
        self.owner.put("/brands/marrowbank/limits", {"month_money": 5})
        self.assertEqual(self.owner.get("/brands/marrowbank/limits")["month_money"], 5)
        budget = self.owner.get("/today")["budgets"][0]
        self.assertEqual((budget["name"], budget["month_money"], budget["spent_month"]), ("Marrowbank", 5, 0))
        self.owner.put("/brands/marrowbank/limits", {})
        self.assertEqual(self.owner.get("/today")["budgets"], [])
        self.owner.get("/brands/nobody/limits", 404)

    def test_a_run_that_reaches_a_limit_waits_under_today_and_goes_on_when_let(self) -> None:
        draft = {"id": "post", "kind": "draft", "settings": {"model": "model", "prompt": "One line."}}
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Dear",
            "brand": "marrowbank",
            "limits": {"run_money": 0.0},
            "start": {"id": "start", "kind": "by_hand"},
            "steps": [draft, {**draft, "id": "more"}],
        }
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, "m")
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.assertIn("limit is 0", self.until(run, "held").message)
        waiting = self.owner.get("/today")["waiting"][0]
        self.assertEqual((waiting["what"], waiting["id"]), ("held", run))
        self.assertEqual(self.owner.get(f"/runs/{run}")["held_for"], "money")
        self.owner.post(f"/runs/{run}/release")
        self.until(run, "held", "done")
        with self.services.store.read() as session:
            self.assertGreater(sum(s.cost for s in session.query(tables.Spending)), 0)
        self.assertGreater(self.owner.get("/brands/marrowbank/limits")["spent_month"], 0)
