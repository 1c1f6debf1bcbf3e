"""Text as people count and compare it: other words, languages and fields than the labelled drafts."""

from __future__ import annotations

import unittest
from concurrent.futures import ThreadPoolExecutor

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core import text as texts
from ulmus.core.drafting.quotes import quoted
from ulmus.core.drafting.wrapping import wrapping
from ulmus.core.languages import language
from ulmus.core.languages.language import _stem

SCRIPTS = st.text(
    st.characters(codec="utf-8", categories=("L", "M", "N", "P", "S", "Z", "Cf")) | st.sampled_from("“”\"'#@.:/<>&\n🌱👍🏽 "),
    max_size=120,
)


class Counting(unittest.TestCase):
    def test_emoji_are_those_one_sees(self) -> None:
        for text, count in (
            ("Thumbs 👍🏿 up", 1),
            ("👩🏽‍🌾 at work 🚜", 2),
            ("🏴‍☠️", 1),
            ("♥️ but ♥", 1),
            ("❤️‍🔥", 1),
            ("№ 5 § 3 ✗ ☐ → ★", 0),
            ("© ® ™ ‼", 0),
            ("5️⃣ steps", 1),
            ("🇳🇱🇧🇪", 2),
        ):
            with self.subTest(text=text):
                self.assertEqual(len(texts.emoji(text)), count)

    def test_words(self) -> None:
        for text, count in (
            ("Don’t over-think it", 3),
            ("L'école d'été", 2),
            ("24/7, 3.5 and 1,000,000", 4),
            ("*Bold* and _soft_ — both", 4),
            ("See example.org/a-b-c?x=1 now", 3),
            ("Donaudampfschifffahrt", 1),
            ("สวัสดีครับ", 5),
            ("R&D", 2),
            ("", 0),
        ):
            with self.subTest(text=text):
                self.assertEqual(texts.words(text), count)

    def test_sentences(self) -> None:
        for text, count in (
            ("Prof. Anna B. Reyl spoke at 7 p.m. on Friday. We stayed.", 2),
            ("Der Preis beträgt 3,50 € inkl. MwSt. und gilt bis 24. Dezember.", 1),
            ("Mme Ferrand et M. Perrin sont là. Venez !", 2),
            ("El Sr. Gómez y la Dra. Ruiz abren a las 9 h. ¡Ven!", 2),
            ("Il dott. Rossi apre. L'ing. Verdi chiude.", 2),
            ("O Dr. Silva chegou. A profa. Lima saiu.", 2),
            ("Dhr. Jansen komt om 9 uur. Kom ook!", 2),
            ("Frost tonight 🥶 Cover the beans", 2),
            ("1. Sow\n2. Water\n3. Wait", 3),
            ("We open\nat nine.", 1),
            ("Why not? Because … well, because.", 2),
            ("Read more: https://a.example/x\n#beans", 1),
            ("#beans #peas", 0),
            ("Wow!!! Really?", 2),
        ):
            with self.subTest(text=text):
                self.assertEqual(len(texts.sentences(text)), count, texts.sentences(text))

    def test_tags_names_and_links(self) -> None:
        for text, tags, names, links in (
            ("#Gärten und #été_2026, C# und §#3", 2, 0, 0),
            ("Ask @ann.reyl, not a@b.example (@tom)", 0, 2, 0),
            ("(see www.example.org/x_(y)), or https://a.example/b?c=#d.", 0, 0, 2),
            ("Mail us: garden@hedge.example. Come to hedge.example!", 0, 0, 1),
            ("It works.It does. Version 2.0.1, e.g. a.m.", 0, 0, 0),
            ("“https://a.example/x”, «https://b.example»", 0, 0, 2),
        ):
            with self.subTest(text=text):
                found = len(texts.hashtags(text)), len(texts.mentions(text)), len(texts.links(text))
                self.assertEqual(found, (tags, names, links), texts.links(text))

    def test_a_link_is_what_people_press(self) -> None:
        for text, address in (
            ("(https://a.example/x).", "https://a.example/x"),
            ("https://a.example/x_(y)", "https://a.example/x_(y)"),
            ("**https://a.example/x**", "https://a.example/x"),
            ("www.a.example/x!", "https://www.a.example/x"),
        ):
            with self.subTest(text=text):
                self.assertEqual([link.address for link in texts.links(text)], [address])

    def test_figures_take_the_time_they_take_to_say(self) -> None:
        for text, count in (
            ("7", 1),
            ("25", 2),
            ("300", 2),
            ("1,250", 5),
            ("2026", 3),
            ("1900", 2),
            ("3.75", 4),
            ("12%", 2),
            ("0170 55", 6),
        ):
            with self.subTest(text=text):
                self.assertEqual(texts.seconds_to_say(text, 60), count)

    @given(SCRIPTS)
    def test_whatever_is_written_is_counted_and_found_where_it_stands(self, text: str) -> None:
        at = 0
        for span in texts.sentences(text):
            self.assertEqual(text[span.start : span.end], span.text)
            self.assertGreaterEqual(span.start, at)
            at = span.end
        for link in texts.links(text):
            self.assertEqual(text[link.start : link.end], link.text)
        self.assertEqual(texts.normal(texts.normal(text)), texts.normal(text))
        for count in (texts.words(text), len(texts.emoji(text)), len(texts.hashtags(text)), len(texts.mentions(text))):
            self.assertGreaterEqual(count, 0)
        texts.faults(text, ["p"])


class Comparing(unittest.TestCase):
    def test_only_what_stands_whole_is_contained(self) -> None:
        for wanted, text, there in (
            ("9:30", "at 19:30", False),
            ("9:30", "at 9:30.", True),
            ("412", "1,412 jars", False),
            ("412", "412, or so", True),
            ("@ann", "@anna", False),
            ("@ann", "@ann.reyl", False),
            ("#bean", "#beans", False),
            ("co‑op", "the co-op", True),
            ("l’été", "L'été et l'été", True),
            ("naïve", "nai\u0308ve", True),
            ("種子", "種子銀行", True),
            ("Tea", "tea", False),
            ("", "anything", True),
        ):
            with self.subTest(wanted=wanted, text=text):
                self.assertEqual(texts.contained(wanted, texts.normal(text)), there)

    def test_a_phrase_is_said_however_it_is_written(self) -> None:
        for phrase, text, there in (
            ("state-of-the-art", "STATE OF THE ART beds", True),
            ("game changer", "a **game-changer**", True),
            ("unlock", "un\u00adlock it", True),
            ("unlock", "unlocked", False),
            ("grüße", "Viele GRÜẞE", True),
            ("deal", "#deal", True),
            ("art", "start", False),
        ):
            with self.subTest(phrase=phrase, text=text):
                self.assertEqual(texts.said(phrase, texts.normal(text)), there)

    def test_html_is_read_as_it_is_seen(self) -> None:
        page = texts.read(
            "<h1>Beans &amp; peas</h1><p>Sow <b>no</b>w.<br>Wait.</p><style>p{}</style><ul><li>One<li>Two</ul><a href='/x'>x</a>"
        )
        self.assertEqual(page.text, "Beans & peas\n\nSow now.\nWait.\n\nOne\nTwo\n\nx")
        self.assertEqual(page.hrefs, ("/x",))
        self.assertFalse(texts.is_html("5 < 6 and a > b"))


class Wrapped(unittest.TestCase):
    PIECE = "Die Bohnen sind da.\nKommt am Samstag vorbei, der Tee ist heiß."

    def test_what_a_model_puts_round_a_piece_is_found(self) -> None:
        for before, after in (
            ("Klar, hier ist ein kurzer Beitrag:\n\n", ""),
            ("Gerne! Hier ist die überarbeitete Fassung:\n\n", ""),
            ("Bien sûr ! Voici le texte demandé :\n\n", ""),
            ("¡Claro! Aquí tienes el borrador:\n\n", ""),
            ("Certo! Ecco la bozza richiesta:\n\n", ""),
            ("Claro! Segue o rascunho:\n\n", ""),
            ("Natuurlijk! Hier is de tekst:\n\n", ""),
            ("### Draft\n\n", ""),
            ("**Version 2:**\n", ""),
            ("Entwurf: ", ""),
            ("Below is the newsletter you asked for:\n\n", ""),
            ("Okay, the user wants a short German post. I should keep it warm.\n\n", ""),
            ("<thinking>\nWhat do they grow?\n</thinking>\n\n", ""),
            ("```markdown\n", "\n```"),
            ("<post>\n", "\n</post>"),
            ("Here is the HTML you asked for:\n\n", ""),
            ("", "\n\n---\nWould you like me to make it shorter?"),
            ("", "\n\nSoll ich eine weitere Fassung schreiben?"),
            ("", "\n\nSouhaitez-vous une version plus courte ?"),
            ("", "\n\n¿Quieres que ajuste el tono o haga otra versión?"),
            ("", "\n\nFammi sapere se vuoi un'altra versione."),
            ("", "\n\nLaat me weten of je een andere versie wilt."),
            ("", "\n\nAvise-me se quiser outra versão."),
            ("", "\n\n(57 Zeichen)"),
            ("", "\n\nWord count: 12"),
            ("", "\n\n*Note: I left out the hashtags as requested.*"),
            ("", "\n\nI hope this helps!"),
            ("", "\n\nThis draft keeps to the requested tone and stays under 300 characters."),
            ("Sure! Here's your post:\n\n", "\n\nLet me know if you want any edits!"),
        ):
            with self.subTest(before=before, after=after):
                text = before + self.PIECE + after
                found = wrapping(text)
                self.assertTrue(found.found)
                self.assertEqual(text[found.start : found.end], self.PIECE)

    def test_long_texts_of_marks_are_read_too(self) -> None:
        for text in ("<answer>" + " " * 200_000 + "x", "(3 words" * 30_000, "```\n" * 50_000, "“a " * 60_000, "\n \n" * 60_000):
            found = wrapping(text)
            self.assertLessEqual(found.end, len(text))
            quoted(text)

    def test_real_openings_and_ends_are_left_alone(self) -> None:
        for text in (
            "Here are five ways to keep slugs off:\n1. Copper\n2. Coffee",
            "Here is our plan for the spring:\nwe dig, we sow, we wait.",
            "Certainly the best year yet: 745 members.",
            "Of course we are open on Sunday.\nCome by.",
            "Voici les nouvelles de la semaine :\nles abeilles sont là.",
            "Hier ist der Frühling:\nDie Beete sind bereit.",
            "Ecco cosa succede sabato:\nsemi, tè, musica.",
            "Beans first.\n\nLet me know how yours are doing in the comments.",
            "The text of the new by-law:\nNo dogs in the beds.",
            "Our newsletter is one year old:\nthank you.",
            "Come on Friday.\n\nPS: the post office is closed.",
            "A letter from the chair:\nDear all, it rained.",
            "We meet at six.\n\nNote: bring your own cup.",
            "Wollen Sie ein Beet? Schreiben Sie uns.",
            "Dear Ann,\n\nwould Tuesday suit you?\n\nBest wishes,\nTom",
            "Draft-proof your shed: five steps\nStart with the door.",
            "Great question from Ann: when do beans go in?\nAfter the last frost.",
            "A short message from the pond: the frogs are back.",
        ):
            with self.subTest(text=text):
                self.assertEqual(wrapping(text).found, ())

    def test_quotation_marks_round_the_whole(self) -> None:
        for text, whole in (
            ("‹Die Bohnen sind da.›", True),
            ("»Die Bohnen sind da.«", True),
            ("「種子が来た。」", True),
            ("“Beans!” said Ann.", False),
            ("“Beans,” she said, “are up.”", False),
            ("_“Beans are up.”_\n\nhttps://a.example/x", True),
            ("“Beans are up. They are late.\n\nhttps://a.example/x”", True),
            ("'90s night at the barn: don't miss 'em", False),
            ("“Unclosed", False),
        ):
            with self.subTest(text=text):
                self.assertEqual(quoted(text) is not None, whole)

    @given(SCRIPTS)
    def test_what_is_left_stands_in_the_text(self, text: str) -> None:
        found = wrapping(text)
        self.assertTrue(0 <= found.start <= found.end <= len(text))
        inside = quoted(text)
        self.assertTrue(inside is None or inside[0] <= inside[1])


if __name__ == "__main__":
    unittest.main()


class Threads(unittest.TestCase):
    def test_words_lose_their_endings_alike_whoever_asks_at_the_same_time(self) -> None:
        words = [f"organisation{n}s nationalizing {n}ly" for n in range(400)]
        known = language("en")
        alone = [known.stem(word) for word in words]
        _stem.cache_clear()
        with ThreadPoolExecutor(8) as pool:
            for found in pool.map(lambda _: [known.stem(word) for word in words], range(16)):
                self.assertEqual(found, alone)
