"""Filling in twice: what was set aside comes out for each as it would have at once, wherever it stands; and what a value holds is
never more than a value."""

from __future__ import annotations

import unittest
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core import slots
from ulmus.core.slots import SetAside, Unbalanced, later, parse, render, taken_apart

WORD = "u0123abcdefv"
VALUES = {"row": {"city": "Lyd", "n": 3}, "items": [{"t": "a"}, {"t": "b"}]}
READER = {"Name": "Ada", "City": "lyd", "Full name": "Ada L", "N": "4", "Tags": ["x", "y"]}
PARTS = (
    "Dear <<reader.Name>>",
    '<<reader.Name | otherwise "you">>',
    "<<row.city>>",
    "<<if reader.City is row.city>>here<<otherwise>>there <<reader.Name>><<end>>",
    "<<if row.n > 2>>many <<reader.N>><<otherwise>>few<<end>>",
    "<<each items as one>><<one.t>><<reader.Name>><<end>>",
    "<<each reader.Tags as tag>><<tag>>,<<row.n>> <<end>>",
    '<<if reader.N > row.n>>more<<if reader.Name is "Ada">>!<<end>><<end>>',
    "plain << and >> text",
)


def twice(text: str, reader: dict[str, Any], page: bool = False) -> str:
    aside = SetAside(WORD, "reader")
    return taken_apart(aside.first(text, VALUES), WORD, aside.marks, aside.given, page).filled({"reader": reader})


class Twice(unittest.TestCase):
    @given(st.lists(st.sampled_from(PARTS), max_size=6), st.booleans())
    def test_it_comes_out_as_if_it_had_been_filled_in_at_once(self, parts: list[str], known: bool) -> None:
        text, reader = " · ".join(parts), READER if known else {}
        self.assertEqual(twice(text, reader), render(parse(text), {**VALUES, "reader": reader}).text)

    @given(st.text(max_size=40))
    def test_a_value_is_never_more_than_a_value(self, value: str) -> None:
        self.assertEqual(twice("<<reader.Name>>", {"Name": value}), value)
        page = twice("<p>x<<reader.Name>>y</p>", {"Name": value}, page=True)
        self.assertNotIn("<", page[4:-5])

    def test_names_of_columns_with_spaces(self) -> None:
        self.assertEqual(twice('<<reader."Full name">>', READER), "Ada L")

    def test_within_an_address_and_as_one(self) -> None:
        text = '<a href="https://a.example/?w=<<reader.W>>&amp;x=1">a</a> <a href="<<reader.L>>">b</a>'
        good = twice(text, {"W": 'a "b"&c', "L": "https://b.example/?x=1&y=2"}, page=True)
        self.assertIn('href="https://a.example/?w=a%20%22b%22%26c&amp;x=1"', good)
        self.assertIn('href="https://b.example/?x=1&amp;y=2"', good)
        for bad in ("javascript:alert(1)", " JavaScript:x", "data:text/html,x", "", "//evil.example"):
            self.assertIn('href="#">b', twice(text, {"L": bad}, page=True), bad)
        self.assertEqual(twice("https://a.example/?w=<<reader.W>>", {"W": "a b"}), "https://a.example/?w=a%20b")

    def test_what_is_left_out_leaves_a_page_that_is_one(self) -> None:
        text = '<p><<if reader.City is "x">></p><p>Gone</p><p><<end>></p><p>Stays</p>'
        self.assertEqual(twice(text, READER, page=True), "<p>Stays</p>")
        self.assertIn("<p>Gone</p>", twice(text, {"City": "x"}, page=True))
        for broken in ("<p>a<<if reader.N>>b</p><ul><li>c<<end>></li></ul>", "<b><<if reader.N is 1>></b><i><<end>></i>"):
            with self.assertRaises(Unbalanced):
                twice(broken.replace("<<if reader.N>>", "<<if reader.N is 1>>"), READER, page=True)

    def test_lists_within_lists_have_an_end(self) -> None:
        many = {"items": list(range(100_000))}
        text = "<<each items as a>><<each items as b>><<each items as c>><<end>><<end>><<end>>"
        with mock.patch.object(later, "LONGEST_OUTPUT", 1000):
            self.assertEqual(
                SetAside(WORD, "reader").first("<<each items as a>><<each items as b>>x<<end>><<end>>", many), "x" * 500
            )
        self.assertEqual(SetAside(WORD, "reader").first(text.replace("<<each items as c>><<end>>", ""), {"items": [1, 2]}), "")

    def test_words_like_ours_that_are_none_stay(self) -> None:
        text = f"{WORD}7z and {WORD} and <<reader.Name>>"
        self.assertEqual(twice(text, READER), f"{WORD}7z and {WORD} and Ada")
        self.assertEqual(slots.taken_apart("x", WORD, [], []).filled({}), "x")
