"""A page changed by what somebody says of it, with what the practice model answers and with answers of any other kind."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from practice_town import describing
from tests.core.test_sentences import WHO, demo_world
from ulmus.core.pieces import Takes
from ulmus.core.slots.filters import untagged
from ulmus.core.workflow import Workflow, changing, check
from ulmus.core.workflow.compare import compare
from ulmus.core.workflow.sketch import Sketch
from ulmus.steps import kinds

PAGE = Workflow.model_validate(
    {
        "name": "Topic posts",
        "brand": "marrowbank",
        "start": {"id": "monday", "kind": "schedule", "settings": {"rule": "FREQ=WEEKLY;BYDAY=MO;BYHOUR=8;BYMINUTE=0"}},
        "steps": [
            {"id": "search", "kind": "search", "settings": {"service": "valley_news", "query": "seed"}},
            {
                "id": "post",
                "kind": "draft",
                "settings": {
                    "title": "Short post", "model": "drafting_model", "prompt": "Write a post.\n\n<<search.text>>",
                    "rules": [{"rule": "length", "most": 280}, {"rule": "hashtags", "least": 1, "most": 2}],
                },
            },
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": "ines@marrowbank.example"}},
            {"id": "pond", "kind": "publish_post", "settings": {"channel": "pondside", "text": "<<post.text>>"}},
            {"id": "log", "kind": "add_row", "settings": {"sheet": "posts_out", "cells": {"Post": "<<post.text>>"}}},
        ],
    }
)  # fmt: skip


def said(words: str, at: str = "") -> Sketch:
    """The page after the practice model was told what is to change."""
    world = demo_world()
    messages = changing.messages(words, PAGE, kinds(), world)
    answer = describing.change("\n".join(m["content"] for m in messages), changing.answer_schema(kinds()))
    assert answer is not None
    return changing.changed(answer, PAGE, kinds(), world, WHO, words, at)


class Said(unittest.TestCase):
    def differs(self, words: str, at: str = "") -> list[tuple[str, str]]:
        return [(one.what, one.line.id) for one in compare(PAGE, said(words, at).workflow, kinds())]

    def line(self, words: str, name: str) -> dict[str, Any]:
        found = said(words).workflow.line(name)
        assert found is not None
        return found.settings

    def test_another_place_without_the_hashtags(self) -> None:
        page = said("also post it to the blog, but without the hashtags").workflow
        new = page.steps[4]
        self.assertEqual((new.kind, new.settings["channel"]), ("publish_article", "towpath_review"))
        self.assertIn("<<post.text | untagged>>", new.settings.values())
        self.assertEqual([line.id for line in page.steps if line.id != new.id], [line.id for line in PAGE.steps])
        self.assertEqual(
            [p.message for p in check(page, kinds(), demo_world()) if p.severity == "error" and p.step == new.id],
            ["Title: Missing; it must be filled in."],
        )

    def test_somebody_else_is_asked(self) -> None:
        self.assertEqual(self.line("ask Mara instead of Ines", "editor")["who"], WHO)
        self.assertEqual(self.differs("ask Mara instead of Ines"), [("changed", "editor")])

    def test_a_rule_takes_the_place_of_its_like(self) -> None:
        rules = self.line("make the post shorter, at most 150 characters", "post")["rules"]
        self.assertEqual([r for r in rules if r["rule"] == "length"], [{"rule": "length", "most": 150}])
        self.assertIn("hashtags", {r["rule"] for r in rules})

    def test_another_time_another_line_less_and_one_passed_over(self) -> None:
        self.assertEqual(self.line("on Fridays at 10", "monday")["rule"], "FREQ=WEEKLY;BYDAY=FR;BYHOUR=10;BYMINUTE=0")
        self.assertEqual(self.differs("remove the row"), [("removed", "log")])
        self.assertTrue(next(line for line in said("mute Pondside").workflow.steps if line.id == "pond").muted)

    def test_what_happens_next_is_put_where_one_is_and_nothing_else_changes(self) -> None:
        words = "tell the team and mail it to me"
        page = said(words, "editor").workflow
        self.assertEqual([line.kind for line in page.steps[2:5]], ["ask", "message_room", "send_letter"])
        self.assertEqual(page.steps[4].settings["to"], WHO)
        self.assertEqual({what for what, _ in self.differs(words, "editor")}, {"added"})
        self.assertEqual(self.differs("remove the row", "editor"), [])

    def test_a_draft_that_was_not_spoken_of_stays_as_it_is_though_its_channel_takes_less(self) -> None:
        world = demo_world()
        short = replace(world.connections["pondside"], takes=Takes(length=100))
        narrow = replace(world, connections={**world.connections, "pondside": short})
        self.assertTrue([p for p in check(PAGE, kinds(), narrow) if p.step == "post" and p.mend], "it would be offered")
        found = changing.changed({"changes": [{"what": "remove", "line": "log", "words": "remove the row"}]}, PAGE, kinds(), narrow)
        self.assertEqual([(one.what, one.line.id) for one in compare(PAGE, found.workflow, kinds())], [("removed", "log")])

    def test_answers_of_any_shape_change_nothing_that_was_not_meant(self) -> None:
        for changes in (
            None, 7, ["x"], [{"what": "explode", "line": "post"}], [{"what": "remove", "line": "nothing", "words": "zzz"}],
            [{"what": "add", "kind": "teleport", "words": "beam"}], [{"what": "change", "line": ["post"], "words": 3}],
            [{"what": "change", "line": "post", "words": "nicely"}], [{"what": "remove", "line": "monday", "words": ""}],
        ):  # fmt: skip
            with self.subTest(changes=changes):
                found = changing.changed({"changes": changes}, PAGE, kinds(), demo_world(), WHO, "nicely")
                self.assertEqual(found.workflow.steps, PAGE.steps)
                self.assertEqual(bool(found.notes), isinstance(changes, list) and isinstance(changes[0], dict))

    def test_a_wrong_line_is_mended_by_the_words(self) -> None:
        found = changing.changed(
            {"changes": [{"what": "change", "line": "the post please", "words": "the short post without emoji"}]},
            PAGE, kinds(), demo_world(), WHO, "The short post without emoji.",
        )  # fmt: skip
        line = found.workflow.line("post")
        assert line is not None
        self.assertIn({"rule": "no_emoji"}, line.settings["rules"])


class Untagged(unittest.TestCase):
    def test_hashtags_go_and_all_else_stays(self) -> None:
        for text, left in {
            "Beans are in. #beans #peas": "Beans are in.",
            "See http://a.example/#x now #y.": "See http://a.example/#x now.",
            "One\n#two\nthree": "One\nthree",
            "C# is #1 here": "C# is #1 here",
            "a\n\n#b #c\n\nd": "a\n\nd",
            "": "",
        }.items():
            with self.subTest(text):
                self.assertEqual(untagged(text), left)
