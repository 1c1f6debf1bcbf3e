"""The workflow file, its checks and its sentences, with the kinds that ship."""

from __future__ import annotations

import copy
import json
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

from hypothesis import given
from hypothesis import strategies as st
from pydantic import BaseModel

from ulmus.core.pieces import Takes
from ulmus.core.workflow import WorkflowFileError, World, check, file_schema, read_file, scope_before, sentence, write_file
from ulmus.core.workflow.controls import duration
from ulmus.core.workflow.kinds import type_word
from ulmus.core.workflow.world import Known
from ulmus.runtime.dependencies import dependents, roots_used
from ulmus.steps import kinds

DEMO = Path(__file__).parents[2] / "demo" / "workflows"
WORLD = World(
    {
        "model": Known("model", "the drafting model"),
        "pond": Known("posting", "Pondside", Takes(length=300)),
        "mail": Known("mail", "Office mail"),
    },
    {"log": ("Posts out", ("Date", "Post"))},
    frozenset({"marrowbank"}),
)


def page() -> dict[str, Any]:
    """A page with nothing wrong, to be spoilt."""
    return {
        "format": "ulmus-workflow",
        "version": 1,
        "name": "News",
        "brand": "marrowbank",
        "start": {"id": "feed", "kind": "feed_item", "settings": {"url": "http://a.example/feed"}},
        "steps": [
            {"id": "page", "kind": "read_page", "settings": {"url": "<<feed.link>>"}},
            {
                "id": "post",
                "kind": "draft",
                "settings": {"model": "model", "prompt": "<<page.text>>", "rules": [{"rule": "length", "most": 300}]},
            },
            {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": "ines@a.example"}},
            {"id": "out", "kind": "publish_post", "settings": {"channel": "pond", "text": "<<post.text>>"}},
            {"id": "log", "kind": "add_row", "settings": {"sheet": "log", "cells": {"Post": "<<out.link>>"}}},
        ],
    }


def spoilt(change: Any) -> list[tuple[str, str, str]]:
    data = page()
    change(data)
    return [(p.step, p.severity, p.message) for p in check(read_file(data), kinds(), WORLD)]


def settings_of(data: dict[str, Any], step: str) -> dict[str, Any]:
    found: dict[str, Any] = next(s for s in data["steps"] if s["id"] == step)["settings"]
    return found


class Files(unittest.TestCase):
    def refused(self, change: Any) -> str:
        data = page()
        change(data)
        with self.assertRaises(WorkflowFileError) as caught:
            read_file(data)
        return str(caught.exception)

    def test_what_is_written_is_read(self) -> None:
        workflow = read_file(page())
        self.assertEqual(read_file(write_file(workflow)), workflow)

    def test_defaults_are_left_out_when_writing(self) -> None:
        text = write_file(read_file(page()))
        self.assertNotIn("muted", text)
        self.assertNotIn("on_failure", text)

    def test_unknown_fields_are_named(self) -> None:
        self.assertIn("/colour", self.refused(lambda d: d.update(colour="red")))
        self.assertIn("/steps/0/colour", self.refused(lambda d: d["steps"][0].update(colour="red")))

    def test_a_newer_version_says_so(self) -> None:
        self.assertIn("newer Ulmus", self.refused(lambda d: d.update(version=2)))

    def test_another_format_says_so(self) -> None:
        self.assertIn("not a workflow file", self.refused(lambda d: d.update(format="other")))

    def test_two_lines_of_one_name_and_reserved_names(self) -> None:
        self.assertIn("names must differ", self.refused(lambda d: d["steps"][1].update(id="page")))
        self.assertIn("reserved", self.refused(lambda d: d["steps"][1].update(id="brand")))

    def test_names_with_capitals_or_spaces(self) -> None:
        self.assertIn("small letters", self.refused(lambda d: d["steps"][1].update(id="My Post")))

    def test_what_is_not_json_at_all(self) -> None:
        for text in ("", "{", "[]", '"x"', "[" * 100_000, b"\xff\xfe"):
            with self.subTest(text=text[:10]), self.assertRaises(WorkflowFileError):
                read_file(text)

    def test_a_file_too_large(self) -> None:
        with self.assertRaisesRegex(WorkflowFileError, "larger"):
            read_file(" " * 2_000_001)

    @given(
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.text(max_size=9),
            lambda x: (
                st.lists(x, max_size=3)
                | st.dictionaries(st.sampled_from(["id", "kind", "settings", "start", "steps", "name"]), x, max_size=4)
            ),
            max_leaves=12,
        )
    )
    def test_no_json_does_worse_than_be_refused(self, value: Any) -> None:
        data = {"format": "ulmus-workflow", "version": 1, "name": "x", "start": value, "steps": value}
        try:
            check(read_file(data), kinds(), WORLD)
        except WorkflowFileError as error:
            self.assertTrue(error.problems)

    def test_the_published_schema_is_the_codes_own(self) -> None:
        published = json.loads((Path(__file__).parents[2] / "docs" / "workflow.schema.json").read_text("utf-8"))
        self.assertEqual(published, json.loads(json.dumps(file_schema(kinds()))), "run: make docs")

    def test_the_demos_files_are_right_but_for_the_gap_meant_to_be_there(self) -> None:
        for file in sorted(DEMO.glob("*.json")):
            with self.subTest(file=file.name):
                found = check(read_file(file.read_text("utf-8")), kinds())
                self.assertEqual([p.message for p in found if p.severity == "error"], [])


class Checks(unittest.TestCase):
    def test_a_page_with_nothing_wrong(self) -> None:
        self.assertEqual(spoilt(lambda d: None), [])

    def test_an_unknown_kind(self) -> None:
        self.assertIn("does not know", spoilt(lambda d: d["steps"][0].update(kind="levitate"))[0][2])

    def test_a_start_in_the_middle_and_a_step_at_the_top(self) -> None:
        self.assertIn(
            "only stand at the top", spoilt(lambda d: d["steps"][0].update(kind="feed_item", settings={"url": "x"}))[0][2]
        )
        self.assertIn("cannot stand as the start", spoilt(lambda d: d["start"].update(kind="read_page"))[0][2])

    def test_whoever_has_no_account_and_is_told_by_nothing_is_a_risk(self) -> None:
        known = replace(WORLD, people={"mara@a.example": "Mara"})

        def told(**settings: Any) -> list[str]:
            data = page()
            settings_of(data, "editor").update(settings)
            return [p.message for p in check(read_file(data), kinds(), known) if "told by nothing" in p.message]

        self.assertEqual(told(), [], "the house's only mail server tells of it")
        self.assertEqual(len(told(outside=False)), 1)
        self.assertEqual(told(outside=False, who="Mara@a.example"), [])
        known = replace(known, connections={**known.connections, "other": Known("mail", "Another")})
        self.assertEqual(len(told()), 1, "nobody can say which of two is meant")
        self.assertEqual(told(mail="mail"), [])
        self.assertEqual(told(who="<<brand.editor>>"), [])

    def test_settings_that_are_missing_unknown_or_out_of_range(self) -> None:
        self.assertIn("Prompt: Missing", spoilt(lambda d: settings_of(d, "post").pop("prompt"))[0][2])
        self.assertIn("Unknown here", spoilt(lambda d: settings_of(d, "post").update(colour=1))[0][2])
        self.assertIn("Revisions: Too large; at most 5", spoilt(lambda d: settings_of(d, "post").update(revisions=50))[0][2])
        self.assertIn("no mail address", spoilt(lambda d: settings_of(d, "editor").update(who="nobody"))[0][2])

    def test_slots_that_name_nothing_lead_to_their_place(self) -> None:
        data = page()
        settings_of(data, "post")["prompt"] = "About <<pag.text>>"
        problem = check(read_file(data), kinds(), WORLD)[0]
        self.assertEqual((problem.step, problem.place, problem.start, problem.end), ("post", ("prompt",), 6, 18))

    def test_slots_in_cells_and_rules_are_checked_too(self) -> None:
        self.assertEqual(spoilt(lambda d: settings_of(d, "log")["cells"].update(Date="<<nobody.x>>"))[0][0], "log")
        self.assertEqual(
            spoilt(lambda d: settings_of(d, "post")["rules"].append({"rule": "contains", "text": "<<feed.lnk>>"}))[0][0], "post"
        )

    def test_later_steps_cannot_be_pointed_at(self) -> None:
        self.assertIn("No earlier step", spoilt(lambda d: settings_of(d, "page").update(url="<<post.text>>"))[0][2])

    def test_gaps_in_the_set_up(self) -> None:
        self.assertIn("“pond2” is not here", spoilt(lambda d: settings_of(d, "out").update(channel="pond2"))[0][2])
        self.assertIn("not a fitting", spoilt(lambda d: settings_of(d, "out").update(channel="mail"))[0][2])
        self.assertIn("no sheet", spoilt(lambda d: settings_of(d, "log").update(sheet="x"))[0][2])
        self.assertIn("no column “Wrong”", spoilt(lambda d: settings_of(d, "log")["cells"].update(Wrong="x"))[0][2])
        self.assertIn("no brand", spoilt(lambda d: d.update(brand="nobody"))[0][2])
        self.assertIn("which draft", spoilt(lambda d: settings_of(d, "editor").update(draft="page"))[0][2])

    def test_publishing_with_nobody_asked_is_a_warning(self) -> None:
        found = spoilt(lambda d: d["steps"].pop(2))
        self.assertEqual(found, [("out", "warning", "This goes out with nobody asked.")])
        self.assertEqual(spoilt(lambda d: d["steps"][2].update(muted=True))[0][1], "warning")

    def test_a_channel_no_rule_keeps_to(self) -> None:
        self.assertIn("at most 300", spoilt(lambda d: settings_of(d, "post").update(rules=[]))[0][2])
        self.assertIn("at most 300", spoilt(lambda d: settings_of(d, "post")["rules"][0].update(most=400))[0][2])

    def test_rules_nobody_can_keep(self) -> None:
        rules = [{"rule": "length", "most": 20}, {"rule": "length", "least": 50}]
        self.assertTrue(any("No draft can have" in m for _, _, m in spoilt(lambda d: settings_of(d, "post").update(rules=rules))))

    def test_a_muted_step_may_be_missing_below(self) -> None:
        found = spoilt(lambda d: d["steps"][0].update(muted=True))
        self.assertEqual([(s, v) for s, v, _ in found], [("post", "warning")])

    def test_a_page_for_no_brand_says_where_it_would_have_one(self) -> None:
        data = page()
        data["brand"] = None
        data["steps"][1]["settings"]["prompt"] = '<<brand.name>> and <<brand.voice | otherwise "plainly">>'
        found = [p for p in check(read_file(data), kinds()) if "brand" in p.message]
        self.assertEqual([(p.severity, p.message.split(":")[0]) for p in found], [("warning", "<<brand.name>> may be missing")])
        self.assertIn("choose one at its head", found[0].message)

    def test_the_scope_holds_what_stands_above_only(self) -> None:
        scope = scope_before(read_file(page()), kinds(), "post")
        self.assertEqual(set(scope), {"feed", "page", "run", "brand"})
        self.assertEqual(scope["feed"]["categories"], "list")
        self.assertEqual(scope["page"]["words"], "number")


class Dependence(unittest.TestCase):
    def test_an_edit_reaches_exactly_what_follows_from_it(self) -> None:
        follow = dependents(read_file(page()))
        self.assertEqual(follow["post"], ["editor", "out", "log"])
        self.assertEqual(follow["out"], ["log"])
        self.assertEqual(follow["log"], [])
        self.assertEqual(follow["feed"], ["page", "post", "editor", "out", "log"])

    def test_an_edit_inside_a_block_reaches_the_block_and_all_in_it(self) -> None:
        data = page()
        each = {
            "id": "tags",
            "kind": "for_each",
            "settings": {"list": "<<feed.categories>>", "item": "one"},
            "steps": data["steps"][:2],
        }
        data["steps"] = [each, *data["steps"][2:]]
        follow = dependents(read_file(data))
        inside, after = [s["id"] for s in each["steps"]], [s["id"] for s in data["steps"][1:]]
        self.assertEqual(follow[inside[0]][:2], ["tags", inside[1]])
        self.assertEqual(follow["tags"], follow[inside[0]][2:])
        self.assertTrue(set(follow["tags"]) <= set(after), follow)
        self.assertEqual(follow["feed"], ["tags", *inside, *follow["tags"]])

    def test_a_line_uses_what_its_slots_and_choices_name(self) -> None:
        workflow = read_file(page())
        self.assertEqual(roots_used(workflow.line("editor"), ["post", "page"]), {"post"})  # type: ignore[arg-type]


class Sentences(unittest.TestCase):
    def say(self, step: str, change: Any = lambda s: None) -> list[tuple[str, str]]:
        data = copy.deepcopy(page())
        line = data["start"] if step == "feed" else next(s for s in data["steps"] if s["id"] == step)
        change(line["settings"])
        found = read_file(data).line(step)
        assert found is not None
        return [(p.what, p.text) for p in sentence(found, kinds().get(found.kind), WORLD)]

    def test_slots_and_names_stand_in_the_sentence(self) -> None:
        self.assertEqual(self.say("page"), [("text", "Read the page at "), ("slot", "feed.link")])
        self.assertEqual(self.say("out"), [("text", "Post to "), ("value", "Pondside")])
        self.assertIn(("value", "the drafting model"), self.say("post"))
        self.assertEqual(self.say("editor")[-2:], [("value", "3"), ("text", " rounds")])

    def test_what_is_missing_is_a_gap(self) -> None:
        self.assertEqual(self.say("out", lambda s: s.update(channel="gone"))[-1], ("gap", "gone"))
        self.assertEqual(self.say("log", lambda s: s.pop("sheet"))[-1], ("gap", "sheet"))

    def test_durations_in_words(self) -> None:
        for seconds, words in (
            (3, "3 seconds"),
            (1, "1 second"),
            (900, "15 minutes"),
            (3600, "1 hour"),
            (172800, "2 days"),
            (90, "90 seconds"),
        ):
            self.assertEqual(duration(seconds), words)


class OutputTypes(unittest.TestCase):
    def test_a_type_is_read_from_its_annotation(self) -> None:
        class Point(BaseModel):
            x: float

        class Listening(BaseModel):  # its name holds “list”
            intention: str

        class Output(BaseModel):
            words: str
            count: int
            share: float | None
            open: bool
            mode: Literal["print", "list"]
            tags: list[str]
            pair: tuple[int, int]
            points: list[Point]
            point: Point
            told: Listening
            table: dict[str, int]
            whatever: Any
            either: int | str
            marked: Annotated[int, "list"]

        found = {name: type_word(field) for name, field in Output.model_fields.items()}
        self.assertEqual(
            found,
            {
                "words": "text",
                "count": "number",
                "share": "number",
                "open": "text",
                "mode": "text",
                "tags": "list",
                "pair": "list",
                "points": [{"x": "number"}],
                "point": "any",
                "told": "any",
                "table": "any",
                "whatever": "any",
                "either": "any",
                "marked": "number",
            },
        )
