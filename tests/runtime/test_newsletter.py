"""The job to its end: a search, all of it in one newsletter after an example, approved with a change, and a letter to each reader."""

from __future__ import annotations

import json
from typing import Any

from practice_town import recordings
from tests.runtime.house import WHO
from tests.runtime.test_mailing import WithList
from ulmus.core.workflow import Workflow
from ulmus.places import DEMO
from ulmus.runtime import workflows
from ulmus.runtime.sharing import templates
from ulmus.store import tables


class Newsletter(WithList):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            text = (DEMO / "world.json").read_text("utf-8").replace("{town}", self.town.url)
            world = json.loads(text.replace('"{smtp}"', "1").replace('"{imap}"', "1"))
            search: dict[str, Any] = next(c for c in world["connections"] if c["key"] == "web_search")
            sealed = self.services.sealer.seal(search["secrets"])
            found = {"key": "search", "kind": "search", "name": "Search", "settings": search["settings"], "sealed": sealed}
            session.add(tables.Connection(**found))

    def begin(self, key: str, replaced: dict[str, str]) -> int:
        """A live page from a template, its gaps filled, set off by a call."""
        _, document = templates()[key]
        text = json.dumps(document, ensure_ascii=False)
        for gap, words in replaced.items():
            text = text.replace(gap, words)
        document = json.loads(text)
        fields = [{"name": name, "label": name, "type": "text"} for name in ("title", "link", "image", "transcript")]
        document["start"] = {"id": document["start"]["id"], "kind": "by_hand", "settings": {"fields": fields}}
        for step in document["steps"]:
            if step["kind"] == "ask":
                step["settings"]["who"] = WHO
        document.pop("needs", None)
        document.pop("about", None)
        Workflow.model_validate(document)
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def test_from_a_search_to_every_reader(self) -> None:
        gaps = {
            "<<? your topic, such as heritage seed>>": "seed library",
            "<<? an issue you liked, as an example>>": "Short. With links.",
        }
        run = self.engine.runs.push(self.begin("topic-newsletter", gaps), {"title": "News"})
        assert run is not None
        question = self.question(run)
        self.assertIn("http", self.engine.live(run).state.values["search"]["text"])
        self.answer(run, text=f"Changed by hand.\n\n{question.text}")
        self.until(run, "done", "failed", "stuck", seconds=30)
        self.assertEqual(self.run_of(run).state, "done", self.run_of(run).message)
        self.assertEqual(
            [one for one in self.got() if one != WHO], ["ada@readers.example", "bea@readers.example", "finn@readers.example"]
        )
        ada = self.mail_to("ada@readers.example")
        self.assertIn("Dear Ada", ada["text"])
        self.assertIn("Changed by hand.", ada["text"], "what was changed at the desk is what goes out")
        self.assertIn("<p", ada["html"])
        self.assertRegex(ada["subject"], r"^What is new, \d+ [A-Z][a-z]+$")

    def test_from_an_episode_to_every_reader_with_a_teaser_from_the_body_that_was_approved(self) -> None:
        episode = next(iter(recordings.episodes()))
        link = f"{self.town.url}/radio/{episode}"
        item = {"title": "The lock", "link": link, "image": f"{link}.png", "transcript": f"{link}.vtt"}
        id_ = self.begin("episode-to-mailing", {"<<? a mailing you liked, as an example>>": "Short."})
        run = self.engine.runs.push(id_, item)
        assert run is not None
        self.answer(run, text="The *body*, changed by hand: boats wait.\n\n- one\n- two")
        self.until(run, "asking", "failed", "stuck")
        teaser = self.question(run)
        self.assertEqual(teaser.draft, "teaser")
        self.answer(run)
        self.until(run, "done", "failed", "stuck", seconds=30)
        self.assertEqual(self.run_of(run).state, "done", self.run_of(run).message)
        self.assertEqual(len([one for one in self.got() if one != WHO]), 3)
        finn = self.mail_to("finn@readers.example")
        for part in (
            "Dear reader",
            teaser.text.strip(),
            "<em>body</em>, changed by hand",
            "<li>two</li>",
            f"/radio/{episode}.png",
            "/to/",
        ):
            self.assertIn(part, finn["html"])
