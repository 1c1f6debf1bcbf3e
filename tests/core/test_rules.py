"""Rules on a corpus of good and bad drafts with known answers."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter

from tests.short import examples
from ulmus.core.drafting.demands import contradictions, demand
from ulmus.core.drafting.ease import reading_ease
from ulmus.core.drafting.measuring import Known, measure
from ulmus.core.drafting.rules import Rule
from ulmus.core.text import faults
from ulmus.protocols.languages import language_of

READ: TypeAdapter[Any] = TypeAdapter(Rule)
PLAIN = "The gates are new. They are made of oak. Two hundred people came to see them close. It was a fine day on the cut."
HARD = (
    "Notwithstanding considerable infrastructural complications, representatives of municipal administrations unanimously "
    "characterised the comprehensive refurbishment as extraordinarily satisfactory and internationally significant."
)
GERMAN = "Die neuen Tore sind aus grünem Eichenholz und schließen sich von selbst, sobald das Wasser steigt."

# (rule, draft, kept, a part of what is said)
CORPUS: list[tuple[dict[str, Any], str, bool, str]] = [
    ({"rule": "words", "most": 5}, "One two three four five", True, "5 words"),
    ({"rule": "words", "most": 5}, "One two three four five six", False, "6 words, at most 5"),
    ({"rule": "words", "least": 3}, "Well-kept seed", False, "2 words"),
    ({"rule": "sentences", "most": 2}, "It rained. It poured!", True, "2 sentences"),
    ({"rule": "sentences", "most": 2}, "It rained. It poured! Why?", False, "3 sentences"),
    ({"rule": "sentences", "most": 1}, "It costs 2.50 at most.", True, "1 sentence"),
    ({"rule": "spoken", "most": 10, "pace": 60}, "One two three four five six seven eight nine ten", True, "10 of 10"),
    ({"rule": "spoken", "most": 9, "pace": 60}, "One two three four five six seven eight nine ten", False, "10 of 9"),
    ({"rule": "links", "least": 1, "most": 1}, "See https://a.example/x.", True, "1 link"),
    ({"rule": "links", "most": 0}, "See https://a.example/x and http://b.example", False, "2 links"),
    ({"rule": "mentions", "most": 1}, "Thanks @nell and @bram, write to a@b.example", False, "2 mentions"),
    ({"rule": "mentions", "most": 1}, "Write to nell@b.example", True, "0 mentions"),
    ({"rule": "emoji", "most": 1}, "Seed 🌱", True, "1 emoji"),
    ({"rule": "emoji", "most": 1}, "Seed 🌱🌱", False, "2 emoji"),
    ({"rule": "says", "words": ["bean", "pea"]}, "A Pea a day", True, "says “pea”"),
    ({"rule": "says", "words": ["bean"]}, "Beanpoles only", False, "none of the words"),
    ({"rule": "easy", "least": 60}, PLAIN, True, "reading ease"),
    ({"rule": "easy", "least": 30}, HARD, False, "wants 30"),
    ({"rule": "easy", "least": 60}, "Too short.", True, "not measured"),
    ({"rule": "language", "code": "en"}, PLAIN, True, "English"),
    ({"rule": "language", "code": "en"}, GERMAN, False, "in German"),
    ({"rule": "language", "code": "de"}, "Ha!", True, "too short"),
    ({"rule": "html"}, "<p>New <strong>gates</strong><br>of oak</p>", True, "well formed"),
    ({"rule": "html"}, "<p>New <strong>gates</p>", False, "not closed before"),
    ({"rule": "html"}, "<p>x</p><script>alert(1)</script>", False, "<script> is not allowed"),
    ({"rule": "html"}, "Plain text", False, "no HTML"),
    ({"rule": "html"}, '<p><a href="javascript:x()">x</a></p>', False, "leads to “javascript:x()”"),
]


class Corpus(unittest.TestCase):
    def test_every_answer_is_known(self) -> None:
        for rule, draft, kept, says in CORPUS:
            with self.subTest(rule=rule, draft=draft[:40]):
                (found,) = measure(draft, [READ.validate_python(rule)], Known(language_of=language_of))
                self.assertEqual(found.kept, kept, found)
                self.assertIn(says, found.says)
                self.assertEqual(bool(found.reason), not kept)

    def test_each_rule_is_told_to_the_model(self) -> None:
        for rule, *_ in CORPUS:
            self.assertRegex(demand(READ.validate_python(rule)), r"^(Write|Use|Say).+\.$")

    def test_rules_that_cannot_all_be_kept_are_named(self) -> None:
        for pair, words in (
            (({"rule": "words", "least": 9}, {"rule": "words", "most": 5}), "numbers of words"),
            (({"rule": "no_emoji"}, {"rule": "emoji", "least": 1}), "asked for and forbidden"),
            (({"rule": "language", "code": "en"}, {"rule": "language", "code": "de"}), "two languages"),
        ):
            with self.subTest(words):
                self.assertIn(words, " ".join(contradictions([READ.validate_python(r) for r in pair])))
        self.assertEqual(contradictions([READ.validate_python(r) for r, *_ in CORPUS[:2]]), [])

    def test_reading_ease_of_plain_and_hard_texts(self) -> None:
        plain, hard = reading_ease(PLAIN), reading_ease(HARD)
        assert plain is not None
        assert hard is not None
        self.assertGreater(plain, 80)
        self.assertLess(hard, 10)

    @given(st.text(max_size=200))
    @examples(60)
    def test_no_draft_breaks_a_rule_that_measures_it(self, draft: str) -> None:
        for rule in {str(r): r for r, *_ in CORPUS}.values():
            if rule["rule"] != "language":
                self.assertEqual(len(measure(draft, [READ.validate_python(rule)], Known(language_of=language_of))), 1)
        self.assertIsInstance(faults(draft, ["p"]), list)


if __name__ == "__main__":
    unittest.main()
