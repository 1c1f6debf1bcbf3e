"""Typed columns: what is wrong with a cell, how it is put where it can only be meant one way, and what a column seems to be."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.columns import TYPES, guess, moment, number, put, wrong


class Values(unittest.TestCase):
    def test_numbers_as_people_write_them(self) -> None:
        for text, value in (
            ("12", 12),
            ("-3.5", -3.5),
            ("1,204", 1204),
            ("1.204,50", 1204.5),
            ("1,204.50", 1204.5),
            ("0,5", 0.5),
            ("1 204 000", 1204000),
            ("€ 12.50", 12.5),
            ("15 %", 15),
            ("1.204.000", 1204000),
        ):
            with self.subTest(text):
                self.assertEqual(number(text), value)
        for text in ("", "about 12", "12-13", "1e5", "twelve", "12 beans", "٣ x"):
            with self.subTest(text):
                self.assertIsNone(number(text))

    def test_dates_in_other_orders_and_languages_but_not_those_that_could_be_two(self) -> None:
        for text, iso in (
            ("2026-11-28", "2026-11-28"),
            ("2026-11-28T17:05", "2026-11-28 17:05"),
            ("28.11.2026", "2026-11-28"),
            ("1. 2. 2026 8:30", "2026-02-01 08:30"),
            ("28 November 2026", "2026-11-28"),
            ("3. März 2026", "2026-03-03"),
            ("1 août 2026", "2026-08-01"),
        ):
            with self.subTest(text):
                self.assertEqual(moment(text), iso)
        for text in ("11/12/2026", "31.02.2026", "next week", "2026-13-01", "12", "28 Beans 2026"):
            with self.subTest(text):
                self.assertIsNone(moment(text))


class Cells(unittest.TestCase):
    def test_what_is_wrong_is_said_and_empty_is_never_wrong(self) -> None:
        for kind, text in (
            ("number", "many"),
            ("date", "soon"),
            ("yes_no", "perhaps"),
            ("choice", "blue"),
            ("choices", "red, blue"),
            ("link", "seed.example"),
            ("mail", "ada at example"),
        ):
            with self.subTest(kind):
                self.assertTrue(wrong(kind, text, ["red", "green"]))
                self.assertEqual(put(kind, text, ["red", "green"]), text, "and nothing is lost")
        for kind in TYPES:
            self.assertEqual(wrong(kind, " ", ["red"]), "")

    def test_what_can_only_be_meant_one_way_is_put_so(self) -> None:
        self.assertEqual(put("date", "28.11.2026"), "2026-11-28")
        self.assertEqual([put("yes_no", text) for text in ("Ja", "x", "NO", "nein")], ["yes", "yes", "no", "no"])
        self.assertEqual(put("choice", " RED ", ["Red", "Green"]), "Red")
        self.assertEqual(put("choices", "green; red", ["Red", "Green"]), "Green, Red")
        self.assertEqual(put("link", "www.seed.example/sow"), "https://www.seed.example/sow")
        self.assertEqual(put("text", " as it is "), " as it is ")

    @given(st.sampled_from(TYPES), st.text(max_size=60), st.lists(st.text(min_size=1, max_size=8), max_size=3))
    def test_whatever_is_written_is_taken_and_put_once_for_all(self, kind: str, text: str, choices: list[str]) -> None:
        kept = put(kind, text, choices)
        self.assertEqual(put(kind, kept, choices), kept)
        self.assertEqual(bool(kept.strip()), bool(text.strip()))
        self.assertIsInstance(wrong(kind, kept, choices), str)


class Guessed(unittest.TestCase):
    def test_from_what_stands_in_a_column(self) -> None:
        for texts, kind in (
            (["12", "1,204", ""], "number"),
            (["0170 123", "0049 12"], "text"),
            (["01067", "04109"], "text"),
            (["2026-01-01", "28.11.2026"], "date"),
            (["https://a.example", "http://b.example/x"], "link"),
            (["ada@a.example", "Bea <bea@b.example>"], "mail"),
            (["yes", "no", "Yes"], "yes_no"),
            (["red", "green", "red", "red", "green", "red"], "choice"),
            (["a line\nand another"], "long"),
            (["Ada", "Bea", "Cy"], "text"),
            ([], "text"),
        ):
            with self.subTest(texts):
                self.assertEqual(guess(texts)[0], kind)
        self.assertEqual(guess(["red", "green"] * 3)[1], ["red", "green"])
