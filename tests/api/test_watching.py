"""What an operator watches: alive, ready, and measures as OpenMetrics text, read with a key."""

from __future__ import annotations

import re
import time
from unittest import mock

from prometheus_client.openmetrics.parser import text_string_to_metric_families
from prometheus_client.samples import Sample

from tests.api.visitor import WithApi
from tests.runtime.house import WHO, page
from ulmus.api.public.watching import make_key
from ulmus.runtime import workflows
from ulmus.store import tables


class Watching(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.anybody = self.owner.client.application.test_client()

    def measured(self, key: str) -> dict[str, list[Sample]]:
        answer = self.anybody.get("/metrics", headers={"Authorization": f"Bearer {key}"})
        self.assertEqual(answer.status_code, 200)
        self.assertIn("application/openmetrics-text", answer.content_type)
        # The parser refuses what is not in the format.
        return {family.name: family.samples for family in text_string_to_metric_families(answer.get_data(as_text=True))}

    def test_it_lives_and_is_ready_and_says_no_more_to_strangers(self) -> None:
        for path, words in (("/healthz", "ok"), ("/readyz", "ready")):
            answer = self.anybody.get(path)
            self.assertEqual((answer.status_code, answer.get_data(as_text=True).strip()), (200, words))
            self.assertEqual(answer.headers["Cache-Control"], "no-store")

    def test_why_it_is_not_ready_is_told_with_the_key_alone(self) -> None:
        key = make_key(self.services.store)
        with mock.patch.object(self.services.health, "troubles", return_value=["The disk is full."]):
            self.assertEqual(self.anybody.get("/readyz").get_data(as_text=True), "not ready\n")
            told = self.anybody.get("/readyz", headers={"Authorization": f"Bearer {key}"})
            self.assertEqual((told.status_code, told.get_data(as_text=True)), (503, "The disk is full.\n"))
        with mock.patch.object(self.engine.ticker, "_beat", time.monotonic() - 100):
            self.assertEqual(self.anybody.get("/readyz").status_code, 503)
            self.assertEqual(self.anybody.get("/healthz").status_code, 200)
        with mock.patch.object(self.services.store, "read", side_effect=OSError("no database")):
            self.assertEqual(self.anybody.get("/readyz").status_code, 503)

    def test_measures_need_the_newest_key(self) -> None:
        first = make_key(self.services.store)
        second = make_key(self.services.store)
        for given in ({}, {"Authorization": "Bearer "}, {"Authorization": f"Bearer {first}"}, {"Authorization": f"Basic {second}"}):
            answer = self.anybody.get("/metrics", headers=given)
            self.assertEqual(answer.status_code, 401, given)
            self.assertNotIn("ulmus_", answer.get_data(as_text=True))
        self.assertIn("ulmus_runs", self.measured(second))
        self.assertNotIn(second, str(self.services.store.fact("metrics key")), "the house keeps a digest")
        self.services.store.note("metrics key", None)
        self.assertEqual(self.anybody.get("/metrics", headers={"Authorization": "Bearer None"}).status_code, 401)

    def test_what_happened_is_measured(self) -> None:
        key = make_key(self.services.store)
        before = self.measured(key)
        self.assertEqual(before["ulmus_runs"], [])
        with self.services.store.write() as session:
            # A name of any kind is escaped.
            session.add(tables.Use(connection='odd"\n\\name', day="2026-11-01", calls=3, tokens=7))
        id_ = self.made(page(self.town.url, editor={"mail": ""}))
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "Beans", "link": f"{self.town.url}/sites/furrow-letter/"})
        assert run is not None
        self.question(run)
        now = self.measured(key)
        self.assertEqual([(s.labels, s.value) for s in now["ulmus_runs"]], [({"state": "asking"}, 1.0)])
        self.assertEqual(now["ulmus_questions_open"][0].value, 1)
        self.assertGreater(now["ulmus_month_cost"][0].value, 0)
        calls = {s.labels["connection"]: s.value for s in now["ulmus_calls"]}
        self.assertGreater(calls["model"], 0)
        self.assertEqual(calls['odd"\n\\name'], 3)
        steps = {(s.labels["kind"], s.labels["outcome"]): s.value for s in now["ulmus_steps"]}
        self.assertEqual((steps["read_page", "done"], steps["draft", "done"]), (1, 1))
        self.assertEqual(now["ulmus_queue"][0].value, 0)
        self.assertGreater(now["ulmus_database_bytes"][0].value, 10_000)
        self.assertTrue(all(re.fullmatch(r"ulmus_\w+", name) for name in now))
        self.assertNotIn("Beans", str(now))
