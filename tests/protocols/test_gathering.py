"""Links, robots, sitemaps, search, transcripts, data services, jobs, the file store and lists of feeds."""

from __future__ import annotations

import gzip
import json
import time
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from practice_town.recordings import episodes, srt, vtt
from tests.protocols.outside import WithTown, answering, raw
from tests.short import examples
from ulmus.protocols import filestore, jsonpath, opml, pages, robots, searches, services, sitemaps, transcripts
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.net import Web


def http(body: bytes, *heads: str, status: str = "200 OK") -> bytes:
    lines = [f"HTTP/1.1 {status}", f"Content-Length: {len(body)}", "Connection: close", *heads]
    return "\r\n".join(lines).encode() + b"\r\n\r\n" + body


class Town(WithTown):
    def setUp(self) -> None:
        super().setUp()
        robots.forget(self.web)


class Pages(Town):
    def test_what_a_page_tells_beside_its_text(self) -> None:
        page = pages.read(self.web, f"{self.town.url}/companies/varley/about")
        self.assertEqual((page.language, page.words > 100), ("en", True))
        self.assertEqual(page.data[0]["@type"], "Organization")
        self.assertEqual(page.data[-1]["og:site_name"], "Varley Kitchen Gardens")
        self.assertIn("About us", [link.words for link in page.links])

    def test_links_are_cleaned_told_apart_and_given_once(self) -> None:
        _, found = pages.links(self.web, f"{self.town.url}/companies/varley/")
        self.assertFalse([one for one in found if "utm_" in one.link or one.link.startswith("mailto:")])
        self.assertEqual(len({one.link for one in found}), len(found))
        source = '<base href="https://a.example/x/"><a href="y?ref=1&q=2">Here</a><a href="https://www.a.example/z">Z</a><a href="//b.example/">B</a><a href="http://[bad">no</a>'
        self.assertEqual(
            [(one.link, one.same_site) for one in pages.links_of(source, "https://q.example/")[1]],
            [("https://a.example/x/y?q=2", True), ("https://www.a.example/z", True), ("https://b.example/", False)],
        )

    def test_what_a_site_asks_not_to_read_is_not_read(self) -> None:
        with self.assertRaisesRegex(OutsideError, "asks programs not to read"):
            pages.read(self.web, f"{self.town.url}/companies/varley/orders")

    def test_no_rules_allow_all_and_a_failing_server_nothing(self) -> None:
        page = http(
            b"<article><p>The gates are of green oak, as the old ones were, and close by themselves.</p></article>",
            "Content-Type: text/html",
        )
        servers: list[Any] = []
        for rules, allowed in ((http(b"", status="404 Not Found"), True), (http(b"", status="503 Sorry"), False)):
            server, web = raw(
                self, lambda line, rules=rules: line.sendall(rules if b"robots.txt" in servers[-1].requests[-1] else page)
            )
            servers.append(server)
            if allowed:
                self.assertIn("green oak", pages.read(web, server.url).text)
            else:
                self.assertRaisesRegex(OutsideError, "cannot say what may be read", pages.read, web, server.url)

    def test_one_at_a_time_to_a_site_that_is_not_ones_own(self) -> None:
        import threading

        web, inside, most = Web({"own.example"}), [0], {}

        def read(host: str) -> None:
            with robots.turn(web, f"http://{host}/x"):  # type: ignore[arg-type]
                inside[0] += 1
                most[host] = max(most.get(host, 0), inside[0])
                time.sleep(0.02)
                inside[0] -= 1

        for host in ("a.example", "own.example"):
            threads = [threading.Thread(target=read, args=(host,)) for _ in range(6)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(most["a.example"], 1)
        self.assertGreater(most["own.example"], 1)

    def test_a_page_that_has_not_changed_is_not_sent_again(self) -> None:
        body = b"<article><p>The gates are of green oak, as the old ones were, and close by themselves.</p></article>"

        def answer(line: Any) -> None:
            request = server.requests[-1]
            if b"robots.txt" in request:
                line.sendall(http(b"", status="404 Not Found"))
            elif b"If-None-Match" in request:
                line.sendall(http(b"", status="304 Not Modified"))
            else:
                line.sendall(http(body, "Content-Type: text/html", 'ETag: "1"'))

        server, web = raw(self, answer)
        first, again = pages.read(web, server.url), pages.read(web, server.url)
        self.assertEqual(first, again)
        self.assertIn(b"If-None-Match", server.requests[-1])


class Maps(Town):
    def test_the_pages_a_site_lists(self) -> None:
        found = sitemaps.read(self.web, f"{self.town.url}/companies/varley/map.xml")
        self.assertEqual(len(found), 6)
        self.assertTrue(found[1].changed.startswith("2026-10"))
        self.assertGreater(len(sitemaps.read(self.web, f"{self.town.url}/companies/varley/")), 40)

    def test_packed_ones_indexes_and_plain_lists(self) -> None:
        one = b'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>/a</loc></url></urlset>'
        self.assertEqual(sitemaps.parse(gzip.compress(one), None, "https://a.example/")[1][0].link, "https://a.example/a")
        index = (
            b'<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><sitemap><loc>/b.xml</loc></sitemap></sitemapindex>'
        )
        self.assertEqual(sitemaps.parse(index, None, "https://a.example/")[0], ["https://a.example/b.xml"])
        self.assertEqual(len(sitemaps.parse(b"https://a.example/1\nhttps://a.example/2\n", None, "")[1]), 2)

    def test_what_is_no_map(self) -> None:
        for body in (b"", b"<html></html>", b"nothing", b"\x1f\x8bbroken", b"<urlset"):
            with self.subTest(body[:10]):
                try:
                    self.assertEqual(sitemaps.parse(body, None, ""), ([], []))
                except OutsideError as error:
                    self.assertTrue(error.message)


class Search(Town):
    def test_by_its_description(self) -> None:
        service = searches.Service(description=f"{self.town.url}/search/opensearch.xml")
        hits = searches.search(self.web, service, searches.Query("electric boat without a plug", 3))
        self.assertIn("electric", hits[0].title.lower())
        self.assertEqual(len(hits), 3)
        self.assertTrue(hits[0].date)
        self.assertEqual(searches.search(self.web, service, searches.Query("boat", not_sites=("127.0.0.1",))), [])

    def test_a_plain_service_described_by_settings(self) -> None:
        service = searches.Service(
            address=f"{self.town.url}/search/api?query={{words}}&size={{most}}",
            results="$.answer.hits",
            title="headline",
            link="url",
            summary="snippet",
            date="published",
            header="X-Search-Key",
            key="search-key",
        )
        hits = searches.search(self.web, service, searches.Query("moisture meters and instruments", 2))
        self.assertIn("Reedmere", hits[0].title)
        with self.assertRaisesRegex(OutsideError, "does not accept the key"):
            searches.search(self.web, searches.Service(address=service.address), searches.Query("x"))

    def test_what_goes_wrong_is_said(self) -> None:
        service = searches.Service(description=f"{self.town.url}/search/opensearch.xml")
        self.fault("search", "garbage")
        with self.assertRaises(OutsideError):
            searches.search(self.web, service, searches.Query("boat"))
        self.fault("search", "none")
        self.assertEqual(searches.search(self.web, service, searches.Query("boat")), [])
        for body in (b"", b"<x/>", b"<OpenSearchDescription><Url type='text/html' template='/x'/></OpenSearchDescription>"):
            with self.subTest(body), self.assertRaises(OutsideError):
                searches.describe(body, "")
        with self.assertRaisesRegex(OutsideError, "mood"):
            searches.filled("https://a.example/?m={mood}", searches.Query("x"), "x", 3)

    def test_what_is_too_old_or_in_another_language_is_left_out_whatever_the_service_gives(self) -> None:
        english = "The seed was sown on the terraces in March and stood two dry summers without any water at all."
        german = "Die Saat wurde im März auf den Terrassen ausgesät und überstand zwei trockene Sommer ganz ohne Wasser."
        new, old = (time.strftime("%Y-%m-%d", time.gmtime(time.time() - days * 86_400)) for days in (2, 400))
        given = [
            {"title": "New", "link": "https://a.example/1", "summary": english, "date": new},
            {"title": "Old", "link": "https://a.example/2", "summary": english, "date": old},
            {"title": "Neu", "link": "https://a.example/3", "summary": german, "date": new},
            {"title": "Short", "link": "https://a.example/4", "summary": "", "date": ""},
        ]
        body = json.dumps({"results": given}).encode()
        server, web = raw(self, answering(body, "Content-Type: application/json\r\n"))
        service = searches.Service(address=f"{server.url}?q={{words}}")

        def titles(**more: Any) -> list[str]:
            return [hit.title for hit in searches.search(web, service, searches.Query("seed", **more))]

        self.assertEqual(titles(), ["New", "Old", "Neu", "Short"])
        self.assertEqual(titles(days=7), ["New", "Neu", "Short"], "one without a date may be from any")
        self.assertEqual(titles(language="en"), ["New", "Old", "Short"], "a few words are too little to tell")
        self.assertEqual(titles(language="de-AT", days=7), ["Neu", "Short"])


class Transcripts(unittest.TestCase):
    def test_both_forms_say_the_same(self) -> None:
        episode = episodes()["on-the-cut"]
        a, b = transcripts.parse(vtt(episode)), transcripts.parse(srt(episode))
        self.assertEqual([(c.speaker, c.text) for c in a], [(c.speaker, c.text) for c in b])
        self.assertEqual({c.speaker for c in a}, {"Nell Farraday", "Marten Quill"})
        self.assertEqual(len(a), len(episode.said))
        self.assertAlmostEqual(a[5].start, episode.said[5][0], places=2)

    def test_damaged_ones_are_refused_in_words(self) -> None:
        for text in ("", "hello", "WEBVTT\n", "WEBVTT\n\n00:00 -> 00:01\nx\n", "1\n00:00:01,000 --> \nx"):
            with self.subTest(text), self.assertRaises(OutsideError):
                transcripts.parse(text)

    @given(st.text(max_size=200))
    @examples(60)
    def test_no_text_breaks_it(self, text: str) -> None:
        for source in (text, f"WEBVTT\n\n00:00:01.000 --> 00:00:02.000\n{text}\n"):
            try:
                self.assertTrue(transcripts.parse(source))
            except OutsideError as error:
                self.assertTrue(error.message)

    def test_long_ones_with_tags_that_never_end_are_read_as_text(self) -> None:
        for piece in ("<v a ", "{\\a", "<a", "<1"):
            (cue,) = transcripts.parse(f"WEBVTT\n\n00:00:01.000 --> 00:00:02.000\n{piece * 200_000}\n")
            self.assertEqual((cue.speaker, cue.text.replace(" ", "")), ("", piece.replace(" ", "") * 200_000))

    def test_moments(self) -> None:
        self.assertEqual([transcripts.stamp(s) for s in (0, 65, 3605)], ["0:00", "1:05", "1:00:05"])


class Services(Town):
    def ask(self, path: str, **more: Any) -> services.Question:
        return services.Question(f"{self.town.url}{path}", headers={"Authorization": "Bearer contacts-key"}, **more)

    def test_pages_are_followed_in_each_way(self) -> None:
        for paging in (
            services.Paging("link"),
            services.Paging("field", "$.next"),
            services.Paging("number", name="page"),
        ):
            with self.subTest(paging.how):
                found, _ = services.ask_all(self.web, self.ask("/contacts"), "$.contacts[*].id", paging)
                self.assertEqual(found, ["C-1041", "C-1042", "C-1043"])

    def test_a_refusal_is_told_in_the_words_of_the_service(self) -> None:
        with self.assertRaisesRegex(OutsideError, "Nobody with the address"):
            services.ask(self.web, self.ask("/contacts", query={"email": "x@y.example"}))
        with self.assertRaisesRegex(OutsideError, "key is missing"):
            services.ask(self.web, services.Question(f"{self.town.url}/contacts"))
        self.fault("contacts", "cut")
        with self.assertRaisesRegex(OutsideError, "cut off or damaged"):
            services.ask(self.web, self.ask("/contacts"))

    def test_values_are_picked_and_bad_paths_named(self) -> None:
        data = {"a": [{"b": 1}, {"b": 2}]}
        self.assertEqual(jsonpath.pick(data, "$.a[?@.b > 1].b"), [2])
        for path in ("", "a", "$[", "$..[?("):
            with self.subTest(path):
                self.assertIn("JSONPath", jsonpath.check(path))

    def job(self, body: Any = None, **more: Any) -> dict[str, Any]:
        headers = {"Idempotency-Key": str(more.pop("key", id(more)))}
        question = services.Question(
            f"{self.town.url}/render/jobs", "POST", headers, body=body or {"script": "Good morning to you."}
        )
        job = services.Job(**{"every": 0.2, "longest": 20.0, **more})
        looked = services.hand_in(self.web, question, job)
        began = time.monotonic()
        while not looked.over:
            time.sleep(looked.again_in)
            looked = services.look_after(self.web, looked.place, headers, job, time.monotonic() - began)
        return {"result": looked.result}

    def test_a_job_is_waited_for(self) -> None:
        found = self.job(result="$.video", key="one")
        self.assertIn("/render/films/", found["result"])
        self.assertEqual(self.job(result="$.video", key="one")["result"], found["result"], "the same key is the same job")
        self.assertEqual(len(self.town.state.jobs), 1)

    def test_one_that_fails_is_never_ready_or_refused_says_so(self) -> None:
        self.fault("render", "failing")
        self.assertRaisesRegex(OutsideError, "does not speak this language", self.job, key="two")
        self.fault("render", "stuck")
        self.assertRaisesRegex(OutsideError, "not ready after", self.job, key="three", longest=2.5)
        self.town.state.faults.clear()
        self.assertRaisesRegex(OutsideError, "needs a script", self.job, {"script": " "})

    def test_a_service_that_does_not_say_where_to_look(self) -> None:
        answer = answering(b'{"status": "queued"}', "Content-Type: application/json\r\n", "202 Accepted")
        server, web = raw(self, answer)
        with self.assertRaisesRegex(OutsideError, "where to look"):
            services.hand_in(web, services.Question(server.url, "POST", body={}), services.Job())


class Files(Town):
    def setUp(self) -> None:
        super().setUp()
        import base64

        told = base64.b64encode(b"office:files-key").decode()
        self.store = filestore.Folder(f"{self.town.url}/files/", {"Authorization": f"Basic {told}"})

    def test_folders_and_files(self) -> None:
        top = filestore.listing(self.web, self.store)
        self.assertEqual([one.name for one in top], ["briefs", "reports", "tables"])
        self.assertTrue(all(one.folder for one in top))
        inner = filestore.listing(self.web, self.store, "briefs")
        self.assertEqual([one.path for one in inner], ["briefs/spring-letter.docx", "briefs/style.md"])
        self.assertIn(b"How we write", filestore.fetch(self.web, self.store, "briefs/style.md").body)

    def test_what_is_not_there_or_not_allowed(self) -> None:
        for path, words in (("briefs/none.md", "no file"), ("../secrets", "leads out")):
            with self.subTest(path), self.assertRaisesRegex(OutsideError, words):
                filestore.fetch(self.web, self.store, path)
        with self.assertRaisesRegex(OutsideError, "no folder"):
            filestore.listing(self.web, self.store, "none")
        with self.assertRaisesRegex(OutsideError, "does not accept the key"):
            filestore.listing(self.web, filestore.Folder(self.store.url))

    def test_a_store_that_misbehaves(self) -> None:
        for mode, words in (("down", "fault of its own"), ("garbage", "file store")):
            self.fault("files", mode)
            with self.subTest(mode), self.assertRaisesRegex(OutsideError, words):
                filestore.listing(self.web, self.store)


class FeedLists(unittest.TestCase):
    def test_out_and_in_again(self) -> None:
        feeds = [
            opml.Outline("Letter", "https://a.example/feed", "https://a.example/", "News"),
            opml.Outline("B & C", "https://b.example/f"),
        ]
        self.assertEqual(sorted(opml.parse(opml.write(feeds, "Ours")), key=lambda f: f.feed), feeds)

    def test_what_is_none(self) -> None:
        for body in (b"", b"<html/>", b"x", b"<opml"):
            with self.subTest(body):
                try:
                    self.assertEqual(opml.parse(body), [])
                except OutsideError as error:
                    self.assertIn("OPML", error.message)


if __name__ == "__main__":
    unittest.main()
