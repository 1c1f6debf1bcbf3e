"""What a description names of what is here is found in its own words, whatever a model made of them."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_sentences import WHO, demo_world
from ulmus.core.workflow import Workflow, check, saying, sketch
from ulmus.core.workflow.saying import Said, asked_by, last_named, named_in, people_in, rules_in
from ulmus.steps import kinds

PEOPLE = {
    "ines@a.example": "Ines Varga",
    "ruben@a.example": "Rubén Aske",
    "ines2@a.example": "Ines Holm",
    "mara@a.example": "Mara Tollen",
}


class Whom(unittest.TestCase):
    def test_people_by_whole_name_and_by_a_name_nobody_else_has(self) -> None:
        for words, found in {
            "ask Ines Varga": ["ines@a.example"],
            "ask ines": [],
            "Ruben approves it": ["ruben@a.example"],
            "show it to Mara’s team": ["mara@a.example"],
            "Mara and Rubén look at it": ["ruben@a.example", "mara@a.example"],
            "a samara seed": [],
            "ask Holm": ["ines2@a.example"],
        }.items():
            with self.subTest(words):
                self.assertEqual(people_in(words, PEOPLE), found)

    def test_who_is_asked_and_what_is_only_guessed(self) -> None:
        whole = "Write a post for Mara, have it checked, and post it."
        for words, who, guessed in (
            ("I look at it first", "me@a.example", False),
            ("ask Rubén", "ruben@a.example", False),
            ("have it checked", "mara@a.example", True),
        ):
            heard = asked_by(Said(words, whole, PEOPLE, "me@a.example"))
            assert heard is not None
            self.assertEqual((heard.value, bool(heard.why)), (who, guessed), words)
        heard = asked_by(Said("have it checked", "Have it checked.", PEOPLE, "me@a.example"))
        assert heard is not None
        self.assertEqual(heard.value, "me@a.example")
        self.assertIn("Nobody was named", heard.why)


class Which(unittest.TestCase):
    names = {"a": "Letter readers", "b": "Letters out", "c": "Monday letters", "d": "Posts"}

    def test_by_whole_name_or_by_words_no_other_has(self) -> None:
        for words, key in {
            "to our readers": "a",
            "into Letters out": "b",
            "the Monday list": "c",
            "the letters": "b",
            "into the sheet": None,
            "posts": "d",
        }.items():
            with self.subTest(words):
                self.assertEqual(named_in(words, self.names), key)

    def test_what_was_named_last(self) -> None:
        self.assertEqual(last_named("from Posts into Monday letters, then", self.names), "c")
        self.assertIsNone(last_named("from somewhere", self.names))


class Rules(unittest.TestCase):
    def test_rules_as_people_lay_them_down(self) -> None:
        for words, rules in {
            "a post of at most 250 characters without hashtags": [{"rule": "length", "most": 250}, {"rule": "hashtags", "most": 0}],
            "two sentences, no emoji": [{"rule": "sentences", "most": 2}, {"rule": "no_emoji"}],
            "with exactly one hashtag": [{"rule": "hashtags", "least": 1, "most": 1}],
            "between the lines": [],
            "a text of 1,200 words": [{"rule": "words", "most": 1200}],
            "at least 80 words and at most 120 words": [{"rule": "words", "most": 120, "least": 80}],
            "a script of at most thirty spoken seconds": [{"rule": "spoken", "most": 30}],
            "a one-sentence teaser": [{"rule": "sentences", "most": 1}],
            "under 200 characters": [{"rule": "length", "most": 200}],
            "a sentence about links": [],
        }.items():
            with self.subTest(words):
                found = [dict(sorted(rule.items())) for rule in rules_in(words)]
                self.assertEqual(found, [dict(sorted(rule.items())) for rule in rules])

    @given(st.text(max_size=200))
    def test_any_words_give_rules_a_draft_can_have(self, words: str) -> None:
        settings = {"title": "Draft", "prompt": "x", "rules": rules_in(words)}
        kinds()["draft"].settings.model_validate(settings)


DESCRIPTION = (
    "Take the next topic from Topics for spring each weekday. Write a post of at most 200 characters in Marrowbank’s voice, without hashtags. "
    "Ines Varga says yes. Post it on Pondside. Write the link beside the topic."
)
GOOD: dict[str, Any] = {
    "name": "Topic posts",
    "start": {
        "kind": "sheet_row",
        "words": "Take the next topic from Topics for spring each weekday",
        "rule": "FREQ=WEEKLY;BYDAY=MO",
    },
    "steps": [
        {
            "kind": "draft",
            "words": "Write a post of at most 200 characters in Marrowbank’s voice, without hashtags",
            "prompt": "Write a post.",
        },
        {"kind": "ask", "words": "Ines Varga says yes"},
        {"kind": "publish_post", "words": "Post it on Pondside"},
        {"kind": "write_row", "words": "Write the link beside the topic"},
    ],
}
HALF: dict[str, Any] = {
    "start": {"kind": "sheet_row", "words": "topics"},
    "steps": [
        {"kind": "draft", "words": "post, at most 200 characters, without hashtags"},
        {"kind": "ask", "words": "approval", "address": "the boss"},
        {"kind": "publish_post", "words": ""},
        {"kind": "write_row", "words": "beside"},
    ],
}
WRONG: dict[str, Any] = {
    "name": 7,
    "start": {"kind": "sheet_row", "words": None, "rule": "every day", "address": ["x"]},
    "steps": [
        {"kind": "draft", "words": {"a": 1}, "inside": "none"},
        "ask",
        {"kind": "ask", "words": "ask bob@elsewhere.example nicely", "address": "not an address"},
        {"kind": "teleport", "words": "beam it"},
        {"kind": "publish_post", "words": "to Lakeside"},
        {"kind": "write_row", "words": "somewhere", "lanes": [1]},
        None,
    ],
}


class Answers(unittest.TestCase):
    """What a model answered, as it was recorded: well, half, and wrong."""

    def page(self, answer: dict[str, Any]) -> Workflow:
        return sketch.page_of(answer, sketch.blank_page("", "", kinds()), kinds(), demo_world(), WHO, DESCRIPTION).workflow

    def test_people_brand_sheet_and_channel_come_out_whatever_was_answered(self) -> None:
        for name, answer in (("good", GOOD), ("half", HALF), ("wrong", WRONG)):
            with self.subTest(name):
                page = self.page(answer)
                settings = {line.kind: line.settings for line in page.lines}
                self.assertEqual(page.brand, "marrowbank")
                self.assertEqual(settings["sheet_row"]["sheet"], "topics")
                self.assertEqual(settings["ask"]["who"], "ines@marrowbank.example")
                self.assertEqual(settings["publish_post"]["channel"], "pondside")
                self.assertEqual(settings["write_row"]["sheet"], "topics")
                self.assertIn("<<brand.voice", settings["draft"]["standing"])

    def test_rules_come_from_the_words_of_the_line(self) -> None:
        for answer in (GOOD, HALF):
            rules = next(line for line in self.page(answer).steps if line.kind == "draft").settings["rules"]
            self.assertIn({"rule": "length", "most": 200}, rules)
            self.assertIn({"rule": "hashtags", "most": 0}, rules)

    def test_a_guess_is_told_at_its_line_until_it_is_said_to_be_right_or_set(self) -> None:
        page = self.page(HALF)
        told = [p for p in check(page, kinds(), demo_world()) if p.guess]
        self.assertIn(("ask", "who"), {(p.step, p.guess) for p in told})
        asked = next(p for p in told if p.guess == "who")
        self.assertEqual((asked.severity, asked.place), ("warning", ("who",)))
        self.assertIn("Ines Varga", asked.message)
        line = page.line(asked.step)
        assert line is not None
        other = line.model_copy(update={"settings": {**line.settings, "who": "mara@hedgelane.example"}})
        changed = page.model_copy(update={"steps": [other if one.id == line.id else one for one in page.steps]})
        self.assertNotIn("who", {p.guess for p in check(changed, kinds(), demo_world()) if p.step == line.id})

    def test_what_was_said_is_no_guess(self) -> None:
        told = {(p.step, p.guess) for p in check(self.page(GOOD), kinds(), demo_world()) if p.guess}
        self.assertEqual({one for one in told if one[1] not in ("rule",)}, set())

    def test_what_could_only_be_chosen_among_several_says_so(self) -> None:
        page = sketch.page_of(
            {"start": {"kind": "by_hand", "words": ""}, "steps": [{"kind": "ask_service", "words": "ask somebody"}]},
            sketch.blank_page("", "", kinds()), kinds(), demo_world(), WHO, "Ask somebody.",
        ).workflow  # fmt: skip
        (told,) = [p for p in check(page, kinds(), demo_world()) if p.guess]
        self.assertIn("there are", told.message)

    def test_answers_of_any_shape_give_a_page(self) -> None:
        for steps in (None, "x", [[]], [{"kind": ["draft"]}], [{"kind": "draft", "words": 3, "title": {}}] * 40):
            page = self.page({"start": steps, "steps": steps})
            self.assertLessEqual(len(page.steps), 24)


class HowLong(unittest.TestCase):
    def test_times_in_words(self) -> None:
        for words, seconds in {
            "wait two days": 172_800, "wait an hour and 30 minutes": 5400, "after a week": 604_800, "wait": None, "wait for them": None,
        }.items():  # fmt: skip
            self.assertEqual(saying.seconds_in(words), seconds, words)


class Plainly(unittest.TestCase):
    def test_times_and_oneself(self) -> None:
        self.assertTrue(saying.says_when("every Friday at 8"))
        self.assertTrue(saying.says_when("in the afternoon"))
        self.assertFalse(saying.says_when("every Friday"))
        self.assertTrue(saying.said_to_me("mail it to me"))
        self.assertFalse(saying.said_to_me("mail it to them"))
