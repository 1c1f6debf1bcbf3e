"""Articles by the Atom Publishing Protocol, against a blog that keeps doubles, lists in part, and cleans what it is given."""

from __future__ import annotations

import base64
import time

from tests.protocols.outside import WithTown, answering, raw
from tests.protocols.test_pictures import photo
from ulmus.protocols import atompub
from ulmus.protocols.errors import BadAnswer, Misconfigured, NotFound, OutsideError, Refused

KEY = {"Authorization": f"Basic {base64.b64encode(b'editor:towpath-key').decode()}"}


def article(title: str = "Seed & water", html: str = "<p>One <b>line</b> &amp; more.</p>", **more: object) -> atompub.Article:
    return atompub.Article(title, html, "k1", **more)  # type: ignore[arg-type]


class WithBlog(WithTown):
    def setUp(self) -> None:
        super().setUp()
        self.town.state.entries.clear()
        self.town.state.media.clear()
        self.web.memory("atompub: collections", atompub.MOST_KNOWN, atompub.KNOWN_FOR).clear()
        self.blog = atompub.Blog(f"{self.town.url}/blog/app", KEY)


class Articles(WithBlog):
    def test_it_stands_there_with_all_its_parts(self) -> None:
        link = atompub.create(self.web, self.blog, article(summary="In short", categories=("Water", "A & B")))
        (entry,) = self.town.state.entries
        self.assertEqual(link, f"{self.town.url}/blog/1")
        self.assertEqual((entry["title"], entry["summary"], entry["categories"]), ("Seed & water", "In short", ["Water", "A & B"]))
        self.assertEqual(entry["content"], "<p>One <b>line</b> &amp; more.</p>")
        self.assertFalse(entry["draft"])

    def test_a_draft_stays_one_there(self) -> None:
        atompub.create(self.web, self.blog, article(held_back=True))
        self.assertTrue(self.town.state.entries[0]["draft"])

    def test_signs_that_xml_cannot_hold_are_left_out(self) -> None:
        atompub.create(self.web, self.blog, article("A\x00B\ud800C", "<p>\x0bone</p>"))
        self.assertEqual(self.town.state.entries[0]["title"], "ABC")

    def test_a_picture_is_put_where_pictures_go(self) -> None:
        place = atompub.upload(self.web, self.blog, ("wörter & all.jpg", "image/jpeg", photo()))
        self.assertEqual(self.web.fetch(place).body, photo())
        with self.assertRaisesRegex(OutsideError, "415"):
            atompub.upload(self.web, self.blog, ("a.gif", "image/gif", b"x"))

    def test_the_collection_is_the_first_that_takes_entries_or_the_one_named(self) -> None:
        self.assertEqual(atompub.entries_of(self.web, self.blog).title, "Articles")
        with self.assertRaisesRegex(Misconfigured, "it has “Articles”"):
            atompub.entries_of(self.web, atompub.Blog(self.blog.url, KEY, "Notes"))
        direct = atompub.Blog(f"{self.town.url}/blog/app/entries", KEY)
        atompub.create(self.web, direct, article())
        self.assertEqual(len(self.town.state.entries), 1)
        with self.assertRaises(Refused):
            atompub.upload(self.web, direct, ("a.png", "image/png", b"x"))

    def test_what_is_no_blog_says_so(self) -> None:
        self.fault("blog", "garbage", 1)
        with self.assertRaises(BadAnswer):
            atompub.collections(self.web, self.blog)
        with self.assertRaisesRegex(OutsideError, "key|401"):
            atompub.collections(self.web, atompub.Blog(self.blog.url, {"Authorization": "Basic eDp5"}))
        server, web = raw(self, answering(b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><feed>&x;</feed>'))
        with self.assertRaises(BadAnswer):
            atompub.collections(web, atompub.Blog(server.url))


class Changing(WithBlog):
    def test_what_is_there_is_changed_and_what_else_it_holds_stays(self) -> None:
        link = atompub.create(self.web, self.blog, article(summary="First", categories=("Water",)))
        self.assertEqual(atompub.update(self.web, self.blog, link, article("New title", "<p>New</p>", categories=("Seed",))), link)
        (entry,) = self.town.state.entries
        self.assertEqual((entry["title"], entry["content"], entry["categories"]), ("New title", "<p>New</p>", ["Seed"]))

    def test_one_further_back_is_found_on_its_page(self) -> None:
        links = [atompub.create(self.web, self.blog, article(f"No. {n}")) for n in range(25)]
        atompub.update(self.web, self.blog, links[3], article("Changed"))
        self.assertEqual([e["id"] for e in self.town.state.entries if e["title"] == "Changed"], [4])

    def test_an_address_that_is_none_of_the_blogs_says_so(self) -> None:
        with self.assertRaises(NotFound):
            atompub.update(self.web, self.blog, f"{self.town.url}/blog/99", article())

    def test_where_somebody_changed_it_at_that_moment_nothing_is_overwritten(self) -> None:
        link = atompub.create(self.web, self.blog, article())
        fetch, town = self.web.fetch, self.town.state

        def meddled(url: str, **more: object) -> object:
            if more.get("method") == "PUT":
                town.entries[0]["title"] = "By somebody"
            return fetch(url, **more)  # type: ignore[arg-type]

        self.web.fetch = meddled  # type: ignore[method-assign, assignment]
        self.addCleanup(delattr, self.web, "fetch")
        with self.assertRaisesRegex(OutsideError, "Somebody changed") as met:
            atompub.update(self.web, self.blog, link, article("Mine"))
        self.assertTrue(met.exception.retryable)
        self.assertEqual(town.entries[0]["title"], "By somebody")


class Finding(WithBlog):
    def find(self, wanted: atompub.Article, since: float) -> tuple[str | None, bool]:
        return atompub.find(self.web, self.blog, wanted, since)

    def test_what_is_there_is_found_by_what_it_says(self) -> None:
        before = time.time()
        self.fault("blog", "lost", 1)
        with self.assertRaises(OutsideError) as met:
            atompub.create(self.web, self.blog, article())
        self.assertTrue(met.exception.ambiguous)
        self.assertEqual(self.find(article(), before), (f"{self.town.url}/blog/1", True))
        self.assertEqual(self.find(article(html="<p>Another text</p>"), before), (None, True))
        self.assertEqual(self.find(article("Another title"), before), (None, True))

    def test_one_of_the_same_words_from_long_before_is_another(self) -> None:
        atompub.create(self.web, self.blog, article())
        self.town.state.entries[0]["edited"] -= 3600
        self.assertEqual(self.find(article(), time.time()), (None, True))

    def test_a_long_list_is_read_back_to_before_the_attempt_and_no_further(self) -> None:
        for n in range(35):
            atompub.create(self.web, self.blog, article(f"No. {n}"))
        for n, entry in enumerate(self.town.state.entries):
            entry["edited"] -= (35 - n) * 300
        asked: list[str] = []
        fetch = self.web.fetch
        self.web.fetch = lambda url, **more: (asked.append(url), fetch(url, **more))[1]  # type: ignore[method-assign]
        self.addCleanup(delattr, self.web, "fetch")
        self.assertEqual(self.find(article("No. 99"), time.time()), (None, True))
        self.assertEqual(sum("entries" in url for url in asked), 1)

    def test_a_refusal_says_whether_it_may_be_there(self) -> None:
        for status, ambiguous in (("500 Fault", True), ("503 Busy", False), ("403 No", False), ("302 Found", True)):
            with self.subTest(status=status):
                service = b'<feed xmlns="http://www.w3.org/2005/Atom"><title>x</title></feed>'
                answers = iter([answering(service), answering(b"no", "", status)])
                server, web = raw(self, lambda line, answers=answers: next(answers)(line))
                with self.assertRaises(OutsideError) as met:
                    atompub.create(web, atompub.Blog(server.url), article())
                self.assertEqual(met.exception.ambiguous, ambiguous)
