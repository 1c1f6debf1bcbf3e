"""Reading and beginning through the API: comparing, conditions, shapes, pictures, templates, descriptions, lists of feeds."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from tests.runtime.house import page
from tests.short import some
from ulmus.protocols import opml
from ulmus.runtime import workflows
from ulmus.runtime.sharing import templates


def every_line(document: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """All lines of a document but its start."""
    for line in document.get("steps", []):
        yield line
        yield from every_line(line)
        for lane in line.get("lanes", []):
            yield from every_line(lane)


class Reading(WithApi):
    def test_two_texts_set_against_each_other(self) -> None:
        found = self.owner.post("/compare", {"before": "Six boats left.", "after": "Five boats left."})
        self.assertEqual([(c["what"], c["text"]) for c in found][:2], [("removed", "Six"), ("added", "Five")])

    def test_a_condition_is_taken_apart_or_left_to_be_typed(self) -> None:
        found = self.owner.post("/conditions", {"text": 'verdict.text is one of "a", "b" or n > 3'})
        self.assertEqual((found["plain"], found["joined"], found["clauses"][0]["right"]), (True, "or", ["a", "b"]))
        self.assertFalse(self.owner.post("/conditions", {"text": 'not a is "b"'})["plain"])
        self.assertIn("ends too early", self.owner.post("/conditions", {"text": "a is"})["message"])
        self.assertEqual(self.owner.post("/conditions", {"text": " "})["clauses"], [])

    def test_a_model_is_asked_for_a_second_opinion_and_its_passages_are_looked_for(self) -> None:
        sources = {"page.text": "The new gates are of green oak. Each weighs 2.8 tonnes. Boats may pass again from Friday."}
        sentences = ["The new gates are made of green oak.", "Each gate weighs 9 tonnes.", "Entry is free for children."]
        found = self.owner.post("/opinion", {"sentences": sentences, "sources": sources})
        self.assertEqual([o["verdict"] for o in found["opinions"]], ["supported", "contradicted", "unsupported"])
        self.assertEqual(
            (found["opinions"][0]["passage"], found["opinions"][0]["source"]), ("The new gates are of green oak.", "page.text")
        )
        self.assertGreater(found["cost"], 0)
        # Shown with the evidence, an opinion counts by a passage that stands there, and only where code is blind.
        plain = "The doors of the lock were cut from living trees of this valley."
        said = {"number": 1, "text": plain, "verdict": "supported", "passage": "The new gates are of green oak.", "source": "x"}
        draft = {"text": f"{plain} Each gate weighs 9 tonnes.", "sources": sources}
        (before, weight) = self.owner.post("/evidence", draft)
        self.assertTrue(before["unsure"] and weight["flagged"])
        invented = said | {"passage": "The gates are of elm."}
        for opinion, unsure, passage in ((said, False, "The new gates are of green oak."), (invented, True, "")):
            (first, _) = self.owner.post("/evidence", draft | {"opinions": [opinion]})
            self.assertEqual((first["level"], first["passage"]), ("doubtful" if unsure else "by paraphrase", passage))
            self.assertTrue(first["reasons"])
        doubted = said | {"text": "Each gate weighs 9 tonnes.", "passage": "Each weighs 2.8 tonnes."}
        self.assertTrue(self.owner.post("/evidence", draft | {"opinions": [doubted]})[1]["flagged"])
        against = said | {"verdict": "contradicted"}
        self.assertEqual(self.owner.post("/evidence", draft | {"opinions": [against]})[0]["level"], "contradicts a source")
        self.town.state.set_fault("model", "down", None)
        self.assertIn("fault of its own", self.owner.post("/opinion", {"sentences": sentences, "sources": sources}, 502)["message"])
        self.visitor("reader").post("/opinion", {"sentences": sentences, "sources": sources}, 403)

    def test_a_draft_is_looked_for_in_its_sources(self) -> None:
        sources = {"page.text": "The new gates are of green oak. Each weighs 2.8 tonnes."}
        found = self.owner.post(
            "/evidence", {"text": "The new gates are of green oak. They weigh 9 tonnes each.", "sources": sources}
        )
        self.assertEqual(
            [(s["level"], [c["text"] for c in s["missing"]]) for s in found], [("supported", []), ("contradicts a source", ["9"])]
        )
        self.assertEqual(found[0]["source"], "page.text")

    def test_a_shape_from_an_example(self) -> None:
        found = self.owner.post("/shapes", {"text": json.dumps({"company": "x", "staff": 3})})
        self.assertEqual([(f["name"], f["type"]) for f in found], [("company", "text"), ("staff", "number")])
        self.assertIn("no JSON", self.owner.post("/shapes", {"text": "company, staff"}, 422)["message"])

    def test_pictures_come_through_the_house(self) -> None:
        address = f"{self.town.url}/companies/varley/logo.png"
        found = self.owner.client.get(f"/api/pictures?address={address}")
        self.assertEqual((found.status_code, found.mimetype, found.data[:4]), (200, "image/png", b"\x89PNG"))
        page_ = self.owner.client.get(f"/api/pictures?address={self.town.url}/companies/varley/")
        self.assertEqual(page_.status_code, 404)
        self.assertIn(self.owner.client.get("/api/pictures?address=http://10.0.0.7/x.png").status_code, (502,))


class Beginning(WithApi):
    def test_every_template_can_be_begun_from(self) -> None:
        listed = self.owner.get("/templates")
        self.assertEqual(len(listed), len(templates()))
        self.assertEqual((listed[0]["name"], listed[-1]["name"]), ("Feed to channel", "Lead enrichment"))
        sizes = [len(one["lines"]) for one in listed[:-2]]  # the last two wait for a call
        self.assertEqual(sizes, sorted(sizes), "the shortest first")
        for one in listed:
            with self.subTest(one["key"]):
                made = self.owner.post("/workflows", {"template": one["key"], "name": "Mine", "brand": ""}, 201)
                bench = self.owner.get(f"/workflows/{made['id']}/bench")
                self.assertEqual(
                    (bench["name"], len(bench["lines"])),
                    ("Mine", len(one["lines"]) + 1 + sum(p["kind"] == "lane" for p in bench["lines"])),
                )
        self.owner.post("/workflows", {"template": "none"}, 404)

    def test_any_line_of_any_template_can_be_muted_and_looked_at(self) -> None:
        item = {"title": "One", "link": f"{self.town.url}/sites/furrow-letter/", "text": "Words."}
        for key in some(templates(), 5):
            made = self.owner.post("/workflows", {"template": key}, 201)
            with self.services.store.write() as session:
                sample = workflows.add_sample(session, made["id"], item, "typed", 1.0).id
            bench = self.owner.get(f"/workflows/{made['id']}/bench")
            for line in bench["lines"]:
                if line["kind"] in ("lane", "take") or line["id"] == bench["lines"][0]["id"]:
                    continue
                with self.subTest(template=key, muted=line["id"]):
                    document = json.loads(json.dumps(bench["document"]))
                    for one in every_line(document):
                        one["muted"] = one["id"] == line["id"]
                    version = self.owner.get(f"/workflows/{made['id']}/bench")["version"]
                    self.owner.put(f"/workflows/{made['id']}", {"document": document, "version": version})
                    after = self.owner.get(f"/workflows/{made['id']}/bench")
                    steps = {one["id"] for one in after["lines"][1:] if one["kind"] != "lane"}
                    self.assertEqual({c["step"] for c in after["cells"]}, steps)
                    self.assertIn("muted", {c["state"] for c in after["cells"] if c["step"] == line["id"]})
                    self.owner.get(f"/workflows/{made['id']}/cells/{sample}/{line['id']}")
                    self.owner.get(f"/workflows/{made['id']}/values/{line['id']}", sample=str(sample))

    def test_a_description_with_an_if_becomes_a_fork(self) -> None:
        told = (
            "When the feed at https://furrow.example/feed.xml has a new article, read the page and write a short post about it. "
            "If the article mentions beans, ask the editor, otherwise stop."
        )
        made = self.owner.post("/workflows/sketch", {"description": told}, 201)
        document = self.owner.get(f"/workflows/{made['id']}/bench")["document"]
        self.assertEqual([one["kind"] for one in document["steps"]], ["read_page", "draft", "fork"])
        lanes = [(lane["when"], [one["kind"] for one in lane["steps"]]) for lane in document["steps"][2]["lanes"]]
        self.assertEqual(lanes, [('page.text contains "beans"', ["ask"]), ("", ["stop"])])

    def test_a_description_becomes_a_page(self) -> None:
        told = "When a feed has a new item, read the page, write a short post about it and ask the editor."
        made = self.owner.post("/workflows/sketch", {"description": told}, 201)
        lines = self.owner.get(f"/workflows/{made['id']}/bench")["lines"]
        self.assertEqual([line["kind"] for line in lines], ["feed_item", "read_page", "draft", "ask"])
        self.assertIn("Drafted from", made["notes"][0])

    def test_a_model_that_fails_makes_nothing(self) -> None:
        before = len(self.owner.get("/workflows"))
        for mode in ("down", "garbage", "empty"):
            self.town.state.set_fault("model", mode, None)
            with self.subTest(mode):
                self.assertTrue(self.owner.post("/workflows/sketch", {"description": "Read a feed and post."}, 502)["message"])
        self.town.state.faults.clear()
        with mock.patch("practice_town.describing.plan", return_value=["no", "page"]):
            said = self.owner.post("/workflows/sketch", {"description": "Read a feed and post."}, 502)["message"]
        self.assertIn("nothing usable", said)
        self.assertEqual(len(self.owner.get("/workflows")), before)

    def test_every_kind_of_line_is_explained_and_its_example_can_be_pasted(self) -> None:
        id_ = self.made(page(self.town.url))
        told = {kind["name"]: self.owner.get(f"/kinds/{kind['name']}") for kind in self.owner.get("/catalogue")["kinds"]}
        for name, kind in told.items():
            with self.subTest(name):
                self.assertTrue(kind["title"] and kind["about"])
                self.assertTrue(all(one["title"] for one in [*kind["settings"], *kind["gives"]]))
                example = kind["example"]
                if example is not None and kind["stage"] != "start":
                    bench = self.owner.get(f"/workflows/{id_}/bench")
                    change = {"version": bench["version"], "what": "paste", "line": "post", "lines": example["lines"]}
                    self.owner.post(f"/workflows/{id_}/edits", change)
        self.assertGreater(sum(kind["example"] is not None for kind in told.values()), len(told) // 2)
        self.owner.get("/kinds/teleport", 404)

    def test_what_is_said_of_a_page_is_shown_as_changes_and_changes_nothing_by_itself(self) -> None:
        id_ = self.made(page(self.town.url))
        before = self.owner.get(f"/workflows/{id_}/bench")
        found = self.owner.post(
            f"/workflows/{id_}/said", {"words": "Make the post shorter, at most 120 characters, and then mail it to me."}
        )
        told = {change["what"]: change for change in found["changes"]}
        self.assertEqual(set(told), {"changed", "added"})
        self.assertIn("120", str(told["changed"]["settings"]))
        self.assertEqual(found["notes"], [])
        after = self.owner.get(f"/workflows/{id_}/bench")
        self.assertEqual((after["version"], after["document"]), (before["version"], before["document"]))
        sent = next(line for line in found["document"]["steps"] if line["kind"] == "send_letter")
        self.assertEqual(sent["settings"]["to"], "owner@a.example")

    def test_what_happens_next_stands_behind_its_line_or_says_why_not(self) -> None:
        id_ = self.made(page(self.town.url))
        first = self.owner.get(f"/workflows/{id_}/bench")["document"]["steps"][0]["id"]
        found = self.owner.post(f"/workflows/{id_}/said", {"words": "Wait two days.", "line": first})
        self.assertEqual(
            (found["document"]["steps"][1]["kind"], found["document"]["steps"][1]["settings"]["seconds"]), ("wait", 172_800)
        )
        self.owner.post(f"/workflows/{id_}/said", {"words": "Wait two days.", "line": "gone"}, 409)
        nothing = self.owner.post(f"/workflows/{id_}/said", {"words": "Hm hm hm."})
        self.assertEqual(nothing["changes"], [])
        self.assertTrue(nothing["notes"])
        self.visitor("reader").post(f"/workflows/{id_}/said", {"words": "Wait two days."}, 403)
        self.town.state.set_fault("model", "garbage", None)
        self.owner.post(f"/workflows/{id_}/said", {"words": "Wait two days."}, 502)

    def test_the_feeds_looked_at_as_a_list(self) -> None:
        self.made(page(self.town.url))
        found = opml.parse(self.owner.client.get("/api/feeds.opml").data)
        self.assertTrue(any("furrow-letter" in one.feed for one in found))
