"""What was done to rows through the API: by people and by runs, seen by whoever may read, taken back by whoever may write."""

from __future__ import annotations

from tests.api.visitor import WithApi
from tests.runtime.test_records import WithLeads
from ulmus.store import tables


class Rows(WithApi, WithLeads):
    def ids(self) -> list[int]:
        return [row["id"] for row in self.owner.get("/sheets/leads/rows")["rows"]]

    def test_what_a_person_changes_is_kept_with_who_and_taken_back(self) -> None:
        first = self.ids()[0]
        self.owner.patch(f"/sheets/leads/rows/{first}", {"cells": {"Notes": "second", "Line": ""}})
        (change,) = self.visitor("reader").get(f"/sheets/leads/rows/{first}/history")
        self.assertEqual(
            (change["what"], change["who"], change["before"], change["after"]),
            ("written", "Owner", {"Notes": "first note"}, {"Notes": "second"}),
        )
        self.visitor("reviewer").post(f"/row-changes/{change['id']}/undo", None, 403)
        self.assertEqual(self.owner.post(f"/row-changes/{change['id']}/undo")["left"], [])
        self.assertEqual(self.leads()[0]["Notes"], "first note")
        self.assertEqual([one["what"] for one in self.owner.get(f"/sheets/leads/rows/{first}/history")], ["written", "written"])

    def test_removed_rows_are_listed_and_brought_back_where_they_stood(self) -> None:
        gone = self.ids()[:2]
        self.owner.post("/sheets/leads/rows/delete", {"ids": gone})
        removed = self.owner.get("/sheets/leads/removed")
        self.assertEqual({one["row"] for one in removed}, set(gone))
        for one in removed:
            self.owner.post(f"/row-changes/{one['id']}/undo")
        self.assertEqual(self.ids()[:2], gone, "by the same number, at the same place")
        self.assertEqual(self.owner.get("/sheets/leads/removed"), [])
        self.owner.post("/row-changes/99999/undo", None, 404)

    def test_what_a_run_wrote_is_shown_with_it_and_taken_back_at_once(self) -> None:
        write = self.step("write_row", which="by", by={"Company": "Lock House"}, cells={"Line": "<<item.x>>"})
        add = self.step("add_row", cells={"Company": "<<item.x>>"})
        run = self.by_hand(write, add, x="new")
        self.until(run, "done")
        told = self.visitor("reader").get(f"/runs/{run}/rows")
        self.assertEqual(
            [(one["what"], one["sheet_name"], one["place"]) for one in told], [("written", "Leads", 3), ("added", "Leads", 4)]
        )
        (one,) = self.owner.get(f"/runs/{run}/rows", address="write_row")
        self.assertEqual((one["run"], one["after"]), (run, {"Line": "new"}))
        undone = self.owner.post(f"/runs/{run}/rows/undo", {"address": ""})
        self.assertEqual((undone["count"], len(undone["changes"]), undone["left"]), (2, 2, []))
        self.assertEqual((len(self.leads()), self.leads()[2]["Line"]), (3, ""))
        self.assertTrue(all(one["undone_by"] == "Owner" for one in self.owner.get(f"/runs/{run}/rows")))

    def test_a_sheet_is_deleted_only_where_nothing_uses_it(self) -> None:
        self.by_hand(self.step("add_row", cells={"Company": "<<item.x>>"}), x="new")
        # What is live uses it, though the page as it is written now does not.
        page = self.owner.get(f"/workflows/{self.id}/bench")
        page["document"]["steps"][0]["settings"]["sheet"] = "done"
        self.owner.put(f"/workflows/{self.id}", {"document": page["document"], "version": page["version"]})
        self.assertIn("“Leads” uses this sheet", self.owner.delete("/sheets/leads", 409)["message"])
        self.assertIn("uses this sheet", self.owner.delete("/sheets/done", 409)["message"])
        self.owner.post(f"/workflows/{self.id}/pause")
        self.owner.post(f"/workflows/{self.id}/away")
        self.owner.delete(f"/workflows/{self.id}")
        finds = [{"name": "Company", "type": "text", "finds": {"sheet": "leads", "by": "Company"}}]
        self.owner.put("/sheets/done/columns", {"columns": finds})
        self.assertIn("finds rows of this sheet", self.owner.delete("/sheets/leads", 409)["message"])
        self.owner.delete("/sheets/done")
        self.visitor("reviewer").delete("/sheets/leads", 403)
        self.owner.delete("/sheets/leads")
        self.assertEqual([one["key"] for one in self.owner.get("/sheets") if one["key"] in ("leads", "done")], [])
        with self.services.store.read() as session:
            for kept in (tables.SheetRow, tables.RowChange):
                self.assertEqual(session.query(kept).filter(kept.sheet.in_(["leads", "done"])).count(), 0)
        made = self.owner.post("/sheets", {"name": "Leads", "columns": [{"name": "Company"}]}, 201)
        self.assertEqual((made["key"], made["rows"]), ("leads", 0))
