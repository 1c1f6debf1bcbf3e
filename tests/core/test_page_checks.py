"""What is wrong with a page is said on the line it is wrong on, in words that say what to do."""

from __future__ import annotations

import copy
import unittest
from typing import Any

from ulmus.core.pieces import Takes
from ulmus.core.workflow import World, check, read_file
from ulmus.core.workflow.world import Known
from ulmus.steps import kinds

WORLD = World(
    {"drafting": Known("model", "the drafting model"), "pond": Known("posting", "Pondside", Takes(length=300))},
    {"log": ("Posts out", ("Date", "Text")), "topics": ("Topics", ("Topic", "Used"))},
    frozenset({"marrowbank"}),
    {"7": "Another page"},
)
START = {"id": "feed", "kind": "feed_item", "settings": {"url": "http://a.example/feed.xml"}}
DRAFT = {"id": "post", "kind": "draft", "settings": {"title": "Post", "model": "drafting", "prompt": "Write of <<feed.title>>."}}
STOP = {"id": "over", "kind": "stop", "settings": {}}


def line(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings}


def each(*steps: dict[str, Any], **settings: Any) -> dict[str, Any]:
    return {**line("all", "for_each", **{"list": "<<feed.categories>>", "item": "one", **settings}), "steps": [*steps]}


def fork(*lanes: dict[str, Any], which: str = "first") -> dict[str, Any]:
    return {**line("ways", "fork", which=which), "lanes": [*lanes]}


def lane(id_: str, when: str, *steps: dict[str, Any]) -> dict[str, Any]:
    return {"id": id_, "when": when, "steps": [*steps]}


class WhatIsWrong(unittest.TestCase):
    def found(self, *steps: dict[str, Any], start: dict[str, Any] | None = None, **more: Any) -> list[tuple[str, str]]:
        document = {"format": "ulmus-workflow", "version": 1, "name": "A page", "start": start or START, "steps": [*steps], **more}
        return [(p.step, p.message) for p in check(read_file(copy.deepcopy(document)), kinds(), WORLD)]

    def says(self, step: str, words: str, *steps: dict[str, Any], **more: Any) -> None:
        found = self.found(*steps, **more)
        self.assertTrue(any(s == step and words in m for s, m in found), f"{words!r} on {step} is not among {found}")

    def test_a_page_with_nothing_wrong(self) -> None:
        asked = line("editor", "ask", draft="post", who="ines@seeds.example")
        self.assertEqual(self.found(DRAFT, asked), [])

    def test_lines_stand_where_their_kind_can(self) -> None:
        self.says("fax", "does not know the kind “fax_it”", line("fax", "fax_it"))
        self.says("again", "can only stand at the top", line("again", "by_hand"))
        self.says("feed", "cannot stand as the start", start={"id": "feed", "kind": "stop", "settings": {}})

    def test_blocks_hold_what_they_need_and_nothing_else(self) -> None:
        self.says("all", "no step inside this block yet", each())
        self.says("all", "Only a fork has lanes", {**each(DRAFT), "lanes": [lane("x", "", STOP)]})
        self.says("all", "“feed” is a name already", each(DRAFT, item="feed"))
        self.says("ways", "no lane in this fork yet", fork())
        self.says("ways", "stand in its lanes", {**fork(lane("x", "", STOP)), "steps": [DRAFT]})
        self.says("post", "holds no steps of its own", {**DRAFT, "steps": [STOP]})
        self.says("goal", "no tool in it yet", line("goal", "assignment", title="A", model="drafting", goal="Look."))

    def test_a_lane_without_a_condition_comes_last(self) -> None:
        ways = (lane("x", "", STOP), lane("y", 'feed.title is "A"'))
        self.says("ways", "no lane after it can run", fork(*ways))
        self.assertEqual([m for s, m in self.found(fork(*ways, which="every")) if "no lane after" in m], [])
        self.says("ways", "gives no “colour”", fork(lane("x", 'feed.colour is "red"', STOP)))

    def test_a_question_shows_a_draft_of_its_own_block(self) -> None:
        self.says("editor", "Choose which draft", DRAFT, line("editor", "ask", draft="feed", who="a@b.example"))
        self.says("editor", "stands outside this block", DRAFT, each(line("editor", "ask", draft="post", who="a@b.example")))

    def test_what_stands_around_the_page_is_there_and_fits(self) -> None:
        self.says("post", "“gone” is not here yet", {**DRAFT, "settings": {**DRAFT["settings"], "model": "gone"}})
        self.says("post", "“Pondside” is not a fitting connection", {**DRAFT, "settings": {**DRAFT["settings"], "model": "pond"}})
        self.says("row", "no sheet “gone”", line("row", "add_row", sheet="gone"))
        self.says("row", "has no column “Colour”", line("row", "add_row", sheet="log", cells={"Colour": "red"}))
        self.says("feed", "has no column “Done”", start=line("feed", "sheet_row", rule="FREQ=DAILY", sheet="topics", used="Done"))
        self.says("call", "Choose which workflow", line("call", "run_workflow", workflow="8"))
        self.says("feed", "no brand “tillerby”", brand="tillerby")

    def test_a_draft_too_long_for_its_channel_can_be_mended(self) -> None:
        out = line("out", "publish_post", channel="pond", text="<<post.text>>")
        document = {"format": "ulmus-workflow", "version": 1, "name": "A page", "start": START, "steps": [DRAFT, out]}
        (problem,) = (p for p in check(read_file(document), kinds(), WORLD) if p.mend)
        self.assertEqual((problem.step, problem.mend), ("post", "Keep it within 300 characters"))
        assert problem.settings is not None
        mended = {**document, "steps": [{**DRAFT, "settings": dict(problem.settings)}, out]}
        self.assertEqual([p for p in check(read_file(mended), kinds(), WORLD) if p.mend], [])

    def test_what_goes_out_unasked_is_told_once(self) -> None:
        out = line("out", "publish_post", channel="pond", text="<<post.text>>")
        self.says("out", "with nobody asked", DRAFT, out)
        asked = line("editor", "ask", draft="post", who="a@b.example")
        self.assertEqual([m for _, m in self.found(DRAFT, asked, out) if "nobody" in m], [])
        self.says("out", "with nobody asked", DRAFT, {**asked, "muted": True}, out)

    def test_values_that_may_be_missing_are_told_with_the_reason(self) -> None:
        self.says("after", "the lane “x” may not run", fork(lane("x", 'feed.title is "A"', DRAFT)), set_to("<<post.text>>"))
        self.says("after", "“post” is muted", {**DRAFT, "muted": True}, set_to("<<post.text>>"))
        self.says("after", "this page is for no brand", set_to("<<brand.name>>"))
        self.assertEqual(self.found(set_to("<<brand.name>>"), brand="marrowbank"), [])
        self.assertEqual(self.found({**DRAFT, "muted": True}, set_to('<<post.text | otherwise "-">>')), [])

    def test_what_a_block_gave_is_known_after_it(self) -> None:
        block = each({**DRAFT, "settings": {**DRAFT["settings"], "prompt": "Of <<one>>."}})
        self.assertEqual(self.found(block, set_to("<<each all.results as r>><<r.post.text>><<end>>")), [])
        self.says("after", "gives no “colour”", block, set_to("<<all.colour>>"))


def set_to(text: str) -> dict[str, Any]:
    return line("after", "set_values", values={"text": text})
