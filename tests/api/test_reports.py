"""Records as documents: of a run, whole, and of a month."""

from __future__ import annotations

import json
from typing import Any

from tests.api.visitor import WithApi
from ulmus.protocols import documents
from ulmus.runtime import periods


class Records(WithApi):
    def run_through(self) -> int:
        """A run that was sent back once, approved, published and written down."""
        return self.approved_run(back="Say <b>less</b>")

    def approved_run(self, back: str = "") -> int:
        id_ = self.live()
        self.town.state.release("furrow-letter")
        self.engine.polling.look_at(id_)
        run = int(self.owner.get("/runs")["runs"][0]["id"])
        for verdict, note in ([("back", back)] if back else []) + [("approve", "")]:
            self.until(run, "asking")
            (first,) = self.owner.get("/approvals")["open"]
            self.owner.post(f"/approvals/{first['id']}", {"verdict": verdict, "note": note})
            if verdict == "back":
                self.wait_for(lambda first=first: self.owner.get("/approvals")["open"] not in ([], [first]))  # type: ignore[misc]
        self.until(run, "done")
        return run

    def file(self, path: str, **query: Any) -> bytes:
        answer = self.owner.client.get(f"/api{path}", query_string=query)
        self.assertEqual(answer.status_code, 200, answer.data[:300])
        self.assertIn("attachment", answer.headers["Content-Disposition"])
        return bytes(answer.data)

    def test_a_run_as_one_document_in_three_forms(self) -> None:
        run = self.run_through()
        told = json.loads(self.file(f"/runs/{run}/record/json"))
        self.assertEqual((told["state"], told["workflow"]), ("done", "News"))
        self.assertEqual([(a["verdict"], a["note"]) for a in told["answers"]], [("back", "Say <b>less</b>"), ("approve", "")])
        self.assertEqual(len(told["drafts"]), 2)
        out = next(piece for piece in told["pieces"] if piece["channel"] == "Pondside")
        self.assertEqual((out["state"], out["text"]), ("sent", told["drafts"][-1]["text"]))
        self.assertEqual(told["rows"][0]["after"]["Post"], out["text"])
        self.assertTrue(told["came_in"]["title"])
        page = self.file(f"/runs/{run}/record/html").decode()
        self.assertIn("Say &lt;b&gt;less&lt;/b&gt;", page)
        self.assertNotIn("<b>less", page)
        self.assertNotIn("<script", page)
        pdf = documents.read(self.file(f"/runs/{run}/record/pdf"), "a.pdf")
        for words in (told["title"].split()[0], "What went out", "Pondside", "sent back"):
            self.assertIn(words, pdf.text)
        self.assertEqual(self.owner.client.get("/api/runs/999/record/json").status_code, 404)

    def test_a_month_of_a_brand(self) -> None:
        run = self.approved_run()
        told = self.visitor("reader").get("/report", brand="marrowbank")
        self.assertEqual((told["count"], told["brand"], told["channels"][0]["channel"]), (1, "Marrowbank", "Pondside"))
        self.assertEqual((told["items"][0]["run"], told["runs"]["done"], told["approvals"]), (run, 1, {"approved": 1}))
        self.assertIn("Pondside: 1 piece", told["text"])
        self.assertEqual(self.owner.get("/report", month="2020-02")["count"], 0)
        self.assertEqual(self.owner.get("/report")["count"], 1)
        for month in ("2026-13", "last", "2026", "-1-1", "99999-1"):
            self.owner.get("/report", 422, month=month)
        self.owner.get("/report", 404, brand="nobody")
        self.assertIn(b"Pondside", self.file("/report/html", brand="marrowbank"))
        self.assertEqual(json.loads(self.file("/report/json"))["count"], 1)
        self.assertEqual(documents.read(self.file("/report/pdf"), "a.pdf").kind, "pdf")

    def test_months_begin_in_their_zone(self) -> None:
        self.assertEqual(periods.month_of("2026-01", "UTC"), (1767225600.0, 1769904000.0))
        auckland = periods.month_of("2026-12", "Pacific/Auckland")
        self.assertEqual(auckland[0], periods.month_of("2026-12", "UTC")[0] - 13 * 3600)
