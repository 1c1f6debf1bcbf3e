"""The one boundary for values: whatever is thrown at it, what comes out can be kept, and what cannot is said in words."""

from __future__ import annotations

import datetime as dt
import json
import math
import unittest
from enum import Enum
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.short import examples
from ulmus.core import flow
from ulmus.core.values import Bounds, NotPlain, plain, plain_object, read_json, read_kept, text

ANY_TEXT = st.text(st.characters(codec=None), max_size=20)  # half a surrogate pair too
ODD = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(),
    ANY_TEXT,
    st.binary(max_size=4),
    st.dates(),
    st.complex_numbers(),
    st.just(object()),
)
ANYTHING = st.recursive(
    ODD,
    lambda inner: st.one_of(
        st.lists(inner, max_size=4),
        st.tuples(inner, inner),
        st.sets(st.integers(), max_size=3),
        st.dictionaries(st.one_of(ANY_TEXT, st.integers(), st.none()), inner, max_size=4),
    ),
    max_leaves=12,
)


class Tone(Enum):
    WARM = "warm"


class Boundary(unittest.TestCase):
    @given(ANYTHING)
    @examples(400)
    def test_what_passes_can_be_kept_and_comes_back_the_same(self, value: Any) -> None:
        try:
            taken = plain(value)
        except NotPlain as error:
            self.assertGreater(len(str(error).split()), 3, "the reason is told in words")
            return
        json.dumps(taken, ensure_ascii=False, allow_nan=False).encode()
        event = flow.Done(at=1, address="a", output={"value": taken})
        again = flow.read_event(flow.write_event(event))
        self.assertEqual(again, event)
        self.assertEqual(plain(taken), taken, "taking it in once more changes nothing")

    def test_halves_of_pairs_are_joined_or_replaced(self) -> None:
        self.assertEqual(text("\ud83d\ude00"), "😀")
        self.assertEqual(text("a \ud83d b"), "a \ufffd b")
        self.assertEqual(plain({"\udc00": ["\ud800"]}), {"\ufffd": ["\ufffd"]})

    def test_what_has_one_meaning_is_taken(self) -> None:
        self.assertEqual(plain((1, Tone.WARM, dt.date(2026, 3, 1), True)), [1, "warm", "2026-03-01", True])

    def test_what_cannot_be_kept_is_named(self) -> None:
        for value, words in (
            (math.nan, "no number"),
            (math.inf, "no number"),
            ({1: "a"}, "names are text"),
            (object(), "type “object”"),
            (b"x", "type “bytes”"),
            ({1, 2}, "type “set”"),
            (10**400, "300 digits"),
        ):
            with self.subTest(value=str(value)[:20]), self.assertRaisesRegex(NotPlain, words):
                plain(value)

    def test_it_is_bounded_in_depth_width_and_size(self) -> None:
        deep: Any = "x"
        for _ in range(100_000):
            deep = [deep]
        for value, bounds, words in (
            (deep, Bounds(), "nested more than 64"),
            ([0] * 11, Bounds(width=10), "more than 10 members"),
            ([[0] * 5] * 5, Bounds(values=20), "more than 20 values"),
            (["x" * 6] * 2, Bounds(characters=10), "more than 10 characters"),
        ):
            with self.subTest(words), self.assertRaisesRegex(NotPlain, words):
                plain(value, bounds)

    def test_an_object_is_an_object(self) -> None:
        with self.assertRaisesRegex(NotPlain, "a list"):
            plain_object([1])

    def test_json_from_outside(self) -> None:
        self.assertEqual(read_json('{"a": "\\ud83d"}'), {"a": "\ufffd"})
        for wrong in ("{", "NaN", '{"a": Infinity}', "[" * 100_000, "1e999"):
            with self.subTest(wrong[:20]), self.assertRaises(NotPlain):
                read_json(wrong)


class Kept(unittest.TestCase):
    """Journals from before hold what is refused today; they are read all the same."""

    def test_events_of_before_are_read(self) -> None:
        deep = "[" * 300 + "]" * 300
        for odd in ('"a \\ud83d b"', "NaN", "Infinity", deep):
            with self.subTest(odd[:12]):
                event = flow.read_event(f'{{"event":"done","at":1,"address":"a","output":{{"x":{odd}}},"more":1}}')
                flow.write_event(event)

    @given(
        st.recursive(
            st.one_of(st.floats(), ANY_TEXT, st.none()),
            lambda i: st.lists(i, max_size=3) | st.dictionaries(ANY_TEXT, i, max_size=3),
        )
    )
    @examples(200)
    def test_whatever_json_was_kept_comes_out_as_a_value(self, value: Any) -> None:
        plain(read_kept(json.dumps(value)), Bounds(depth=300))

    def test_an_event_that_cannot_be_kept_says_so_before_it_changes_anything(self) -> None:
        with self.assertRaises(NotPlain):
            flow.write_event(flow.Done(at=1, address="a", output={"x": object()}))
        with self.assertRaises(NotPlain):
            flow.write_event(flow.Done(at=1, address="a", output={"x": "\ud83d"}))


if __name__ == "__main__":
    unittest.main()
