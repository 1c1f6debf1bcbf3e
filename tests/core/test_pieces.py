"""Pieces as data: read from what any version kept, measured as their channel counts, told in brief, in words and in parts."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.pieces import (
    Attached,
    Counting,
    Letter,
    Message,
    Post,
    Takes,
    attached,
    changed,
    in_brief,
    in_words,
    length,
    parted,
    read,
    refusals,
    shortened,
)

UNITS = st.sampled_from([Counting(), Counting(unit="graphemes"), Counting(unit="bytes"), Counting(unit="graphemes", wide=2)])
KEPT = "http://house.example/api/files/abc/bean.png"


class Read(unittest.TestCase):
    def test_a_post_of_an_earlier_version_has_its_photo(self) -> None:
        post = read("post", {"text": "Hi", "photo": KEPT, "file": KEPT})
        self.assertEqual(attached(post), (KEPT,))
        self.assertEqual(attached(read("post", {"text": "Hi", "photo": "https://a.example/x.png"})), ())
        self.assertEqual(in_brief(post).picture, KEPT)

    def test_what_another_version_wrote_beside_it_is_left_out(self) -> None:
        letter = read("letter", {"to": ["a@b.example"], "subject": "S", "hologram": 1, "form": "post"})
        self.assertEqual(letter, Letter(to=("a@b.example",), subject="S"))

    def test_all_of_it_in_words(self) -> None:
        letter = Letter(to=("a@b.example",), cc=("c@d.example",), subject="S", text="T", files=(Attached(link="x", name="r.pdf"),))
        self.assertEqual(in_words(letter), "To: a@b.example\nCopy to: c@d.example\nSubject: S\nWith: r.pdf\n\nT")


class Measured(unittest.TestCase):
    def test_as_the_channel_counts(self) -> None:
        text = "Grüße \U0001f468\u200d\U0001f469\u200d\U0001f467 https://a.example/very/long/address."
        for counting, count in (
            (Counting(), 6 + 1 + 1 + 36),
            (Counting(unit="characters"), 6 + 5 + 1 + 36),
            (Counting(unit="graphemes"), 6 + 1 + 1 + 36),
            (Counting(unit="graphemes", link=23), 6 + 1 + 1 + 23 + 1),
            (Counting(unit="graphemes", link=23, wide=2), 6 + 2 + 1 + 23 + 1),
            (Counting(unit="bytes"), 8 + 18 + 1 + 36),
        ):
            with self.subTest(counting=counting):
                self.assertEqual(length(text, counting), count)

    def test_what_a_channel_refuses_is_said_with_figures(self) -> None:
        picture = Attached(link=KEPT, type="image/tiff", size=3_000_000)
        takes = Takes(length=4, pictures=1, picture_kinds=("image/png",), picture_size=1_000_000, size=5_000_000)
        said = refusals(Post(text="Hello", pictures=(picture, picture)), takes, "Pondside")
        self.assertEqual(len(said), 7, said)
        self.assertIn("Pondside takes at most 4 characters; this has 5.", said)
        self.assertIn("Pondside takes at most 5.0 MB at a time; this has 6.0 MB.", said)
        self.assertEqual(refusals(Post(text="Hell"), takes, "Pondside"), [])
        self.assertEqual(len(refusals(Message(text="long", parts=("12345", "1234")), takes, "R")), 1, "each part by itself")


class Shortened(unittest.TestCase):
    def test_whole_sentences_are_left_off_and_links_and_tags_at_the_end_stay(self) -> None:
        text = "Sow now. The soil is warm. Water well. https://seed.example/sow #beans"
        self.assertEqual(shortened(text, 200), text)
        self.assertEqual(shortened(text, 62), "Sow now. The soil is warm. https://seed.example/sow #beans")
        listed = "A teaser of one sentence.\n\nhttps://radio.example/1\n\n0:00 Begin\n2:10 Beans and peas\n9:00 End"
        self.assertEqual(shortened(listed, 70), "A teaser of one sentence.\n\nhttps://radio.example/1\n\n0:00 Begin")
        self.assertEqual(shortened(listed, 55), "A teaser of one sentence.\n\nhttps://radio.example/1")
        self.assertEqual(shortened(text, 40, Counting(link=10)), "Sow now. https://seed.example/sow #beans")
        self.assertEqual(shortened("She said “sow.” Then she left the garden.", 20), "She said “sow.”")

    def test_a_first_sentence_too_long_ends_in_an_ellipsis_and_a_tail_too_long_goes(self) -> None:
        self.assertEqual(shortened("one two three four five", 12), "one two…")
        self.assertEqual(shortened("a" * 50, 10), "a" * 9 + "…")
        self.assertEqual(shortened("Sow now. #" + "a" * 60, 20), "Sow now.")

    @given(
        st.text(max_size=300),
        st.integers(12, 60),
        st.sampled_from([Counting(), Counting(unit="graphemes"), Counting(unit="bytes", wide=2)]),
    )
    def test_it_always_fits_and_is_never_emptied(self, text: str, most: int, counting: Counting) -> None:
        cut = shortened(text, most, counting)
        self.assertLessEqual(length(cut, counting), most)
        self.assertEqual(bool(cut), bool(text.strip()))


class Parted(unittest.TestCase):
    def test_at_paragraphs_then_sentences_then_words(self) -> None:
        self.assertEqual(parted("One two.\n\nThree four.", 12), ["One two.", "Three four."])
        self.assertEqual(parted("Said “so.” And more. End", 14), ["Said “so.”", "And more. End"])
        self.assertEqual(parted("one two three", 8), ["one two", "three"])
        self.assertEqual(parted("a" * 25, 10), ["a" * 10, "a" * 10, "a" * 5])
        self.assertEqual(parted("short", 10), ["short"])

    @given(st.text(max_size=400), st.integers(20, 60), UNITS)
    def test_each_keeps_within_and_nothing_is_lost(self, text: str, most: int, counting: Counting) -> None:
        parts = parted(text, most, counting)
        self.assertEqual("".join("".join(part.split()) for part in parts), "".join(text.split()))
        for part in parts:
            if len(part) > 32:  # one sign may be longer than any channel takes
                self.assertLessEqual(length(part, counting), most)

    def test_a_very_long_text_is_parted_in_a_moment(self) -> None:
        self.assertEqual(len(parted("bean " * 40_000, 20)), 10_000)


class Changed(unittest.TestCase):
    def test_a_subject_stays_one_line_and_is_never_empty(self) -> None:
        letter = {"form": "letter", "subject": "Old", "to": ["a@a.example"]}
        out = changed("letter", letter, {"subject": " New\r\nBcc: all@all.example "})
        self.assertEqual(out["subject"], "New Bcc: all@all.example")
        self.assertEqual(letter["subject"], "Old")
        for wrong in ({"subject": " \n "}, {"to": ["else@else.example"]}, {"text": "Else"}):
            with self.assertRaises(ValueError):
                changed("letter", letter, wrong)

    def test_the_subject_of_a_mailing_is_that_of_its_first_letter_too(self) -> None:
        mailing = {"form": "mailing", "subject": "Old", "word": "qx", "first": {"form": "letter", "subject": "Old", "text": "T"}}
        out = changed("mailing", mailing, {"subject": "New"})
        self.assertEqual((out["subject"], out["first"]["subject"], out["first"]["text"]), ("New", "New", "T"))
        with self.assertRaises(ValueError):
            changed("mailing", {**mailing, "subject": "For qx1"}, {"subject": "New"})

    def test_the_title_of_an_article(self) -> None:
        out = changed("article", {"form": "article", "title": "Old", "html": "<p>T</p>"}, {"title": "New"})
        self.assertEqual((out["title"], out["html"]), ("New", "<p>T</p>"))
