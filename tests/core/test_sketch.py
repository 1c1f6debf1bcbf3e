"""Pages from a description: what a model chooses becomes lines with their values; what cannot be placed is told."""

from __future__ import annotations

import unittest

from ulmus.core.drafting.answers import AnswerError, read_json
from ulmus.core.pieces import Takes
from ulmus.core.workflow import World, check, sketch
from ulmus.core.workflow.kinds import StartSpec
from ulmus.core.workflow.world import Known
from ulmus.steps import kinds

BLANK = sketch.blank_page("", "", kinds())


def made(answer: dict[str, object]) -> sketch.Sketch:
    return sketch.page_of(answer, BLANK, kinds(), World(), "ines@seeds.example")


class Pages(unittest.TestCase):
    ANSWER: dict[str, object] = {
        "name": "Seed news",
        "start": {"kind": "feed_item", "words": "each new article", "address": "https://furrow.example/feed.xml"},
        "steps": [
            {"kind": "read_page", "words": "read it"},
            {"kind": "draft", "words": "a short post", "title": "Short post", "prompt": "Write a short post about it."},
            {"kind": "ask", "words": "ask me"},
        ],
    }

    def test_lines_point_at_what_stands_above_them(self) -> None:
        page = made(self.ANSWER).workflow
        self.assertEqual([line.kind for line in page.lines], ["feed_item", "read_page", "draft", "ask"])
        self.assertEqual(page.start.settings["url"], "https://furrow.example/feed.xml")
        self.assertEqual(page.steps[0].settings["url"], "<<feed.link>>")
        self.assertEqual(
            page.steps[1].settings["prompt"],
            "Write a short post about it.\n\nTitle: <<feed.title>>\nLink: <<feed.link>>\n\n<<page.text | shorten 900 words>>",
        )
        self.assertEqual(page.steps[2].settings, {"draft": "draft", "who": "ines@seeds.example"})
        self.assertEqual(page.name, "Seed news")

    def test_what_stands_inside_a_block_knows_its_item(self) -> None:
        inside = [{"kind": "read_page", "words": "read it"}]
        steps = [{"kind": "for_each", "words": "for each of its links", "inside": inside}, {"kind": "stop", "words": "stop"}]
        page = made({**self.ANSWER, "steps": steps}).workflow
        self.assertEqual([line.kind for line in page.steps], ["for_each", "stop"])
        self.assertEqual([line.kind for line in page.steps[0].steps], ["read_page"])

    def test_what_is_not_on_the_menu_is_told(self) -> None:
        found = made(
            {"start": {"kind": "feed_item", "words": ""}, "steps": [{"kind": "fax_it", "words": "fax it to the mill"}, "x"]}
        )
        self.assertIn("fax it to the mill", found.notes[0])
        self.assertEqual(found.workflow.steps, [])

    def test_nonsense_gives_a_page_to_begin_with(self) -> None:
        for answer in ({}, {"start": 3, "steps": {"a": 1}}, {"name": None, "steps": [None, {"kind": []}]}):
            with self.subTest(answer):
                self.assertEqual(made(answer).workflow.start.kind, "by_hand")

    def test_a_fork_has_its_lanes_and_what_stands_in_them(self) -> None:
        ask = {"kind": "ask", "words": "ask me"}
        lanes = [
            {"when": "", "inside": [{"kind": "stop", "words": "stop"}]},
            {"when": 'page.text contains "bean"', "inside": [ask]},
        ]
        steps = [*self.ANSWER["steps"][:2], {"kind": "fork", "words": "if it is about beans", "lanes": lanes}]  # type: ignore[index]
        page = made({**self.ANSWER, "steps": steps}).workflow
        fork = page.steps[-1]
        self.assertEqual(
            [(lane.when, [one.kind for one in lane.steps]) for lane in fork.lanes],
            [('page.text contains "bean"', ["ask"]), ("", ["stop"])],
        )
        self.assertEqual(fork.lanes[0].steps[0].settings["draft"], "draft", "it knows what stands above the fork")
        self.assertEqual([p for p in check(page, kinds()) if p.step == fork.id and p.severity == "error"], [])

    def test_a_condition_that_cannot_be_read_is_shown_on_its_lane(self) -> None:
        steps = [{"kind": "fork", "words": "if", "lanes": [{"when": "it is nice", "inside": []}, 3]}]
        page = made({**self.ANSWER, "steps": steps}).workflow
        self.assertEqual([lane.when for lane in page.steps[0].lanes], ["it is nice", ""])
        self.assertTrue([p for p in check(page, kinds()) if "lanes" in p.place])

    def test_what_comes_after_a_block_stands_on_what_was_made_in_it_for_all(self) -> None:
        inside = [{"kind": "read_page", "words": "read it"}, {"kind": "draft", "words": "one line", "prompt": "One line."}]
        steps = [
            {"kind": "search", "words": "search", "query": "seed swaps"},
            {"kind": "for_each", "words": "each", "inside": inside},
            {"kind": "draft", "words": "a digest", "prompt": "A digest."},
            {"kind": "ask", "words": "ask", "address": "mara@seeds.example"},
        ]
        page = made({**self.ANSWER, "steps": steps}).workflow
        search, _, digest, ask = page.steps
        self.assertEqual(search.settings["query"], "seed swaps")
        self.assertEqual(digest.settings["prompt"], "A digest.\n\n<<each each_one.results as one>><<one.draft.text>>\n\n<<end>>")
        self.assertEqual(ask.settings, {"draft": digest.id, "who": "mara@seeds.example"})
        wrong = [p for p in check(page, kinds()) if p.severity == "error" and "search" not in p.message.lower()]
        self.assertEqual([p.message for p in wrong if "model" not in p.message.lower()], [])

    def test_a_time_is_a_rule_or_is_told_to_be_set(self) -> None:
        start = {"kind": "schedule", "words": "Mondays", "rule": "FREQ=WEEKLY;BYDAY=MO;BYHOUR=7;BYMINUTE=0"}
        self.assertEqual(made({"start": start}).workflow.start.settings, {"rule": start["rule"]})
        found = made({"start": {**start, "rule": "each Monday"}})
        self.assertEqual(found.workflow.start.settings, {})
        self.assertIn("could not be read", found.notes[0])

    def test_the_menu_names_what_there_is_here(self) -> None:
        world = World({"board": Known("posting", "the garden board", Takes(length=300))}, {"log": ("Posts out", ("Date",))})
        menu = sketch.messages("x", kinds(), world)[0]["content"]
        self.assertRegex(menu, r"- publish_post: .* Here: the garden board\.")
        self.assertRegex(menu, r"- add_row: .* Here: Posts out\.")

    SHEETS = World(
        {},
        {
            "topics": ("Topics for spring", ("Topic", "Month", "Used")),
            "leads": ("Leads", ("Company", "Web site", "Done")),
            "out": ("Posts out", ("Date", "Text")),
        },
    )

    def begun(self, start: dict[str, object], *steps: dict[str, object]) -> sketch.Sketch:
        return sketch.page_of({"start": start, "steps": [*steps]}, BLANK, kinds(), self.SHEETS)

    def test_the_sheet_meant_is_the_one_whose_name_is_said(self) -> None:
        for words, sheet in (("for every new lead in the sheet", "leads"), ("a new topic for the summer", "topics")):
            with self.subTest(words):
                self.assertEqual(
                    self.begun({"kind": "new_row", "words": words}).workflow.start.settings["sheet"],
                    sheet,
                )

    def test_a_sheet_that_is_not_said_is_left_to_be_chosen(self) -> None:
        page = self.begun({"kind": "by_hand", "words": ""}, {"kind": "add_row", "words": "add it to the ideas"}).workflow
        self.assertEqual(page.steps[0].settings, {})
        told = [p.message for p in check(page, kinds(), self.SHEETS) if p.step == page.steps[0].id]
        self.assertEqual(told, ["Sheet: Missing; it must be filled in."])

    def test_a_column_called_used_is_where_a_row_is_marked(self) -> None:
        topics = self.begun({"kind": "sheet_row", "words": "the next topic", "rule": "FREQ=DAILY"}).workflow.start
        self.assertEqual((topics.settings["sheet"], topics.settings["used"]), ("topics", "Used"))
        self.assertNotIn("used", self.begun({"kind": "sheet_row", "words": "the next lead"}).workflow.start.settings)

    def test_a_column_with_addresses_is_read(self) -> None:
        page = self.begun({"kind": "new_row", "words": "a new lead"}, {"kind": "read_page", "words": "read its web site"}).workflow
        self.assertEqual(page.steps[0].settings["url"], '<<row."Web site">>')
        search = self.begun({"kind": "new_row", "words": "a new lead"}, {"kind": "search", "words": "search for it"}).workflow
        self.assertEqual(search.steps[0].settings.get("query"), "<<row.title>>", "the row’s first cell")

    def test_a_column_is_filled_with_the_draft_of_its_name(self) -> None:
        drafts = [{"kind": "draft", "words": "w", "title": title, "prompt": "W."} for title in ("Opening line", "PS", "Third")]
        world = World({}, {"briefs": ("Briefs", ("Company", "Opening", "ps", "Note"))})
        answer = {"start": {"kind": "by_hand", "words": ""}, "steps": [*drafts, {"kind": "add_row", "words": "into the briefs"}]}
        page = sketch.page_of(answer, BLANK, kinds(), world).workflow
        self.assertEqual(page.steps[-1].settings["cells"], {"Opening": "<<draft.text>>", "ps": "<<draft_2.text>>"})

    def test_the_time_of_day_is_not_what_is_written_about(self) -> None:
        steps = ({"kind": "search", "words": "search"}, {"kind": "draft", "words": "write", "prompt": "Write it."})
        page = self.begun({"kind": "schedule", "words": "daily", "rule": "FREQ=DAILY"}, *steps[:1]).workflow
        self.assertNotIn("query", page.steps[0].settings)
        page = self.begun({"kind": "schedule", "words": "daily", "rule": "FREQ=DAILY"}, *steps[1:]).workflow
        self.assertEqual(page.steps[0].settings["prompt"], "Write it.")

    def test_the_schema_names_every_kind(self) -> None:
        schema = sketch.answer_schema(kinds())
        steps = schema["properties"]["steps"]["items"]["properties"]["kind"]["enum"]
        self.assertEqual({k.name for k in kinds().values() if not isinstance(k, StartSpec)}, set(steps))
        self.assertIn("- read_page: ", sketch.messages("read it", kinds(), World())[0]["content"])


class Templates(unittest.TestCase):
    def test_each_has_nothing_wrong_but_what_must_be_chosen(self) -> None:
        from ulmus.core.workflow import read_file
        from ulmus.runtime.sharing import templates

        self.assertGreater(len(templates()), 4)
        for key, (about, document) in templates().items():
            with self.subTest(key):
                self.assertTrue(about)
                for problem in check(read_file(document), kinds(), World()):
                    self.assertNotRegex(problem.message, "gives no|is not above|cannot be read|not closed", problem)


class Answers(unittest.TestCase):
    def test_what_is_wrapped_round_is_taken_off(self) -> None:
        for text in ('{"a": 1}', '```json\n{"a": 1}\n```', 'Here it is:\n{"a": 1}\nI hope it helps.', '\ufeff {"a": 1} '):
            with self.subTest(text):
                self.assertEqual(read_json(text), {"a": 1})

    def test_no_json_is_an_error(self) -> None:
        for text in ("", "no", "{", "[" * 100_000, "{'a': 1", "{a b}"):
            with self.subTest(text[:10]), self.assertRaises(AnswerError):
                read_json(text)


if __name__ == "__main__":
    unittest.main()
