"""Read models and the app's own files: results in brief, versions with their changes, live events, caching."""

from __future__ import annotations

import gzip
import json
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from tests.runtime.house import page
from ulmus.api.http import app as app_module
from ulmus.api.http.base import send
from ulmus.api.http.events import _newest
from ulmus.core.workflow import briefs
from ulmus.core.workflow.briefs import row_in_brief
from ulmus.readmodels.models import CellView
from ulmus.readmodels.views import versions
from ulmus.steps import kinds


def brief(kind: str, output: dict[str, Any]) -> str:
    return briefs.brief(kinds()[kind], output)


class InBrief(unittest.TestCase):
    def test_each_kind_tells_its_result_in_one_breath(self) -> None:
        self.assertEqual(brief("read_page", {"words": 312, "title": "Beans"}), "312 words · Beans")
        self.assertEqual(brief("draft", {"text": "Seed is here."}), "Seed is here.")
        self.assertEqual(brief("ask", {"by": "Ines"}), "Passed by Ines")
        self.assertEqual(brief("add_row", {"row": 3, "sheet": "Posts"}), "Row 3 in Posts")

    def test_what_is_not_there_leaves_no_hole_in_the_code(self) -> None:
        self.assertEqual(brief("read_page", {}), "words ·")
        self.assertLessEqual(len(brief("draft", {"text": "x" * 9000})), 400)

    def test_a_row_shows_the_beginnings_of_its_cells(self) -> None:
        told = row_in_brief({"Date": "2026-03-02", "Post": "A long text that goes on and on and on and on", "Empty": ""})
        self.assertEqual(told, "2026-03-02 · A long text that goes on and on …")


class Versions(unittest.TestCase):
    def finding(self, kept: bool, strength: str = "must") -> dict[str, object]:
        return {"rule": "length", "strength": strength, "kept": kept, "says": "12 of 10 characters", "reason": ""}

    def test_a_later_version_says_why_it_was_made_and_what_changed(self) -> None:
        rounds = [
            {"text": "Far too long", "findings": [self.finding(False)]},
            {"text": "Too long", "findings": [self.finding(True)]},
        ]
        first, second = versions({"rounds": rounds})
        self.assertEqual((first.why, first.changes), ("", []))
        self.assertEqual(second.why, "Sent back: 12 of 10 characters")
        self.assertEqual("".join(c.text for c in second.changes if c.what != "removed"), "Too long")

    def test_a_should_rule_is_no_reason_to_send_back(self) -> None:
        rounds = [{"text": "a", "findings": [self.finding(False, "should")]}, {"text": "b", "findings": []}]
        self.assertEqual(versions({"rounds": rounds})[1].why, "")

    def test_results_without_rounds_have_no_versions(self) -> None:
        self.assertEqual(versions({}), [])


class Flow(unittest.TestCase):
    def test_what_arranges_others_is_told_in_words(self) -> None:
        for kind, output, words in (
            ("for_each", {"count": 1}, "1 item"),
            ("for_each", {"count": 5, "failed": 2, "passed_over": 1}, "5 items · 2 failed · 1 passed over"),
            ("fork", {"lanes": ["beans", "else"]}, "beans, else"),
            ("fork", {"lanes": []}, "no lane fitted"),
            ("repeat_until", {"rounds": 1, "came": "yes"}, "1 round"),
            ("repeat_until", {"rounds": 4, "came": "no"}, "4 rounds, it never was"),
            ("wait", {"came": "yes", "item": {"text": "x"}}, "It arrived."),
            ("wait", {}, "The wait is over."),
            ("set_values", {"a": "One", "b": ""}, "One"),
        ):
            with self.subTest(kind=kind, output=output):
                self.assertEqual(brief(kind, output), words)

    def test_lists_are_told_by_their_first(self) -> None:
        items = [{"title": f"Article {n}"} for n in range(5)]
        told = brief("search", {"count": 5, "items": items})
        self.assertTrue(told.endswith("· Article 0 · Article 1 · Article 2"), told)

    def test_one_of_a_thing_is_not_many(self) -> None:
        self.assertTrue(brief("search", {"count": 1, "items": []}).startswith("1 result"))
        self.assertFalse(brief("search", {"count": 1, "items": []}).startswith("1 results"))


class LiveEvents(WithApi):
    def test_partial_texts_of_a_cell_that_pile_up_are_sent_once(self) -> None:
        running = [{"topic": "proof", "sample": 1, "step": "post", "state": "running", "text": "x" * n} for n in range(3)]
        other = {"topic": "proof", "sample": 2, "step": "post", "state": "running", "text": "y"}
        made = {"topic": "proof", "sample": 1, "step": "post", "state": "made"}
        self.assertEqual(_newest([*running, other, made]), [running[-1], other, made])

    def test_what_happens_is_heard_as_it_happens(self) -> None:
        answer = self.owner.client.get("/api/events", buffered=False)
        lines = iter(answer.response)
        self.assertIn("retry", bytes(next(lines)).decode())
        self.services.bus.publish("run", id=5)
        heard = bytes(next(lines)).decode()
        self.assertEqual(json.loads(heard.split("data: ", 1)[1]), {"topic": "run", "id": 5})
        answer.close()


class OddTexts(WithApi):
    def test_half_a_surrogate_pair_is_mended_and_what_is_nested_too_deep_is_refused(self) -> None:
        deep: Any = "end"
        for _ in range(300):
            deep = [deep]
        id_ = self.made(page(self.town.url))
        item = {"title": "A broken \ud83d sign", "text": "It is \ud83d"}
        self.owner.post(f"/workflows/{id_}/samples", {"item": item})
        (sample,) = self.owner.get(f"/workflows/{id_}/bench")["samples"]
        self.assertEqual((sample["label"], sample["item"]["text"]), ("A broken \ufffd sign", "It is \ufffd"))
        self.owner.post(f"/workflows/{id_}/samples", {"item": {"deep": deep}}, 422)

    def test_what_is_no_number_is_nothing(self) -> None:
        with self.app.app_context():
            self.assertEqual(send(CellView(step="a", sample=1, state="fresh", at=float("nan"))).json["at"], None)


class LongAnswers(WithApi):
    def test_they_come_packed_where_that_is_understood(self) -> None:
        ask = self.owner.client.get
        packed = ask("/api/catalogue", headers={"Accept-Encoding": "gzip, br"})
        plain = ask("/api/catalogue")
        self.assertEqual((packed.headers["Content-Encoding"], packed.headers["Vary"]), ("gzip", "Accept-Encoding"))
        self.assertNotIn("Content-Encoding", plain.headers)
        self.assertEqual(gzip.decompress(packed.data), plain.data)
        self.assertEqual(int(packed.headers["Content-Length"]), len(packed.data))
        self.assertLess(len(packed.data), len(plain.data) / 2)

    def test_short_ones_and_those_nobody_understands_stay_as_they_are(self) -> None:
        for path, accepted in (("session", "gzip"), ("catalogue", "br"), ("catalogue", "identity")):
            answer = self.owner.client.get(f"/api/{path}", headers={"Accept-Encoding": accepted})
            self.assertTrue(answer.json, path)
            self.assertNotIn("Content-Encoding", answer.headers)


class Files(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.files = Path(self.folder) / "dist"
        (self.files / "assets").mkdir(parents=True)
        (self.files / "index.html").write_text("<title>Ulmus</title>")
        (self.files / "assets" / "a.js").write_text("let a = 1")
        (self.files / "assets" / "a.js.gz").write_bytes(b"packed")
        patch = mock.patch.object(app_module, "FILES", self.files)
        patch.start()
        self.addCleanup(patch.stop)

    def test_every_place_in_the_app_is_the_app(self) -> None:
        for path in ("/", "/workflows/3", "/answer/some.token"):
            answer = self.owner.client.get(path)
            self.assertEqual((answer.status_code, "Ulmus" in answer.text), (200, True), path)
            self.assertEqual(answer.headers["Cache-Control"], "no-cache")
        for path in (
            "/api/nothing",
            "/../../etc/passwd",
            "/..%2f..%2fetc/passwd",
            "/x//etc/passwd",
            "/a/./b",
            "/" + "x" * 5000,
            "/a%00b",
        ):
            self.assertEqual(self.owner.client.get(path).status_code, 404, path)

    def test_named_files_are_kept_and_sent_packed_where_that_is_understood(self) -> None:
        packed = self.owner.client.get("/assets/a.js", headers={"Accept-Encoding": "gzip"})
        self.assertEqual((packed.data, packed.headers["Content-Encoding"]), (b"packed", "gzip"))
        self.assertIn("javascript", packed.headers["Content-Type"])
        plain = self.owner.client.get("/assets/a.js", headers={"Accept-Encoding": "identity"})
        self.assertEqual(plain.data, b"let a = 1")
        self.assertIn("immutable", plain.headers["Cache-Control"])

    def test_an_app_that_was_not_built_says_what_to_do(self) -> None:
        (self.files / "index.html").unlink()
        answer = self.owner.client.get("/")
        self.assertEqual((answer.status_code, "make build" in answer.text), (503, True))
