"""Evidence and voice: labelled examples with known answers, and what must hold for any text."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from hypothesis import example, given, settings
from hypothesis import strategies as st

from practice_town.world import articles
from tests.short import examples
from ulmus.core.drafting.typical import typical_of
from ulmus.core.drafting.voice import differences, style_of, verdict
from ulmus.core.evidence import evidence
from ulmus.core.evidence.claims import facts_of
from ulmus.core.evidence.figures import figures
from ulmus.core.languages import ENGLISH, language

GATES = next(a for a in articles("cutside-courier") if a.title.startswith("Lock seven"))
COMPOST = next(a for a in articles("furrow-letter") if a.title.startswith("Peat-free"))
SOURCES = {"gates": "\n".join(GATES.paragraphs), "compost": "\n".join(COMPOST.paragraphs)}

# Sentences with what they are: whether the sources support them, and what in them stands nowhere.
LABELLED: list[tuple[str, bool, list[str]]] = [
    ("The Hazel Ann was the first boat through lock seven in 124 days.", True, []),
    ("The new gates are of green oak and weigh 2.8 tonnes each.", True, []),
    ("They were made at the yard at Quillet Wharf by four people.", True, []),
    ("The foreman is called Isolde Brack.", True, []),
    ("Emptied of water, the lock gave up 61 windlasses, 14 bicycles and a tuba.", True, []),
    ("The work cost 212000, two thirds of it from the navigation's own funds.", True, []),
    ("“The water finishes them,” says Isolde Brack.", True, []),
    ("The old gates were hung in 1989 and leaked badly.", True, []),
    ("Seedlings in compost without peat did better when they were watered from below.", True, []),
    ("With water from below, 88 per cent of the seed came up.", True, []),
    ("In February the members sowed 2,700 seeds of tomato, lettuce and leek.", True, []),
    ("The gates weigh 3.4 tonnes each.", False, ["3.4"]),
    ("The lock reopened on 4 May 2027 after a winter of work on new gates.", False, ["4 May 2027"]),
    ("Mayor Otto Finch cut the ribbon at the lock.", False, ["Otto Finch"]),
    ("The oak was brought from the mountains of the far north by railway.", False, []),
    ("“We shall never use oak again,” says the foreman.", False, ["We shall never use oak again,"]),
    ("Peat is better than every other compost in all the tests there are.", False, []),
    ("Read more at https://nowhere.example/gates and tell your friends.", False, ["https://nowhere.example/gates"]),
    ("Gardeners should stop watering altogether and trust the moon.", False, []),
    ("More than 40,000 people came to see the lock reopen.", False, ["40,000"]),
]


class Labelled(unittest.TestCase):
    def test_right_missed_and_false_alarms(self) -> None:
        """At most one sentence in twenty may be missed, and at most one may be a false alarm; where code is blind, it says so."""
        missed, alarms = [], []
        for text, supported, absent in LABELLED:
            (found,) = evidence(text, SOURCES).sentences
            bad = found.flagged
            if supported and bad:
                alarms.append((text, found.level, found.score, [c.text for c in found.missing]))
            elif not supported and not bad and not found.unsure:
                missed.append((text, found.level, found.score, found.passage))
            for claim in absent:
                self.assertTrue(any(claim in c.text or c.text in claim for c in found.missing), (text, claim, found.missing))
        self.assertLessEqual(len(missed), 1, missed)
        self.assertLessEqual(len(alarms), 1, alarms)

    def test_the_passage_and_its_source_are_named(self) -> None:
        (found,) = evidence("The new gates of green oak weigh 2.8 tonnes each.", SOURCES).sentences
        self.assertEqual((found.level, found.source), ("supported", "gates"))
        self.assertIn("2.8 tonnes", found.passage)

    def test_places_are_those_of_the_draft(self) -> None:
        draft = "The gates weigh 3.4 tonnes.  They close by themselves.\n\nhttps://nowhere.example/x #lock"
        for one in evidence(draft, SOURCES).sentences:
            self.assertEqual(draft[one.start : one.end].strip(), one.text)
            for claim in one.missing:
                self.assertIn(claim.text, draft[claim.start : claim.end])

    def test_kinds_of_claims(self) -> None:
        text = "On 3 March 2026 Nell Farraday paid 1,140 for “a week at walking pace”, see https://a.example/x."
        found = facts_of(text, ENGLISH)
        self.assertEqual([d.text for d in found.dates], ["3 March 2026"])
        self.assertEqual([name for name, *_ in found.names], ["Nell Farraday"])
        self.assertEqual([f.value for f in found.figures], [1140])
        self.assertEqual([quote for quote, *_ in found.quotations], ["a week at walking pace"])
        self.assertEqual([link for link, *_ in found.links], ["https://a.example/x"])

    def test_figures_in_one_form(self) -> None:
        for code, text, value, kind in (
            ("en", "4.2 kg", 4200, "mass"),
            ("en", "9 pounds", 4082.3, "mass"),
            ("en", "14 degrees Fahrenheit", -10, "heat"),
            ("en", "minus 10 degrees", -10, "heat"),
            ("en", "two thirds", 66.7, "share"),
            ("en", "six in ten", 60, "share"),
            ("en", "five hundred and forty jars", 540, "plain"),
            ("en", "2.3 million pounds", 2.3e6 * 453.59237, "mass"),
            ("de", "1,2 Millionen Euro", 1.2e6, "money"),
            ("de", "180.000 Euro", 180_000, "money"),
            ("de", "zweihundertfünfzig Gärten", 250, "plain"),
            ("fr", "8 000 euros", 8000, "money"),
            ("fr", "quatre-vingt-dix ans", 90 * 365.25, "time"),
            ("es", "62 por ciento", 62, "share"),
            ("en", "in 1931", 1931, "year"),
        ):
            with self.subTest(text=text):
                (found,) = figures(text, language(code))
                self.assertAlmostEqual(found.value, value, delta=abs(value) / 1000)
                self.assertEqual(found.kind, kind)

    def test_what_is_against_a_sentence_is_told_in_words(self) -> None:
        source = {
            "news": "The store holds 412 varieties. Director Harun Velt said the rent is 380 euros a month. The council refused a grant. "
            "Members rose from 610 to 745.",
            "other": "Tarn Foods was founded by Omar Diallo.",
        }
        for text, level, words in (
            ("The store holds 421 varieties.", "contradicts a source", "the source says 412, not 421"),
            (
                "Director Omar Diallo said the rent is 380 euros a month.",
                "contradicts a source",
                "Velt said this, not Director Omar Diallo",
            ),
            ("The council accepted a grant.", "contradicts a source", "“refused”, not “accepted”"),
            ("The council did not refuse a grant.", "contradicts a source", "does not deny"),
            ("See https://nowhere.example/x for the store.", "doubtful", "the link stands in no source"),
        ):
            with self.subTest(text=text):
                (found,) = evidence(text, source).sentences
                self.assertEqual(found.level, level, found)
                self.assertIn(words, " ".join(found.reasons))

    def test_sums_are_shown(self) -> None:
        (found,) = evidence("It has 135 members more.", {"s": "It had 610 members, and now it has 745 members."}).sentences
        self.assertFalse(found.flagged, found)
        self.assertEqual(found.sums, ("745 − 610 = 135",))

    def test_greetings_calls_and_questions_need_none(self) -> None:
        for text in (
            "Good morning, dear gardeners!",
            "Come and see us on the wharf.",
            "Have you seen it yet?",
            "Wir freuen uns auf Sie!",
            "Venez nous voir !",
        ):
            with self.subTest(text=text):
                self.assertEqual([s.level for s in evidence(text, SOURCES).sentences], ["needs none"])

    def test_html_is_read(self) -> None:
        found = evidence("<p>The gates weigh <b>3.4</b> tonnes each.</p><p>Come by!</p>", SOURCES).sentences
        self.assertEqual([s.text for s in found], ["The gates weigh 3.4 tonnes each.", "Come by!"])
        self.assertEqual([s.flagged for s in found], [True, False])

    def test_figures_however_they_are_written(self) -> None:
        source = {"s": "It cost 1,200 in all. Twelve people came on 2026-03-04. The rate is 12.50."}
        for text in (
            "It cost 1200 in all, they say.",
            "12 people came that day.",
            "They came on 4 March that year.",
            "The rate is 12.5 now.",
        ):
            with self.subTest(text):
                self.assertFalse(evidence(text, source).sentences[0].missing)
                other = text.replace("12", "17").replace("4 March", "9 March")
                self.assertTrue(evidence(other, source).sentences[0].missing, "another figure stands nowhere")

    def test_without_sources_nothing_is_supported(self) -> None:
        (found,) = evidence("The 4 gates of green oak weigh a lot.", {}).sentences
        self.assertEqual(found.level, "in no source")
        self.assertEqual(evidence("", SOURCES).sentences, [])

    @given(st.text(max_size=300), st.text(max_size=300))
    @example("http://:", "")
    @example("See https://a.example/b/; and 3.", "")
    @examples(60)
    def test_any_text_supports_itself(self, draft: str, source: str) -> None:
        for one in evidence(draft, {"s": source, "same": draft}).sentences:
            self.assertIn(one.plainly, ("supported", "nothing", "unsupported"))
            self.assertFalse([c for c in one.missing if c.kind in ("number", "link")], one)


class Voices(unittest.TestCase):
    EXAMPLES = [
        "Onions from sets are in. Plant them with the neck just showing.\n#onions",
        "A bean that stood two dry summers is back. We have forty packets.\n#beans",
        "Frost tonight. Cover the early peas and leave the kale alone.\n#frost",
    ]

    def test_the_style_of_examples_is_measured(self) -> None:
        style = style_of(self.EXAMPLES)
        self.assertEqual((style.pieces, style.middle["hashtags"], style.middle["emoji"]), (3, 1.0, 0.0))
        self.assertEqual(differences(self.EXAMPLES[0], style), [])
        self.assertEqual(verdict([]), "in this voice")

    def test_how_far_a_draft_is_from_it_is_said_in_words(self) -> None:
        draft = (
            "Are you ready for the most extraordinary, breathtaking and unbelievable gardening experience of your entire life, "
            "which our wonderful organisation proudly presents to everybody everywhere?! Yes!!! 🌱🌱🌱 #a #b #c #d"
        )
        found = differences(draft, style_of(self.EXAMPLES))
        said = " | ".join(one.says for one in found)
        for words in ("longer", "more hashtags", "more emoji", "more exclamation marks", "a question"):
            self.assertIn(words, said)
        self.assertEqual(verdict(found), "in another voice")

    def test_brands_that_all_write_short_and_plainly_are_told_apart(self) -> None:
        brands = json.loads(Path("tests/labelled/voices.json").read_text("utf-8"))
        del brands["about"]
        for name, pieces in brands.items():
            others = [text for other in brands if other != name for text in brands[other]]
            voice = typical_of(pieces)
            assert voice is not None
            own = []
            for text in pieces:
                rest = typical_of([one for one in pieces if one != text])
                assert rest is not None
                own.append(rest.likeness(text))
            alien = [voice.likeness(text) for text in others]
            above = sum((a > b) + 0.5 * (a == b) for a in own for b in alien) / (len(own) * len(alien))
            self.assertGreaterEqual(above, 0.9, name)
            style = style_of(pieces)
            near = [text for text in others if verdict(differences(text, style)) in ("in this voice", "near to this voice")]
            self.assertLessEqual(len(near) / len(others), 0.1, near)
            kept = [text for text in pieces if verdict(differences(text, style)) in ("in this voice", "near to this voice")]
            self.assertGreaterEqual(len(kept), 7, name)

    def test_without_examples_there_is_no_voice(self) -> None:
        self.assertRaises(ValueError, style_of, ["", "  "])

    @given(st.lists(st.text(max_size=80), min_size=1, max_size=5))
    @settings(max_examples=40)
    def test_an_example_alone_is_in_its_own_voice(self, examples: list[str]) -> None:
        try:
            style = style_of(examples[:1])
        except ValueError:
            return
        self.assertEqual(differences(examples[0].strip(), style), [])


if __name__ == "__main__":
    unittest.main()


class OfAnother(unittest.TestCase):
    """Days of the week that are others, and what is said of somebody else."""

    def level(self, sentence: str, source: str) -> tuple[str, tuple[str, ...]]:
        (found,) = evidence(sentence, {"page": source}).sentences
        return found.level, found.reasons

    def test_another_day_of_the_week(self) -> None:
        for sentence, source, reason in (
            ("The yard is open on Mondays.", "The yard is open from Wednesday to Sunday, nine to five.", "Wednesday to Sunday"),
            ("La boutique est ouverte le lundi.", "La boutique est ouverte du mardi au samedi.", "mardi au samedi"),
            ("El taller abre los domingos.", "El taller abre de lunes a viernes.", "lunes a viernes"),
            ("Der Laden öffnet am Sonntag.", "Der Laden öffnet montags bis freitags um neun.", "montags bis freitags"),
        ):
            level, reasons = self.level(sentence, source)
            self.assertIn(level, ("contradicts a source", "doubtful"), sentence)
            self.assertIn(reason, str(reasons), sentence)

    def test_a_day_within_a_range_or_when_it_is_shut_is_none(self) -> None:
        for sentence, source in (
            ("The yard is open on Thursdays.", "The yard is open from Wednesday to Sunday, nine to five."),
            ("The yard is closed on Mondays.", "The yard is open from Wednesday to Sunday, nine to five."),
            ("Am Donnerstag ist der Laden offen.", "Der Laden ist dienstags bis samstags offen."),
            ("The market is on Saturday.", "The market is held every Saturday, and on Sunday in May."),
        ):
            self.assertFalse(any("source says" in one for one in self.level(sentence, source)[1]), sentence)

    def test_what_is_said_of_another_person(self) -> None:
        source = "Our guest is Milo Brandt, who builds clinker boats in a shed at Tarn. The host, Vera Lund, asked about oak."
        level, reasons = self.level("Vera Lund builds clinker boats in a shed at Tarn.", source)
        self.assertIn("of Milo Brandt, not of Vera Lund", str(reasons))
        self.assertEqual(level, "contradicts a source")
        self.assertEqual(self.level("Milo Brandt builds clinker boats in a shed at Tarn.", source)[1], ())

    def test_the_passive_says_the_same(self) -> None:
        source = "Omar Diallo founded the mill in 1998. The mill is called Lyd Foods, and Lyd Foods employs 230 people."
        self.assertFalse(
            any("said" in one or "says this" in one for one in self.level("Lyd Foods was founded by Omar Diallo.", source)[1])
        )

    def test_who_speaks_of_themselves_is_meant(self) -> None:
        source = "VERA: I keep 18 hives behind the mill of Arne Holt.\nMILO: Good.\nVERA: They are fine.\nMILO: Yes."
        self.assertFalse(any("not of Vera" in one for one in self.level("Vera keeps 18 hives behind the mill.", source)[1]))
