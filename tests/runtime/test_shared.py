"""Live runs shared between takes: what a take is drawn by, and what stays the same through its rounds."""

from __future__ import annotations

import unittest
from typing import Any

from ulmus.core.workflow import Line, Workflow, drawn, is_shared
from ulmus.runtime import execution
from ulmus.runtime.dependencies import Dependencies, names_inside
from ulmus.steps import kinds

TAKES = [{"name": "Warm", "prompt": "Warmly."}, {"name": "Cold", "prompt": "Coldly."}]


def draft(**settings: Any) -> dict[str, Any]:
    return {"id": "post", "kind": "draft", "settings": {"model": "m", "prompt": "Write.", "takes": TAKES, **settings}}


def page(*steps: dict[str, Any]) -> Workflow:
    start = {"id": "start", "kind": "by_hand", "settings": {}}
    return Workflow.model_validate({"name": "P", "start": start, "steps": list(steps)})


def each(name: str, *steps: dict[str, Any]) -> dict[str, Any]:
    return {"id": name, "kind": "for_each", "settings": {"list": "<<start.x>>", "item": "it"}, "steps": list(steps)}


class Lots(unittest.TestCase):
    def test_every_round_of_a_draft_has_the_lot_of_the_first(self) -> None:
        loops = frozenset({"all"})
        first = execution.lot(7, "all:2/post", loops)
        for later in ("all:2/post:2", "all:2/editor:2/post", "all:2/until:3/post", "all:2/editor"):
            with self.subTest(later):
                self.assertEqual(execution.lot(7, later, loops), first)

    def test_each_item_and_each_run_has_a_lot_of_its_own(self) -> None:
        loops = frozenset({"all", "inner"})
        places = ("post", "all:1/post", "all:2/post", "all:2/inner:1/post", "all:2/inner:2/post")
        lots = {execution.lot(run, place, loops) for run in (1, 2) for place in places}
        self.assertEqual(len(lots), 10)

    def test_only_blocks_that_go_through_items_count(self) -> None:
        until = {"id": "until", "kind": "repeat_until", "settings": {"until": 'post.text is "x"'}, "steps": [draft()]}
        workflow = page(each("all", each("inner", until)))
        self.assertEqual(execution.loops_of(workflow), {"all", "inner"})

    def test_a_draft_shares_only_where_it_says_so_and_has_takes(self) -> None:
        for settings, shares in (({}, False), ({"shared": True}, True), ({"shared": True, "takes": []}, False)):
            with self.subTest(settings):
                self.assertEqual(is_shared(Line.model_validate(draft(**settings)), kinds()), shares)

    def test_the_take_that_is_drawn_writes_by_its_own_prompt(self) -> None:
        line = Line.model_validate(draft(shared=True))
        prompts = {drawn(line, kinds(), str(n)).settings["prompt"] for n in range(60)}
        self.assertEqual(prompts, {"Write.", "Warmly.", "Coldly."})


class WhatDepends(unittest.TestCase):
    def test_sharing_runs_puts_no_proof_out_of_date(self) -> None:
        keys = {
            Dependencies(Line.model_validate(draft(**more)), {"m": "x"}).key({}) for more in ({}, {"shared": True}, {"takes": []})
        }
        self.assertEqual(len(keys), 1)

    def test_another_prompt_or_model_connection_does(self) -> None:
        line = Line.model_validate(draft())
        other = Line.model_validate(draft(prompt="Write otherwise."))
        keys = {
            Dependencies(line, {"m": "x"}).key({}),
            Dependencies(other, {"m": "x"}).key({}),
            Dependencies(line, {"m": "y"}).key({}),
        }
        self.assertEqual(len(keys), 3)

    def test_takes_stand_inside_a_block_as_lines_do(self) -> None:
        block = Line.model_validate(each("all", draft(), {"id": "page", "kind": "read_page", "settings": {}}))
        self.assertEqual(names_inside(block), ["post", "post~2", "post~3", "page"])
