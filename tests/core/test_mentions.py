"""Where values speak of a person, and what stands there afterwards."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.mentions import MARK, Mentions

ADA = Mentions(("ada.fenn@mill.example", "Ada Fenn"))
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=20) | st.sampled_from(["Ada Fenn", "x ada.fenn@mill.example,"]),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=4),
    max_leaves=12,
)


class Spoken(unittest.TestCase):
    def said(self, value: Any) -> bool:
        return any(ADA.within(value))

    def test_an_address_stands_for_itself_alone(self) -> None:
        for text in (
            "ADA.FENN@mill.example",
            "<ada.fenn@mill.example>",
            "mailto:ada.fenn@mill.example?x",
            "by ada.fenn@mill.example.",
            "who=ada.fenn%40mill.example",
        ):
            self.assertTrue(self.said(text), text)
        for text in ("bada.fenn@mill.example", "ada.fenn@mill.example.org", "ada-fenn@mill.example", "+ada.fenn@mill.example"):
            self.assertFalse(self.said(text), text)

    def test_a_name_is_whole_words_however_they_are_written(self) -> None:
        for text in ("Dear ada  fenn,", "“Ada\nFenn”", "Ada Fenn’s"):
            self.assertTrue(self.said(text), text)
        for text in ("Adaa Fenn", "Ada Fennel", "Ada and Fenn"):
            self.assertFalse(self.said(text), text)
        # One and the same letter, composed or not.
        self.assertTrue(any(Mentions(("Zoe\u0301 Marsh",)).within("Zo\u00e9 Marsh")))

    def test_marks_of_html_hide_nobody(self) -> None:
        for text in ("Ada <b>Fenn</b>", "<i>Ada</i>&nbsp;Fenn", "Ada<br />Fenn", "by ada.fenn&#64;mill.example", "ADA&#xA0;FENN"):
            self.assertTrue(self.said(text), text)
            self.assertTrue(ADA.may_be_in(text), text)
            self.assertFalse(self.said(ADA.marked(text)))
        self.assertEqual(ADA.marked("<p>Ada <b>Fenn</b> came</p>"), f"<p>{MARK}</b> came</p>")
        self.assertFalse(self.said("Ada < 3 > Fenn"))
        renee = Mentions(("Renée O'Hare",))
        for text in ("Renée O’Hare", "Ren&eacute;e O&#39;Hare", "Ren&#xE9;e O&rsquo;Hare", "REN&#233;E <em>O'HARE</em>"):
            self.assertTrue(any(renee.within(text)) and renee.may_be_in(text), text)
        self.assertTrue(Mentions(("Жанна",)).may_be_in("&#1046;&#1072;&#1085;&#1085;&#1072;"))
        self.assertTrue(any(Mentions(("Жанна",)).within("&#1046;&#1072;&#1085;&#1085;&#1072;")))

    def test_numbers_names_of_fields_and_depth(self) -> None:
        phone = Mentions(("5550143",))
        self.assertEqual(phone.marked({"a": [{"phone": 5550143}], "n": 55501430}), {"a": [{"phone": MARK}], "n": 55501430})
        self.assertEqual(ADA.marked({"ada.fenn@mill.example": "yes", "Ada Fenn": "no"}), {MARK: "yes", f"{MARK} 1": "no"})

    def test_what_is_too_little_to_look_for_is_said(self) -> None:
        for terms in ((), ("  ",), ("Al",), ("@.",), tuple(f"name {n}" for n in range(13))):
            with self.assertRaises(ValueError):
                Mentions(terms)

    @given(VALUES)
    def test_nothing_is_left_and_the_rest_stays_as_it_was(self, value: Any) -> None:
        marked = ADA.marked(value)
        self.assertFalse(self.said(marked))
        self.assertEqual(ADA.marked(marked), marked)
        if not self.said(value):
            self.assertEqual(marked, value)
        elif any(ADA.within(value)):
            # What is passed over without a look never speaks of anybody.
            self.assertTrue(ADA.may_be_in(json.dumps(value, ensure_ascii=False)))
