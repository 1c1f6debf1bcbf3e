"""Pages to main text: the practice town's articles, misbehaving pages, awkward encodings."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from practice_town.world import SITES, articles
from tests.protocols.outside import WithTown, answering, raw
from tests.short import examples
from ulmus.protocols import pages
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.text import decode

ARTICLE = (
    "<html><head><title>Seed</title></head><body><nav>Menu</nav><article><h1>Seed</h1>"
    + "<p>The co-operative keeps a thousand kinds of seed in its cellar.</p>" * 6
    + "</article></body></html>"
)


class Town(WithTown):
    def read(self, mode: str = "", site: str = "furrow-letter") -> pages.Page:
        self.fault("page", mode)
        return pages.read(self.web, f"{self.town.url}/sites/{site}/{articles(site)[0].slug}")

    def test_every_article_is_written_out_and_read_back_whole(self) -> None:
        total = 0
        for site in SITES:
            for article in articles(site):
                self.assertGreaterEqual(sum(len(p.split()) for p in article.paragraphs), 300, article.title)
                total += 1
        self.assertGreaterEqual(total, 30)

    def test_main_text_without_menus_and_advertisements(self) -> None:
        for site in SITES:
            page = self.read(site=site)
            article = articles(site)[0]
            for paragraph in article.paragraphs:
                self.assertIn(paragraph[:60], page.text.replace("\n", " "))
            self.assertNotIn("Subscribe to", page.text)
            self.assertNotIn("Small ads", page.text)
            self.assertEqual(page.title, article.title)
            self.assertEqual(page.author, article.author)
            self.assertRegex(page.date, r"^\d{4}-\d\d-\d\d")
            self.assertGreater(page.words, 290)

    def test_what_is_not_a_page_is_said(self) -> None:
        for mode, words in (
            ("pdf", "PDF"),
            ("empty", "empty"),
            ("gone", "nothing at this address"),
            ("down", "fault of its own"),
            ("endless", "more than 5 MB"),
        ):
            with self.subTest(mode=mode), self.assertRaisesRegex(OutsideError, words):
                self.read(mode)

    def test_an_old_encoding_that_nobody_declared(self) -> None:
        self.assertNotIn("\ufffd", self.read("legacy").text)

    def test_faults_that_pass_are_worth_a_new_try(self) -> None:
        for mode, again in (("down", True), ("gone", False), ("pdf", False)):
            with self.subTest(mode=mode), self.assertRaises(OutsideError) as caught:
                self.read(mode)
            self.assertEqual(caught.exception.retryable, again)


class Odd(unittest.TestCase):
    def test_plain_text_is_taken_as_it_is(self) -> None:
        server, web = raw(self, answering("Grüße\nzweite Zeile".encode(), "Content-Type: text/plain; charset=utf-8\r\n"))
        page = pages.read(web, server.url)
        self.assertEqual((page.title, page.text), ("Grüße", "Grüße\nzweite Zeile"))

    def test_pictures_and_archives_are_refused(self) -> None:
        server, web = raw(self, answering(b"\x89PNG....", "Content-Type: image/png\r\n"))
        with self.assertRaisesRegex(OutsideError, "image/png"):
            pages.read(web, server.url)

    def test_a_pdf_under_a_wrong_name(self) -> None:
        server, web = raw(self, answering(b"%PDF-1.7 ...", "Content-Type: text/html\r\n"))
        with self.assertRaisesRegex(OutsideError, "PDF"):
            pages.read(web, server.url)

    def test_a_page_drawn_by_a_program_has_no_text(self) -> None:
        with self.assertRaisesRegex(OutsideError, "No running text"):
            pages.from_html("<html><body><div id=root></div><script>draw()</script></body></html>")

    def test_words_that_are_no_markup(self) -> None:
        with self.assertRaisesRegex(OutsideError, "not a web page"):
            pages.from_html("just words")

    def test_scripts_do_not_come_along(self) -> None:
        page = pages.from_html(ARTICLE.replace("<article>", "<article><script>alert('x')</script>"))
        self.assertNotIn("alert", page.text)

    def test_who_wrote_it_and_what_is_said_under_pictures_is_no_part_of_the_text(self) -> None:
        story = "<p>The beans came up after nine days in cold ground, and nobody had expected it.</p>" * 3
        for head in (
            '<p class="byline">By Ada Quill, 3 May 2026</p>',
            '<div class="post-meta">By <a rel="author">Ada Quill</a> | 3 May 2026</div>',
            "<p>By Ada Quill</p>",
        ):
            page = pages.from_html(
                f'<html><head><meta name="author" content="Ada Quill"></head><body><article><h1>Beans</h1>{head}'
                '<figure><img src="b.png" alt="Beans"><figcaption>The brown runner in its third week</figcaption></figure>'
                f"{story}<p>By Whitsun they will flower.</p></article></body></html>"
            )
            with self.subTest(head):
                self.assertTrue(page.text.startswith("The beans came up"), page.text[:80])
                self.assertTrue(page.text.endswith("By Whitsun they will flower."))

    def test_deep_nesting_harms_this_page_alone(self) -> None:
        deep = "<div>" * 50_000 + "word " * 200 + "</div>" * 50_000
        try:
            pages.from_html(f"<html><body>{deep}</body></html>")
        except OutsideError as error:
            self.assertTrue(error.message)

    @examples(25)
    @given(st.text(max_size=400))
    def test_no_text_does_worse_than_be_refused(self, text: str) -> None:
        try:
            pages.from_html(text)
        except OutsideError as error:
            self.assertTrue(error.message)


class Decoding(unittest.TestCase):
    def test_declared_encodings(self) -> None:
        self.assertEqual(decode("Ä".encode()), "Ä")
        self.assertEqual(decode("“Ä”".encode("windows-1252"), "iso-8859-1"), "“Ä”")
        self.assertEqual(decode("Ä".encode("utf-16")), "Ä")
        self.assertEqual(decode(b"\xef\xbb\xbfhello"), "hello")
        self.assertEqual(decode('<meta charset="koi8-r">Привет'.encode("koi8-r"))[-6:], "Привет")

    def test_a_wrong_or_unknown_declaration_does_not_stop_it(self) -> None:
        self.assertEqual(decode("Ä".encode(), "no-such-charset"), "Ä")
        self.assertIn("Ä", decode("Ä and more".encode(), "ascii") + decode("Ä".encode()))

    @given(st.binary(max_size=200), st.sampled_from([None, "utf-8", "latin-1", "x", "utf-16", "ascii"]))
    def test_it_never_raises(self, body: bytes, charset: str | None) -> None:
        self.assertIsInstance(decode(body, charset), str)
