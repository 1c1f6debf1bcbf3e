"""Whatever is sent to the API: it is taken, or refused in words; never a fault of ours, and nothing half kept."""

from __future__ import annotations

import json
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.api.test_starts import Started
from tests.api.visitor import WithApi
from tests.runtime.house import page
from ulmus.runtime import sheets
from ulmus.store import tables

ANY_TEXT = st.text(st.characters(codec=None), max_size=12)
ANY_JSON = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(), st.floats(), ANY_TEXT),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(ANY_TEXT, inner, max_size=3)),
    max_leaves=8,
)
TRIES = settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))


class Anything(Started):
    def sent(self, path: str, body: Any) -> int:
        answer = self.owner.client.post(
            f"/api{path}", data=json.dumps(body), content_type="application/json", headers={"X-CSRF-Token": self.owner.csrf}
        )
        self.assertLess(answer.status_code, 500, answer.text[:300])
        return answer.status_code

    def test_samples_rows_starts_and_notes(self) -> None:
        id_ = self.started("by_hand", fields=[{"name": "x", "label": "X"}])
        with self.services.store.write() as session:
            key = sheets.create(session, "S", [{"name": "A", "type": "text"}]).key

        @given(ANY_JSON)
        @TRIES
        def tried(value: Any) -> None:
            self.sent(f"/workflows/{id_}/samples", {"item": value if isinstance(value, dict) else {"x": value}})
            self.sent(f"/workflows/{id_}/start", {"values": {"x": value}, "sample": None})
            self.sent(f"/sheets/{key}/rows", {"rows": [{"A": value}]})
            self.sent("/approvals/1", {"verdict": "back", "note": value})

        tried()
        self.assertLess(self.owner.client.get(f"/api/workflows/{id_}/bench").status_code, 500)
        self.assertLess(self.owner.client.get(f"/api/sheets/{key}/rows").status_code, 500)
        for run in self.runs():
            self.until(run.id, "done", "failed")

    def test_calls_and_forms(self) -> None:
        call = self.started("call", title="<<start.body.title>>")
        url = self.path(self.owner.get(f"/workflows/{call}/start")["call_url"])
        form = self.started("form", heading="H", fields=[{"name": "x", "label": "X"}])
        public = self.path(self.owner.get(f"/workflows/{form}/start")["form_url"]).rpartition("/")[2]
        client = self.app.test_client()

        @given(ANY_JSON, st.binary(max_size=30))
        @TRIES
        def tried(value: Any, raw: bytes) -> None:
            for data in (json.dumps(value).encode(), raw):
                self.assertLess(client.post(url, data=data, content_type="application/json").status_code, 500)
                self.assertLess(client.post(url, data=data, content_type="application/x-www-form-urlencoded").status_code, 500)
            self.assertLess(client.post(f"/api/forms/{public}", data={"x": str(value).encode("utf-8", "replace")}).status_code, 500)

        tried()
        for run in self.runs():
            self.until(run.id, "done", "failed")
            self.assertEqual(self.owner.client.get(f"/api/runs/{run.id}").status_code, 200)


class Once(Started):
    """Started by hand, or on a sample for real."""

    def test_a_lost_answer_begins_one_run(self) -> None:
        id_ = self.started("by_hand")
        first = self.owner.post(f"/workflows/{id_}/start", {"key": "k1"}, 201)["run"]
        self.assertEqual(self.owner.post(f"/workflows/{id_}/start", {"key": "k1"}, 201)["run"], first)
        self.assertNotEqual(self.owner.post(f"/workflows/{id_}/start", {"key": "k2"}, 201)["run"], first)
        self.assertEqual(len(self.runs()), 2)

    def test_a_sample_of_the_next_unused_row_takes_the_row(self) -> None:
        with self.services.store.write() as session:
            sheet = sheets.create(session, "Topics", [{"name": n, "type": "text"} for n in ("Topic", "Used")])
            sheets.add_rows(session, sheet, [{"Topic": "Beans"}, {"Topic": "Peas"}])
            key = sheet.key
        rule = {"rule": "FREQ=MINUTELY", "zone": "UTC"}
        id_ = self.started("sheet_row", sheet=key, used="Used", **rule)
        self.owner.post(f"/workflows/{id_}/samples", {"count": 1})
        (sample,) = self.owner.get(f"/workflows/{id_}/bench")["samples"]
        self.assertEqual(sample["item"]["Topic"], "Beans")
        run = self.owner.post(f"/workflows/{id_}/start", {"sample": sample["id"]}, 201)["run"]
        self.until(run, "done")
        with self.services.store.write() as session:
            start = session.get_one(tables.Start, id_)
            start.memory, start.next_at = {"due": self.services.clock() - 70}, 0.0
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: len(self.runs()) == 2)
        self.assertEqual([self.item(r.id)["Topic"] for r in self.runs()], ["Beans", "Peas"], "not the same row a minute later")
        refused = self.owner.post(f"/workflows/{id_}/start", {"sample": sample["id"]}, 409)
        self.assertEqual(refused["code"], "in_hand")
        self.owner.post(f"/workflows/{id_}/start", {"sample": sample["id"], "again": True}, 201)


class Before(WithApi):
    """Before it goes live."""

    def told(self, id_: int) -> dict[str, list[str]]:
        out: dict[str, list[str]] = {}
        for problem in self.owner.get(f"/workflows/{id_}/before")["problems"]:
            out.setdefault(problem["step"], []).append(problem["message"])
        return out

    def proofed(self, document: dict[str, Any]) -> int:
        id_ = self.made(document)
        self.owner.post(f"/workflows/{id_}/samples", {"count": 2})
        self.owner.post(f"/workflows/{id_}/proofs", {})
        self.wait_for(
            lambda: not any(c["state"] in ("empty", "running") for c in self.owner.get(f"/workflows/{id_}/bench")["cells"][:2])
        )
        return id_

    def test_what_is_there_for_its_start_is_counted(self) -> None:
        id_ = self.made(page(self.town.url))
        told = self.owner.get(f"/workflows/{id_}/before")
        self.assertGreater(told["waiting"], 2)
        self.assertTrue(all(told["titles"]))
        self.assertEqual(
            self.owner.client.post(f"/api/workflows/{id_}/live?a_day=3", headers={"X-CSRF-Token": self.owner.csrf}).status_code, 200
        )
        self.engine.polling.look_at(id_)
        with self.services.store.read() as session:
            runs = session.query(tables.Run).count()
        self.assertEqual(runs, 3)
        self.assertEqual(self.owner.get(f"/workflows/{id_}/before")["waiting"], 0, "it listens")

    def test_samples_that_fail(self) -> None:
        self.fault("page", "gone")
        id_ = self.proofed(page(self.town.url))
        self.wait_for(lambda: "page" in self.told(id_))
        self.assertIn("It fails for", self.told(id_)["page"][0])

    def test_rules_that_are_broken_and_where_a_run_would_stop(self) -> None:
        document = page(self.town.url, post={"rules": [{"rule": "length", "least": 5000}], "revisions": 0})
        document["steps"] = [s for s in document["steps"] if s["id"] not in ("editor", "out")]
        document["steps"][-1]["settings"]["cells"] = {"Post": "<<post.text>>"}
        id_ = self.proofed(document)
        self.wait_for(lambda: "post" in self.told(id_) and any("breaks a rule" in m for m in self.told(id_)["post"]))
        self.wait_for(lambda: self.cells(id_)["log"]["state"] == "fresh")
        cells = self.cells(id_)
        self.assertEqual([cells[s]["stops"] for s in ("page", "post", "log")], ["", "here", "before"])

    def test_with_somebody_asked_it_would_not_stop(self) -> None:
        document = page(self.town.url, post={"rules": [{"rule": "length", "least": 5000}], "revisions": 0})
        document["steps"] = [s for s in document["steps"] if s["id"] != "out"]
        document["steps"][-1]["settings"]["cells"] = {"Post": "<<post.text>>"}
        id_ = self.proofed(document)
        self.wait_for(lambda: self.cells(id_)["log"]["state"] == "fresh")
        self.assertEqual({c["stops"] for c in self.cells(id_).values()}, {""})

    def cells(self, id_: int) -> dict[str, Any]:
        return {c["step"]: c for c in reversed(self.owner.get(f"/workflows/{id_}/bench")["cells"])}

    def test_rows_nothing_fills_examples_and_gaps(self) -> None:
        document = page(self.town.url, log={"cells": {}}, post={"prompt": "For <<? your readers>>, see https://news.example/a."})
        id_ = self.made(document)
        told = self.told(id_)
        self.assertIn("Say what goes into which column", told["log"][0])
        self.assertTrue(any("To be filled in: your readers" in m for m in told["post"]))
        self.assertTrue(any("is an example and leads nowhere" in m for m in told["post"]))
        some = self.told(self.made(page(self.town.url, log={"cells": {"Post": "x"}})))
        self.assertIn("Link, By", some["log"][0])
