"""Brands over the API: facts and examples kept, style measured, drafts held against it, a guide written to be read."""

from __future__ import annotations

from tests.api.visitor import WithApi
from ulmus.runtime import workflows
from ulmus.runtime.services import brand_values
from ulmus.store import tables

LIKED = [
    "We sowed the winter lettuce in September, and it stands a hand high. Frost does it good. Seed is at the counter.",
    "Eleven people came to sort beans on Saturday, and eleven jars went home with them. We still have forty packets.",
    "Nobody had grown the Wend pea since 1931. Last year fourteen of our members did, and nine of them sent seed back.",
]
LOUD = "🌱🌱 AMAZING NEWS!!! You will LOVE our INCREDIBLE extraordinarily comprehensive assortment!!! #seed #love #garden #joy"


class Brands(WithApi):
    def test_facts_and_examples_are_kept_and_reach_prompts(self) -> None:
        made = self.visitor("maker").post("/brands", {"name": "Hollow Mill"}, 201)
        body = {
            "name": "Hollow Mill",
            "facts": {"about": "a mill", "voice": "dry"},
            "liked": [*LIKED, LIKED[0], " "],
            "disliked": [LOUD],
        }
        self.owner.put(f"/brands/{made['key']}", body)
        found = self.owner.get(f"/brands/{made['key']}")
        self.assertEqual((found["facts"]["about"], found["liked"], found["disliked"]), ("a mill", LIKED, [LOUD]))
        self.assertEqual(next(m for m in found["measures"] if m["name"] == "hashtags")["examples"], 0)
        self.assertEqual(found["person"], "we")
        with self.services.store.read() as session:
            values = brand_values(session, made["key"])
        self.assertIn(LIKED[1], values["liked"])
        self.assertEqual((values["voice"], values["audience"]), ("dry", ""))
        self.assertIn("already", self.owner.post("/brands", {"name": "Hollow mill"}, 409)["message"])

    def test_a_text_is_held_against_the_examples(self) -> None:
        self.owner.put("/brands/marrowbank", {"name": "Marrowbank", "facts": {}, "liked": LIKED, "disliked": []})
        near = self.owner.post(
            "/brands/marrowbank/voice", {"text": "We dug the beds on Monday, and sowed nine rows. Rain came at four."}
        )
        loud = self.owner.post("/brands/marrowbank/voice", {"text": LOUD})
        self.assertIn(near["verdict"], ("in this voice", "near to this voice"))
        self.assertEqual(loud["verdict"], "in another voice")
        self.assertTrue(any("more emoji" in says or "more hashtags" in says for says in loud["differences"]))

    def test_without_examples_it_says_what_to_do_and_judges_nothing(self) -> None:
        self.assertEqual(self.owner.post("/brands/marrowbank/voice", {"text": LOUD}), {"verdict": "", "differences": []})
        self.assertIn("liked examples first", self.owner.post("/brands/marrowbank/guide", None, 409)["message"])
        self.assertEqual(self.owner.get("/brands/marrowbank")["measures"], [])

    def test_a_guide_is_written_and_not_saved(self) -> None:
        self.owner.put("/brands/marrowbank", {"name": "Marrowbank", "facts": {"voice": "mine"}, "liked": LIKED, "disliked": []})
        guide = self.owner.post("/brands/marrowbank/guide")["text"]
        self.assertIn("Speak as “we”.", guide)
        self.assertEqual(self.owner.get("/brands/marrowbank")["facts"]["voice"], "mine")
        self.town.state.set_fault("model", "down", None)
        self.assertIn("fault of its own", self.owner.post("/brands/marrowbank/guide", None, 502)["message"])

    def test_what_went_out_stands_beside_and_a_repeat_is_found(self) -> None:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Out",
            "brand": "marrowbank",
            "start": {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": "text", "label": "Text"}]}},
            "steps": [{"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<start.text>>"}}],
        }
        workflow_id = self.made(document)
        workflows.go_live(self.engine, workflow_id, "owner@a.example")
        with self.engine.transaction() as tx:
            run = self.engine.begin(tx, workflow_id, {"title": "One", "text": LIKED[0]}, "One")
        self.until(run, "done")
        found = self.owner.get("/brands/marrowbank")
        self.assertEqual([p["text"] for p in found["recent"]], [LIKED[0]])
        self.assertEqual(found["used_by"], ["Out"])
        from ulmus.runtime.workspace import known

        published = known(self.services, "marrowbank").published
        assert published is not None
        nearest = published().nearest(LIKED[0].replace("September", "October"))
        assert nearest is not None
        self.assertGreater(nearest.alike, 0.7)
        elsewhere = known(self.services, None).published
        assert elsewhere is not None
        self.assertIsNone(elsewhere().nearest(LIKED[0]))

    def test_a_reader_changes_nothing(self) -> None:
        reader = self.visitor("reader")
        self.assertEqual(len(reader.get("/brands")), 1)
        reader.put("/brands/marrowbank", {"name": "Mine", "facts": {}, "liked": [], "disliked": []}, 403)
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.Brand, "marrowbank").name, "Marrowbank")

    def test_a_brand_is_deleted_only_when_nothing_is_its_own(self) -> None:
        key = self.owner.post("/brands", {"name": "Hollow Mill"}, 201)["key"]
        sheet = self.owner.post("/sheets", {"name": "Sacks", "columns": [{"name": "Size"}], "brand": key}, 201)["key"]
        self.assertIn("The sheet “Sacks” belongs to this brand", self.owner.delete(f"/brands/{key}", 409)["message"])
        self.owner.delete(f"/sheets/{sheet}")
        kept = self.visitor("reader")
        with self.services.store.write() as session:
            session.query(tables.User).filter_by(email="reader@a.example").one().brands = [key]
        self.assertIn("is kept to this brand", self.owner.delete(f"/brands/{key}", 409)["message"])
        with self.services.store.write() as session:
            session.query(tables.User).filter_by(email="reader@a.example").one().brands = None
        self.visitor("maker").delete(f"/brands/{key}", 403)
        kept.delete(f"/brands/{key}", 403)
        self.owner.delete(f"/brands/{key}")
        self.owner.get(f"/brands/{key}", 404)
