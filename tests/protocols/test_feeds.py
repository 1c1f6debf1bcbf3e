"""Feeds in four forms, whole and broken, over real sockets against the practice town."""

from __future__ import annotations

import json
import time
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.protocols.outside import WithTown
from ulmus.protocols import feeds
from ulmus.protocols.errors import OutsideError, RefusedAddress


def rss(items: str, head: str = "") -> bytes:
    return f'<?xml version="1.0"?><rss version="2.0"><channel><title>T</title>{head}{items}</channel></rss>'.encode()


class FourForms(WithTown):
    def test_all_forms_give_the_same_items(self) -> None:
        found = {}
        for name in ("feed.rss", "feed.rdf", "feed.atom", "feed.json"):
            look = feeds.poll(self.web, f"{self.town.url}/sites/furrow-letter/{name}")
            assert look.feed is not None
            found[name] = look.feed
            self.assertEqual(look.feed.problems, [], name)
        titles = {tuple(i.title for i in f.items) for f in found.values()}
        links = {tuple(i.link for i in f.items) for f in found.values()}
        dates = {tuple(i.published[:19] for i in f.items) for f in found.values()}
        self.assertEqual((len(titles), len(links), len(dates)), (1, 1, 1))
        self.assertEqual(len(found["feed.rss"].items), 10)
        self.assertEqual(found["feed.rss"].items[0].author, found["feed.json"].items[0].author)
        self.assertEqual(found["feed.rss"].items[0].identity, found["feed.atom"].items[0].identity)

    def test_a_second_look_is_conditional_and_finds_nothing_changed(self) -> None:
        url = f"{self.town.url}/sites/cutside-courier/feed.atom"
        first = feeds.poll(self.web, url)
        self.assertTrue(first.etag)
        second = feeds.poll(self.web, url, first.etag, first.last_modified)
        self.assertIsNone(second.feed)
        self.assertEqual(second.etag, first.etag)

    def test_a_new_article_changes_the_feed(self) -> None:
        url = f"{self.town.url}/sites/cutside-courier/feed.rss"
        first = feeds.poll(self.web, url)
        time.sleep(0.01)
        self.town.state.release("cutside-courier")
        second = feeds.poll(self.web, url, first.etag, first.last_modified)
        assert first.feed
        assert second.feed
        new = {i.identity for i in second.feed.items} - {i.identity for i in first.feed.items}
        self.assertEqual(len(new), 1)


class Misbehaving(WithTown):
    def look(self, mode: str) -> feeds.FeedPoll:
        self.fault("feed", mode)
        return feeds.poll(self.web, f"{self.town.url}/sites/furrow-letter/feed.rss")

    def test_a_web_page_instead_of_a_feed(self) -> None:
        with self.assertRaisesRegex(OutsideError, "not a feed but a web page"):
            self.look("notfeed")

    def test_a_truncated_feed_is_read_as_far_as_it_can_be(self) -> None:
        found = self.look("cut").feed
        assert found is not None
        self.assertTrue(0 < len(found.items) < 10)
        self.assertIn("damaged", found.problems[0])

    def test_fifty_megabytes_are_not_swallowed(self) -> None:
        with self.assertRaisesRegex(OutsideError, "more than 8 MB"):
            self.look("huge")

    def test_a_redirect_to_a_private_address(self) -> None:
        with self.assertRaisesRegex(RefusedAddress, "private address"):
            self.look("inward")

    def test_no_dates_and_no_ids(self) -> None:
        found = self.look("bare").feed
        assert found is not None
        self.assertEqual(len(found.items), 10)
        self.assertEqual(len({i.identity for i in found.items}), 10)
        self.assertTrue(all(i.published == "" for i in found.items))
        self.assertEqual(len(found.problems), 2)

    def test_busy_and_down(self) -> None:
        with self.assertRaisesRegex(OutsideError, "slow down") as caught:
            self.look("busy")
        self.assertEqual(caught.exception.retry_after, 2.0)
        with self.assertRaisesRegex(OutsideError, "fault of its own"):
            self.look("down")


class Reading(unittest.TestCase):
    def test_html_in_titles_and_summaries_becomes_text(self) -> None:
        item = feeds.parse(
            rss(
                "<item><title>A &amp;amp; B</title><description>&lt;p&gt;Hi &lt;b&gt;you&lt;/b&gt;&lt;script&gt;x()&lt;/script&gt;&lt;/p&gt;</description><link>http://a.example/1</link></item>"
            )
        ).items[0]
        self.assertEqual(item.title, "A & B")
        self.assertEqual(item.summary, "Hi you")

    def test_what_an_item_brings_pictures_by_size_recordings_and_transcript(self) -> None:
        item = (
            "<item><guid>1</guid><title>A</title><pubDate>Mon, 02 Mar 2026 08:00:00 GMT</pubDate>"
            '<enclosure url="https://a.example/a.mp3" type="audio/mpeg" length="7"/><enclosure url="https://a.example/a.pdf" type="application/pdf"/>'
            '<media:thumbnail url="https://a.example/s.png" width="320" height="180"/>'
            '<media:content url="https://a.example/l.png" medium="image" width="1280" height="720"/>'
            '<media:content url="https://a.example/untold" width="9000" height="9000"/>'
            '<media:content url="https://a.example/f.mp4" medium="video" type="video/mp4" width="4000" height="4000"/>'
            '<podcast:transcript url="https://a.example/a.vtt" type="text/vtt"/></item>'
        )
        head = '<?xml version="1.0"?><rss version="2.0" xmlns:media="https://a.example/m" xmlns:podcast="https://a.example/p">'
        (found,) = feeds.parse(f"{head}<channel><title>T</title>{item}</channel></rss>".encode()).items
        self.assertEqual([one["width"] for one in found.images], [1280, 320])
        self.assertEqual(found.image, "https://a.example/l.png")
        self.assertEqual((found.enclosure, found.transcript), ("https://a.example/a.mp3", "https://a.example/a.vtt"))
        self.assertEqual([(one["link"][-3:], one["bytes"]) for one in found.enclosures], [("mp3", 7), ("pdf", 0)])
        told = {
            "items": [
                {
                    "id": "1",
                    "image": "/big.png",
                    "date_modified": "2026-03-02T08:00:00Z",
                    "attachments": [
                        {"url": "a.mp3", "mime_type": "audio/mpeg", "size_in_bytes": 7, "duration_in_seconds": 61.5},
                        {"url": 7, "size_in_bytes": "x"},
                        "no attachment",
                    ],
                }
            ]
        }
        (found,) = feeds.parse(json.dumps(told).encode(), url="https://a.example/feed.json").items
        self.assertEqual(found.updated[:10], "2026-03-02")
        self.assertEqual(found.enclosure, "https://a.example/a.mp3")
        self.assertEqual((found.enclosures[0]["bytes"], found.enclosures[0]["seconds"]), (7, 61))

    def test_identity_is_the_id_else_the_link_else_a_digest(self) -> None:
        body = rss(
            "<item><guid>x1</guid><link>http://a.example/1</link><title>1</title></item><item><link>http://a.example/2</link><title>2</title></item><item><title>3</title></item>"
        )
        ids = [i.identity for i in feeds.parse(body).items]
        self.assertEqual(ids[:2], ["x1", "http://a.example/2"])
        self.assertTrue(ids[2].startswith("digest:"))

    def test_identity_stays_when_the_text_changes(self) -> None:
        one = feeds.parse(rss("<item><guid>x1</guid><title>First words</title></item>")).items[0]
        two = feeds.parse(rss("<item><guid>x1</guid><title>Other words</title></item>")).items[0]
        self.assertEqual(one.identity, two.identity)

    def test_the_same_item_twice_counts_once(self) -> None:
        self.assertEqual(len(feeds.parse(rss("<item><guid>x</guid><title>a</title></item>" * 3)).items), 1)

    def test_an_empty_feed_is_a_feed(self) -> None:
        self.assertEqual(feeds.parse(rss("")).problems, ["The feed has no items yet."])

    def test_too_many_items(self) -> None:
        many = "".join(f"<item><guid>{i}</guid><pubDate>Mon, 02 Mar 2026 10:00:00 GMT</pubDate></item>" for i in range(700))
        found = feeds.parse(rss(many))
        self.assertEqual(len(found.items), feeds.MOST_ITEMS)
        self.assertIn("Only the first 500", found.problems[0])

    def test_what_is_no_feed_at_all(self) -> None:
        for body in (b"", b"   ", b"hello", b"<html></html>", b"{}", b'{"items": 3}', b'{"items": [', b"\x00\x01\x02", b"%PDF-1.4"):
            with self.subTest(body=body), self.assertRaises(OutsideError):
                feeds.parse(body)

    def test_entities_that_swell_do_not(self) -> None:
        bomb = (
            b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">'
            + b"".join(b'<!ENTITY a%d "%s">' % (i, b"&a%d;" % (i - 1) * 10 if i else b"&a;" * 10) for i in range(9))
            + b"]><rss version='2.0'><channel><item><title>&a8;</title></item></channel></rss>"
        )
        try:
            found = feeds.parse(bomb)
        except OutsideError:
            return
        self.assertLess(sum(len(i.title) for i in found.items), 1_000_000)

    def test_legacy_encoding(self) -> None:
        body = '<?xml version="1.0" encoding="windows-1252"?><rss version="2.0"><channel><item><title>Crème – “brûlée”</title><link>http://a.example</link></item></channel></rss>'.encode(
            "windows-1252"
        )
        self.assertEqual(feeds.parse(body).items[0].title, "Crème – “brûlée”")

    def test_json_feed_odds_and_ends(self) -> None:
        data = {
            "items": [
                {
                    "id": 7,
                    "url": "/x",
                    "content_html": "<p>Hi</p>",
                    "date_published": "2026-03-02T10:00:00+02:00",
                    "tags": "no list",
                },
                "not an item",
                {"authors": []},
            ]
        }
        found = feeds.parse(json.dumps(data).encode(), url="http://a.example/feed.json")
        self.assertEqual(found.items[0].identity, "7")
        self.assertEqual(found.items[0].link, "http://a.example/x")
        self.assertEqual(found.items[0].published, "2026-03-02T08:00:00+00:00")
        self.assertEqual(found.items[0].summary, "Hi")

    @given(st.binary(max_size=300))
    def test_no_bytes_do_worse_than_be_refused(self, body: bytes) -> None:
        try:
            feeds.parse(body)
        except OutsideError as error:
            self.assertTrue(error.message)
