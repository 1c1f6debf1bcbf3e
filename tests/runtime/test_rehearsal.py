"""A block in rehearsal: items at their own pace, how far it is told, limits kept, nothing carried out twice."""

from __future__ import annotations

import threading
import unittest
from collections.abc import Callable, Mapping
from typing import Any
from unittest import mock

from ulmus.core.cost import Usage
from ulmus.core.workflow import Line, read_file
from ulmus.protocols.errors import OutsideError
from ulmus.runtime import rehearsal
from ulmus.runtime.handlers import Handlers
from ulmus.runtime.rehearsal import Gave, Rehearsal
from ulmus.steps.api import Context

TEXT = "<<it>>"


def set_to(id_: str, text: str) -> dict[str, Any]:
    return {"id": id_, "kind": "draft", "settings": {"model": "drafting", "prompt": text}}


class ABlock(unittest.TestCase):
    def setUp(self) -> None:
        self.told: list[str] = []
        self.done: list[str] = []
        self.steps: dict[str, str] = {}
        self.stopped = False

    def carry_out(self, block: dict[str, Any], one: Callable[[str, Line, Mapping[str, Any]], Gave] | None = None) -> Gave:
        document = {"format": "ulmus-workflow", "version": 1, "name": "A page", "start": {"id": "start", "kind": "by_hand"}}
        workflow = read_file({**document, "steps": [block]})
        values = {"start": {"names": ["bean", "pea", "leek"]}}
        context = Context(
            web=mock.Mock(), connect=mock.Mock(), values=values, progress=self.told.append, cancelled=lambda: self.stopped
        )
        return Rehearsal(
            Handlers(mock.Mock(), mock.Mock(), mock.Mock(), mock.MagicMock()),
            workflow,
            workflow.steps[0],
            context,
            one or self.gives,
            0.0,
        ).carry_out()

    def gives(self, address: str, line: Line, values: Mapping[str, Any]) -> Gave:
        self.done.append(address)
        self.steps[address] = line.id
        return {"text": f"{line.id} of {values.get('it')}"}, {}, Usage(calls=1)

    def each(self, *steps: dict[str, Any], **settings: Any) -> dict[str, Any]:
        settings = {"list": "<<start.names>>", "item": "it", **settings}
        return {"id": "all", "kind": "for_each", "settings": settings, "steps": [*steps]}

    def test_every_item_once_in_the_order_of_the_list(self) -> None:
        output, detail, usage = self.carry_out(self.each(set_to("a", TEXT), set_to("b", TEXT)))
        self.assertEqual([r["b"]["text"] for r in output["results"]], ["b of bean", "b of pea", "b of leek"])
        self.assertEqual(sorted(self.done), sorted(set(self.done)))
        self.assertEqual((len(detail["places"]), usage.calls), (6, 6))

    def test_an_item_does_not_wait_for_the_others_at_each_line(self) -> None:
        ahead = threading.Event()

        def one(address: str, line: Line, values: Mapping[str, Any]) -> Gave:
            if values["it"] == "bean" and line.id == "a":
                self.assertTrue(ahead.wait(20), "the second item is carried on while the first is at its first line")
            if values["it"] == "pea" and line.id == "b":
                ahead.set()
            return self.gives(address, line, values)

        output, _, _ = self.carry_out(self.each(set_to("a", TEXT), set_to("b", TEXT)), one)
        self.assertEqual(output["count"], 3)
        self.assertEqual([r["a"]["text"] for r in output["results"]], ["a of bean", "a of pea", "a of leek"])

    def test_how_far_it_is_is_told(self) -> None:
        self.carry_out(self.each(set_to("a", TEXT), parallel=1))
        self.assertEqual(self.told, ["0 of 3 done", "1 of 3 done", "2 of 3 done"])

    def test_an_item_that_fails_counts_as_done(self) -> None:
        def one(address: str, line: Line, values: Mapping[str, Any]) -> Gave:
            if values["it"] == "bean":
                raise OutsideError("No bean today.")
            return self.gives(address, line, values)

        output, detail, _ = self.carry_out(self.each(set_to("a", TEXT), parallel=1), one)
        self.assertEqual((output["failed"], len(output["results"])), (1, 2))
        self.assertEqual(self.told[1], "1 of 3 done")
        self.assertFalse(detail["places"]["all:1/a"]["ok"])

    def test_a_repeat_tells_its_round_and_ends_when_the_condition_holds(self) -> None:
        block = {
            "id": "again",
            "kind": "repeat_until",
            "settings": {"until": 'a.text is "3"', "rounds": 5},
            "steps": [set_to("a", "x")],
        }
        output, _, _ = self.carry_out(block, lambda address, line, values: ({"text": address.split(":")[1][0]}, {}, Usage()))
        self.assertEqual((output["rounds"], output["came"]), (3, "yes"))
        self.assertEqual(self.told, ["round 1", "round 2", "round 3"])

    def test_lanes_side_by_side_are_told(self) -> None:
        lanes = [{"id": name, "when": "", "steps": [set_to(f"in_{name}", "x")]} for name in ("one", "two")]
        for lane in lanes:
            lane["when"] = "start.names is not empty"
        self.carry_out({"id": "ways", "kind": "fork", "settings": {"which": "every"}, "lanes": lanes})
        self.assertEqual(self.told[0], "0 of 2 lanes done")
        self.assertEqual(len(self.done), 2)

    def test_stopped_in_the_midst(self) -> None:
        def one(address: str, line: Line, values: Mapping[str, Any]) -> Gave:
            self.stopped = True
            return self.gives(address, line, values)

        with self.assertRaisesRegex(OutsideError, "Stopped"):
            self.carry_out(self.each(set_to("a", TEXT), set_to("b", TEXT), parallel=1), one)
        self.assertEqual(len(self.done), 1)

    def test_what_never_ends_is_said(self) -> None:
        with mock.patch.object(rehearsal, "MOST_STEPS", 3), self.assertRaisesRegex(OutsideError, "not over after 3 steps"):
            self.carry_out(self.each(set_to("a", TEXT), set_to("b", TEXT), parallel=1))

    def test_lines_that_ask_send_write_and_wait_are_played_and_the_block_goes_on(self) -> None:
        steps = [
            set_to("post", TEXT),
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": "a@b.example"}},
            {"id": "pause", "kind": "wait", "settings": {"seconds": 3600}},
            {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<post.text>>"}},
            {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Text": "<<out.link>>"}}},
        ]
        output, _, _ = self.carry_out(self.each(*steps, most=1))
        self.assertEqual([self.steps[a] for a in self.done], ["post", "editor", "out", "log"], "waiting takes no time")
        (given,) = output["results"]
        self.assertTrue({"post", "editor", "out", "log"} <= set(given), given)

    def test_a_stop_inside_ends_its_item_and_no_other(self) -> None:
        ways = {
            "id": "ways",
            "kind": "fork",
            "settings": {},
            "lanes": [
                {"id": "x", "when": 'it is "pea"', "steps": [{"id": "s", "kind": "stop", "settings": {"words": "No peas."}}]}
            ],
        }
        output, detail, _ = self.carry_out(self.each(ways, set_to("a", TEXT)))
        self.assertEqual([r["a"]["text"] for r in output["results"]], ["a of bean", "a of leek"])
        self.assertEqual((output["count"], output["passed_over"]), (3, 1))
        self.assertEqual([place["output"] for a, place in detail["places"].items() if a.endswith("/s")], [{"words": "No peas."}])

    def test_an_item_that_fails_stops_the_block_where_that_is_set(self) -> None:
        def one(address: str, line: Line, values: Mapping[str, Any]) -> Gave:
            raise OutsideError("The site is away.")

        with self.assertRaisesRegex(OutsideError, "Item 1: The site is away"):
            self.carry_out(self.each(set_to("a", TEXT), parallel=1, failing="stop"), one)
