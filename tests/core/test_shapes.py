"""Answer shapes: schemas, what models really answer, and fields from examples."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.drafting.answers import AnswerError
from ulmus.core.drafting.shapes import (
    Shape,
    ShapeError,
    ShapeField,
    choices_of,
    conform,
    demand_of,
    given_by,
    schema_of,
    shape_from,
    so_far,
    text_of,
)

LEAD = Shape(
    "fields",
    (
        ShapeField(name="company"),
        ShapeField(name="staff", type="number", required=False),
        ShapeField(name="sells_seed", type="yes_no"),
        ShapeField(name="size", type="choice", choices=["small", "large"]),
        ShapeField(name="crops", type="list"),
    ),
)
VERDICT = Shape("choice", choices=choices_of("high: sells to gardeners\nlow: sells to farms\nnot stated"))
names = st.from_regex(r"[a-z][a-z0-9_]{0,12}", fullmatch=True)


class ReadingAlong(unittest.TestCase):
    ANSWER = json.dumps(
        {"company": "Marrowbank “Seeds”", "staff": 14, "sells_seed": True, "size": "small", "crops": ["bean", "pea"]}
    )

    def test_values_come_without_the_marks_of_json(self) -> None:
        self.assertEqual(so_far(self.ANSWER[:20], LEAD), "company: Marrowb")
        self.assertEqual(so_far(self.ANSWER, LEAD), text_of(conform(self.ANSWER, LEAD), LEAD))

    def test_nothing_is_shown_until_there_is_a_value(self) -> None:
        for begun in ("", "{", '{"comp', "Sure! Here you"):
            with self.subTest(begun):
                self.assertEqual(so_far(begun, LEAD), "")

    def test_what_is_wrapped_round_does_not_show(self) -> None:
        self.assertEqual(so_far(f"Here:\n```json\n{self.ANSWER[:20]}", LEAD), "company: Marrowb")
        self.assertIn("crops: bean, pea", so_far(f"```json\n{self.ANSWER}\n```\nI hope it helps.", LEAD))

    def test_lists_stand_line_by_line_and_a_verdict_by_itself(self) -> None:
        titles = Shape("list", (ShapeField(name="title"),))
        self.assertEqual(so_far('{"items": [{"title": "Beans"}, {"title": "Pe', titles), "title: Beans\ntitle: Pe")
        self.assertEqual(so_far('["Beans", "Pe', Shape("list")), "Beans\nPe")
        self.assertEqual(so_far('{"choice": "high", "reason": "It', VERDICT), "high")

    @given(st.integers(0, 200))
    def test_any_part_of_an_answer_can_be_read(self, end: int) -> None:
        said = so_far(self.ANSWER[:end], LEAD)
        self.assertTrue(text_of(conform(self.ANSWER, LEAD), LEAD).startswith(said), said)
        self.assertNotRegex(said, r"[{}\[\]\"]")

    @given(st.text(max_size=80))
    def test_whatever_comes_nothing_breaks(self, text: str) -> None:
        for shape in (LEAD, VERDICT, Shape("list")):
            self.assertIsInstance(so_far(text, shape), str)


class Fields(unittest.TestCase):
    GOOD = {"company": "Marrowbank", "staff": 14, "sells_seed": True, "size": "small", "crops": ["bean"]}

    def test_what_fits_is_taken_as_it_is(self) -> None:
        self.assertEqual(conform(json.dumps(self.GOOD), LEAD), self.GOOD)

    def test_what_can_only_be_meant_one_way_is_mended(self) -> None:
        said = {"Company": 5, "STAFF": "1,400 people", "sells_seed": "Yes", "size": " Small.", "crops": "- bean\n- pea"}
        found = conform(f"Sure!\n```json\n{json.dumps(said)}\n```", LEAD)
        self.assertEqual(found, {"company": "5", "staff": 1400, "sells_seed": True, "size": "small", "crops": ["bean", "pea"]})

    def test_what_is_not_known_is_said_so_and_never_empty(self) -> None:
        self.assertIsNone(conform(json.dumps({**self.GOOD, "staff": "not stated"}), LEAD)["staff"])
        shape = Shape("fields", (ShapeField(name="a", required=False), ShapeField(name="b", type="list", required=False)))
        self.assertEqual(conform('{"a": "", "b": null}', shape), {"a": "not stated", "b": []})

    def test_everything_that_does_not_fit_is_told(self) -> None:
        with self.assertRaises(AnswerError) as caught:
            conform(json.dumps({"staff": "many", "sells_seed": "perhaps", "size": "huge", "crops": []}), LEAD)
        for part in ("“company” is missing", "“staff” is no number", "“sells_seed” is neither", "“size” is none of small, large"):
            self.assertIn(part, str(caught.exception))
        for text in ("", "no", "[1]", '"text"'):
            with self.subTest(text), self.assertRaises(AnswerError):
                conform(text, LEAD)

    def test_numbers_are_read_as_people_write_them(self) -> None:
        shape = Shape("fields", (ShapeField(name="n", type="number"),))
        for said, number in (("1,400 people", 1400), ("-3.50", -3.5), ("12 000 km", 12000), (" 7, or so", 7), ("2, 500", 2500)):
            with self.subTest(said=said):
                self.assertEqual(conform(json.dumps({"n": said}), shape), {"n": number})
        for said in ("9" * 400, "1" + " " * 200_000 + "x" * 20, "1 2 x 3", "about 5", True):
            with self.subTest(said=str(said)[:20]), self.assertRaises(AnswerError):
                conform(json.dumps({"n": said}), shape)

    def test_the_schema_and_the_words_name_every_field(self) -> None:
        schema = schema_of(LEAD)
        self.assertEqual(schema["required"], list(self.GOOD))
        self.assertEqual(schema["properties"]["size"]["enum"], ["small", "large"])
        for name in self.GOOD:
            self.assertIn(f"- {name} (", demand_of(LEAD))
        self.assertEqual(given_by(LEAD)["crops"], "list")
        self.assertEqual(text_of(self.GOOD, LEAD).splitlines()[2], "sells_seed: yes")

    @given(st.dictionaries(names, st.one_of(st.text(max_size=20), st.integers(), st.booleans(), st.lists(st.text(max_size=5)))))
    def test_an_example_gives_fields_that_it_fits(self, example: dict[str, Any]) -> None:
        example = {name: value for name, value in example.items() if str(value).strip()}
        if not example:
            return
        shape = Shape("fields", tuple(shape_from(json.dumps(example))))
        self.assertEqual(conform(json.dumps(example), shape).keys(), example.keys())

    @given(st.text(max_size=200))
    def test_no_answer_breaks_it(self, text: str) -> None:
        for shape in (LEAD, VERDICT, Shape("list")):
            try:
                self.assertIsInstance(conform(text, shape), dict)
            except AnswerError as error:
                self.assertTrue(str(error))


class Choices(unittest.TestCase):
    def test_a_verdict_is_read_however_it_is_said(self) -> None:
        for text in ('{"choice": "high", "reason": "r"}', "High", "**high**", "high: they sell to gardeners", "“HIGH”\nbecause"):
            with self.subTest(text):
                self.assertEqual(conform(text, VERDICT)["choice"], "high")

    def test_one_that_is_not_offered_is_refused(self) -> None:
        with self.assertRaises(AnswerError) as caught:
            conform('{"choice": "middling", "reason": ""}', VERDICT)
        self.assertIn("none of high, low, not stated", str(caught.exception))


class Lists(unittest.TestCase):
    def test_a_list_is_found_under_whatever_name(self) -> None:
        for text in ('{"items": ["a", "b"]}', '["a", "b"]', '{"topics": ["a", "b"]}'):
            with self.subTest(text):
                self.assertEqual(conform(text, Shape("list")), {"items": ["a", "b"]})

    def test_items_have_fields(self) -> None:
        shape = Shape("list", (ShapeField(name="title"), ShapeField(name="n", type="number")))
        self.assertEqual(conform('[{"title": "a", "n": "3"}]', shape), {"items": [{"title": "a", "n": 3}]})
        with self.assertRaisesRegex(AnswerError, "item 2: “n” is missing"):
            conform('[{"title": "a", "n": 1}, {"title": "b"}]', shape)


class Pasted(unittest.TestCase):
    def test_a_schema_gives_its_fields(self) -> None:
        schema = {
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "type": "object",
            "properties": {
                "full name": {"type": "string", "description": "as signed"},
                "age": {"type": ["integer", "null"]},
                "mood": {"enum": ["glad", "sad"]},
            },
            "required": ["full name"],
        }
        first, age, mood = shape_from(json.dumps(schema))
        self.assertEqual((first.name, first.about, first.required), ("full_name", "as signed", True))
        self.assertEqual((age.type, age.required), ("number", False))
        self.assertEqual(mood.choices, ["glad", "sad"])

    def test_what_is_no_example_is_refused_in_words(self) -> None:
        for text in ("", "hello", "3", "[]", "{}", json.dumps({f"f{i}": 1 for i in range(99)})):
            with self.subTest(text[:20]), self.assertRaises(ShapeError):
                shape_from(text)


if __name__ == "__main__":
    unittest.main()
