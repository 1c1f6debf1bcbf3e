"""Rules about a part, rules whose numbers and words come from values, echoes, what no source says, and pieces in the same order."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

from ulmus.core.drafting import Known, measure
from ulmus.core.drafting.demands import contradictions, demand
from ulmus.core.drafting.echoes import echoes
from ulmus.core.drafting.filling import language_code, settled, texts_in, with_texts
from ulmus.core.drafting.repeats import Published
from ulmus.core.drafting.rules import Rule

RULE: TypeAdapter[Any] = TypeAdapter(Rule)


def rule(**settings: Any) -> Any:
    return RULE.validate_python(settings)


class OfAPart(unittest.TestCase):
    def says(self, text: str, values: dict[str, Any] | None = None, **settings: Any) -> tuple[bool, str, str]:
        (found,) = measure(text, [rule(**settings)], Known(values=values))
        return found.kept, found.says, found.reason

    def test_a_field_is_measured_by_itself(self) -> None:
        values = {"subject": "Beans that keep all winter long", "body": "x" * 900}
        kept, says, reason = self.says("Subject and body", values, rule="length", most=20, of="subject")
        self.assertEqual((kept, says), (False, "subject: 31 of 20 characters"))
        self.assertTrue(reason.startswith("In subject: It has 31 characters"))
        self.assertTrue(self.says("Subject and body", values, rule="length", most=1000, of="body")[0])

    def test_in_a_list_the_first_item_that_breaks_it_is_told(self) -> None:
        items = [{"title": "Two words"}, {"title": "This one has far too many words"}, {"title": "Again far too many of them"}]
        kept, says, _ = self.says("…", {"items": items}, rule="words", most=4, of="title")
        self.assertEqual((kept, says), (False, "title of item 2: 7 words, at most 4"))
        kept, says, _ = self.says("…", {"items": ["one two", "three"]}, rule="words", most=1, of="item")
        self.assertEqual((kept, says), (False, "item 1: 2 words, at most 1"))

    def test_parts_of_a_text(self) -> None:
        text = "We saved Dr. Moss's bean. It took years.\n\nCome on Saturday.\n\n#seed\nhttps://a.example/"
        for of, words, kept in (
            ("first_sentence", 5, True),
            ("first_sentence", 4, False),
            ("first_paragraph", 8, True),
            ("last_line", 0, True),
        ):
            with self.subTest(of=of, words=words):
                found = self.says(text, rule="sentences" if not words else "words", most=words or 1, of=of)
                self.assertIs(found[0], kept, found)
        self.assertTrue(self.says(text, rule="links", least=1, most=1, of="last_line")[0])
        self.assertFalse(self.says(text, rule="links", least=1, most=1, of="first_line")[0])

    def test_a_field_named_as_a_part_is_the_field(self) -> None:
        self.assertFalse(self.says("short\nlines", {"first_line": "a b c d e f"}, rule="words", most=3, of="first_line")[0])

    def test_what_is_not_there_is_not_measured_and_says_so(self) -> None:
        self.assertEqual(
            self.says("text", {"body": "x"}, rule="words", most=1, of="subject")[:2], (True, "subject: not measured here")
        )

    def test_the_model_hears_what_it_is_about(self) -> None:
        self.assertEqual(demand(rule(rule="words", most=8, of="subject")), "For “subject”: Write at most 8 words.")
        self.assertIn("the first sentence", demand(rule(rule="words", most=8, of="first_sentence")))

    def test_contradictions_are_of_one_part(self) -> None:
        rules = [rule(rule="words", most=8, of="subject"), rule(rule="words", least=100)]
        self.assertEqual(contradictions(rules), [])
        self.assertIn("“subject”", contradictions([*rules, rule(rule="words", least=9, of="subject")])[0])


class FromValues(unittest.TestCase):
    def filled(self, given: dict[str, Any], **values: str) -> Any:
        def change(text: str) -> str:
            for name, value in values.items():
                text = text.replace(f"<<{name}>>", value)
            return text

        return with_texts(rule(**given), change)

    def test_a_number_as_people_write_it(self) -> None:
        given = {"rule": "words", "slots": {"most": "<<form.words>>"}}
        for said, most in (("120", 120), ("about 1,200 words", 1200), ("1.200", 1200), ("80.0", 80), ("1 500", 1500)):
            with self.subTest(said=said):
                self.assertEqual(self.filled(given, **{"form.words": said.replace(" 5", "\u202f5")}).most, most)

    def test_a_number_that_is_none_is_told_and_no_draft_is_paid_for(self) -> None:
        for said in ("", "short", "??"):
            (words,) = contradictions([self.filled({"rule": "words", "slots": {"most": "<<n>>"}}, n=said)])
            self.assertIn("should come from a value", words)

    def test_while_it_is_a_slot_nothing_is_wrong_with_it(self) -> None:
        self.assertEqual(contradictions([rule(rule="length", slots={"most": "<<n>>"}), rule(rule="language", code="<<l>>")]), [])

    def test_only_its_own_numbers(self) -> None:
        with self.assertRaises(ValidationError):
            rule(rule="no_emoji", slots={"most": "<<n>>"})
        with self.assertRaises(ValidationError):
            rule(rule="words", slots={"pace": "<<n>>"})

    def test_words_of_a_row(self) -> None:
        lacks = self.filled({"rule": "lacks", "words": ["<<row.never>>", "boost"]}, **{"row.never": "cheap, best ever;\nsale"})
        self.assertEqual(lacks.words, ["cheap", "best ever", "sale", "boost"])
        self.assertFalse(measure("Our best ever bean.", [lacks])[0].kept)
        nothing = self.filled({"rule": "lacks", "words": ["<<row.never>>"]}, **{"row.never": ""})
        self.assertTrue(measure("Our best ever bean.", [nothing])[0].kept)

    def test_the_language_of_the_lead(self) -> None:
        for said, code in (("German", "de"), ("Deutsch", "de"), ("pt-BR", "pt"), (" FR ", "fr"), ("Español", "es")):
            self.assertEqual(self.filled({"rule": "language", "code": "<<lead.language>>"}, **{"lead.language": said}).code, code)
        told = contradictions([self.filled({"rule": "language", "code": "<<l>>"}, l="the usual one")])
        self.assertIn("“the usual one”", told[0])
        self.assertEqual(language_code("Klingon"), "")
        self.assertTrue(contradictions([rule(rule="language", code="<<")]))

    @given(st.text(max_size=40))
    def test_any_value_gives_a_rule_that_can_be_measured(self, value: str) -> None:
        for document in (
            {"rule": "words", "slots": {"most": "<<v>>"}},
            {"rule": "says", "words": ["<<v>>"]},
            {"rule": "language", "code": "<<v>>"},
            {"rule": "contains", "text": "<<v>>", "of": "first_line"},
        ):
            made = with_texts(rule(**document), lambda _: value)
            contradictions([made])
            self.assertEqual(len(measure("Beans are up.\nCome by.", [made])), 1)
            self.assertEqual(settled(made), made)

    def test_a_document_of_a_rule_keeps_its_form(self) -> None:
        document = {"rule": "words", "most": 3, "slots": {"least": "<<a.b>>"}, "strength": "should"}
        self.assertEqual([place for place, _ in texts_in(document)], [("slots", "least")])
        self.assertEqual(with_texts(document, lambda text: text.replace("a.", "c."))["slots"], {"least": "<<c.b>>"})


class Echoing(unittest.TestCase):
    PROMPT = (
        "You write for a seed house. Write a post about this story in a calm voice, at most three sentences.\n"
        "<<page.text>>\nEnd with exactly this: Order at the counter or by post.\n"
        "Say that we are open, and use the words “the seeds of last year are still the best ones”."
    )

    def test_a_sentence_of_the_instruction_is_found_however_it_is_written(self) -> None:
        for draft in (
            "Write a post about this story in a calm voice, at most three sentences. The bean is back.",
            "Post: *write a post about this story in a calm voice – at most three sentences*",
        ):
            self.assertTrue(echoes(draft, self.PROMPT))
            self.assertTrue(echoes(draft, self.PROMPT, whole=True))
            (found,) = measure(draft, [rule(rule="no_echo")], Known(instruction=self.PROMPT))
            self.assertFalse(found.kept)

    def test_a_stretch_of_it_is_found_by_the_stricter_rule_alone(self) -> None:
        draft = "Here comes a post about this story in a calm voice, at most three, about beans."
        self.assertTrue(echoes(draft, self.PROMPT))
        self.assertEqual(echoes(draft, self.PROMPT, whole=True), [])

    def test_what_is_asked_to_be_said_is_no_echo(self) -> None:
        for draft in (
            "The bean is back. Order at the counter or by post.",
            "We are open. The seeds of last year are still the best ones.",
            "A calm post about beans, in three sentences.",
        ):
            self.assertEqual(echoes(draft, self.PROMPT), [], draft)

    def test_material_in_the_prompt_is_none(self) -> None:
        prompt = "Write about this. Beans were sown in four beds by the water on the first warm day."
        self.assertEqual(echoes("Beans were sown in four beds by the water on the first warm day.", prompt), [])

    def test_in_other_languages(self) -> None:
        for prompt in (
            "Schreibe einen ruhigen Beitrag über diese Meldung. <<page.text>>",
            "Rédige un billet calme sur cette nouvelle. <<page.text>>",
            "Escribe una entrada tranquila sobre esta noticia. <<page.text>>",
            "Scrivi un testo tranquillo su questa notizia. <<page.text>>",
            "Escreva um texto calmo sobre esta notícia. <<page.text>>",
            "Schrijf een rustig bericht over dit nieuws. <<page.text>>",
        ):
            self.assertTrue(echoes(prompt.partition(" <<")[0] + " Und dann.", prompt, whole=True), prompt)

    def test_it_is_more_than_the_piece(self) -> None:
        draft = "Write a post about this story in a calm voice, at most three sentences.\n\nThe bean is back."
        (found,) = measure(draft, [rule(rule="only_the_piece")], Known(instruction=self.PROMPT))
        self.assertFalse(found.kept)


class NotStated(unittest.TestCase):
    SOURCES = {"page": "The yard at Tillerby has nineteen people. It restores narrowboats and barges. Ife runs it since 2014."}

    def kept(self, text: str, values: dict[str, Any] | None = None, of: str = "") -> bool:
        (found,) = measure(text, [rule(rule="not_stated", of=of)], Known(values=values, sources=self.SOURCES))
        return found.kept

    def test_what_the_sources_say_may_be_said_and_what_they_do_not_may_not(self) -> None:
        self.assertTrue(self.kept("The yard at Tillerby restores narrowboats. It has nineteen people."))
        self.assertFalse(self.kept("The yard at Tillerby restores narrowboats. It turned over 4.2 million in 2023."))

    def test_not_stated_is_what_is_wanted(self) -> None:
        for honest in ("not stated", "Turnover: not stated", "Not stated.", "Their turnover is not stated on the site."):
            self.assertTrue(self.kept(honest), honest)

    def test_of_a_field(self) -> None:
        values = {"people": "19", "turnover": "€ 4.2 million"}
        self.assertFalse(self.kept("…", values, "turnover"))
        self.assertTrue(self.kept("…", {"turnover": ""}, "turnover"))

    def test_without_sources_it_is_not_measured(self) -> None:
        (found,) = measure("It turned over 4.2 million.", [rule(rule="not_stated")])
        self.assertEqual((found.kept, found.says), (True, "not compared with the sources"))


class InOrder(unittest.TestCase):
    WENT = (
        "This week we sow the broad beans in the long bed by the wall. Two fingers deep, a hand apart. Then we wait for rain.",
        "A boat for four from Tillerby to the locks and back takes one slow day. Bring bread, cheese and a coat.",
    )

    def test_a_piece_with_words_put_in_place_of_others_is_like_it(self) -> None:
        draft = "This month we plant the runner peas in the short bed by the gate. Three fingers deep, a foot apart. Then we hope for sun."
        near = Published(self.WENT).nearest(draft)
        assert near is not None
        self.assertEqual(near.place, 0)
        self.assertGreater(near.alike, 0.6)

    def test_another_piece_of_the_same_house_is_not(self) -> None:
        draft = "The seed of the year is a lettuce nobody had listed since the war. We found it in a drawer, and it came up."
        near = Published(self.WENT).nearest(draft)
        assert near is not None
        self.assertLess(near.alike, 0.5)

    def test_the_same_piece_is_wholly_like_itself(self) -> None:
        near = Published(self.WENT).nearest(self.WENT[1])
        assert near is not None
        self.assertEqual((near.place, round(near.alike, 3)), (1, 1.0))
