"""Feeds that name a hub: it is asked to tell, asks back, and its word has the feed looked at at once; whatever it does, nothing is lost."""

from __future__ import annotations

import hmac
import threading
import unittest
from unittest import mock

from werkzeug.serving import WSGIRequestHandler, make_server

from tests.api.visitor import WithApi
from tests.runtime.house import WHO, page
from tests.short import some
from ulmus.protocols import feeds, websub
from ulmus.protocols.net import Fetched
from ulmus.runtime import hubs, workflows
from ulmus.store import tables

ATOM = b"""<feed xmlns="http://www.w3.org/2005/Atom"><title>F</title><id>f</id>%s
<entry><title>One</title><id>1</id><link href="https://a.example/1"/></entry></feed>"""


def with_hub(body: bytes, headers: dict[str, str] | None = None, url: str = "https://a.example/feed") -> tuple[str, str]:
    got = Fetched(url, 200, headers or {}, body)
    feed = feeds._with_hub(feeds.parse(body, None, url), got)
    return feed.hub, feed.topic


class Named(unittest.TestCase):
    def test_a_hub_is_found_wherever_a_feed_may_name_it(self) -> None:
        links = b'<link rel="hub" href="https://hub.example/"/><link rel="self" href="https://a.example/own"/>'
        wanted = ("https://hub.example/", "https://a.example/own")
        self.assertEqual(with_hub(ATOM % links), wanted)
        rss = b"""<rss version="2.0" xmlns:atom="http://www.w3.org/2005/Atom"><channel><title>F</title>
<atom:link rel="self" href="https://a.example/own"/><atom:link rel="hub" href="https://hub.example/"/><item><title>One</title></item></channel></rss>"""
        self.assertEqual(with_hub(rss), wanted)
        told = b'{"version": "https://jsonfeed.org/version/1.1", "title": "F", "items": [{"id": "1", "title": "One"}], "feed_url": "https://a.example/own", "hubs": [1, {"type": "other", "url": "x"}, {"type": "WebSub", "url": "https://hub.example/"}]}'
        self.assertEqual(with_hub(told), wanted)
        head = {"link": '<https://a.example/own>; rel="self", <https://hub.example/>; type="x"; rel=hub'}
        self.assertEqual(with_hub(ATOM % b"", head), wanted)
        self.assertEqual(
            with_hub(ATOM % links, {"link": '<https://other.example/>; rel="hub"'})[0], "https://other.example/", "the head first"
        )

    def test_without_one_or_with_one_that_is_none_there_is_none(self) -> None:
        for links in (
            b"",
            b'<link rel="self" href="https://a.example/own"/>',
            b'<link rel="hub" href="javascript:x"/>',
            b'<link rel="hub" href=""/>',
        ):
            with self.subTest(links=links):
                self.assertEqual(with_hub(ATOM % links), ("", ""))
        self.assertEqual(with_hub(ATOM % b'<link rel="hub" href="/hub"/>'), ("https://a.example/hub", "https://a.example/feed"))
        self.assertEqual(with_hub(ATOM % (b'<link rel="hub" href="https://hub.example/%s"/>' % (b"x" * 3000))), ("", ""))

    def test_what_is_signed_is_told_from_what_is_not(self) -> None:
        body = b"anything"
        good: dict[str, str] = {}
        for name, method in websub.METHODS.items():
            good[name] = f"{name}={hmac.new(b'secret', body, method).hexdigest()}"
            self.assertTrue(websub.is_signed("secret", good[name], body), name)
            self.assertTrue(websub.is_signed("secret", f" {good[name].upper()} ", body), name)
            self.assertFalse(websub.is_signed("other", good[name], body))
            self.assertFalse(websub.is_signed("secret", good[name], body + b"!"))
        for header in ("", "sha256=", "sha256", "md5=" + "0" * 32, "=x", "sha256=ü", good["sha256"].replace("sha256", "sha512")):
            self.assertFalse(websub.is_signed("secret", header, body), header)


class Quiet(WSGIRequestHandler):
    def log_request(self, *_: object) -> None:
        """Say nothing."""


class Told(WithApi):
    """A house that the town's hub can reach."""

    polling = False

    def setUp(self) -> None:
        super().setUp()
        server = make_server("127.0.0.1", 0, self.app, threaded=True, request_handler=Quiet)
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 5)
        self.addCleanup(server.shutdown)
        self.services.public_url = f"http://127.0.0.1:{server.port}"

    def listening(self, name: str = "feed.atom") -> int:
        document = page(self.town.url, feed={"url": f"{self.town.url}/sites/cutside-courier/{name}", "every": 604_800})
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        self.engine.hubs.reset(0)
        self.engine.hubs.tick(self.services.clock())
        return id_

    def line(self, id_: int) -> tables.HubLine | None:
        with self.services.store.read() as session:
            return session.get(tables.HubLine, id_)

    def agreed(self, id_: int) -> None:
        self.wait_for(lambda: (line := self.line(id_)) is not None and line.until is not None)
        self.wait_for(lambda: self.engine.hubs.callback(id_) in self.town.state.told)

    def runs(self, id_: int) -> int:
        with self.services.store.read() as session:
            return session.query(tables.Run).filter_by(workflow_id=id_).count()

    def test_a_new_article_begins_a_run_at_once(self) -> None:
        for name in some(("feed.rss", "feed.json", "feed.atom"), 3):
            with self.subTest(name=name):
                id_ = self.listening(name)
                self.agreed(id_)
                self.assertTrue(self.services.clock() + 3600 < (self.line(id_).until or 0))  # type: ignore[union-attr]
                self.engine.polling.enabled = True
                self.town.state.release("cutside-courier")
                self.wait_for(lambda id_=id_: self.runs(id_) == 1)  # type: ignore[misc]
                self.assertIsNotNone(self.line(id_).told_at)  # type: ignore[union-attr]
                self.assertIn("tells of new items", self.owner.get(f"/workflows/{id_}/start")["found"])
                self.engine.polling.enabled = False
                workflows.pause(self.engine, id_, WHO)

    def test_once_nothing_listens_the_hub_is_told_so(self) -> None:
        id_ = self.listening()
        self.agreed(id_)
        self.assertEqual(len(self.town.state.told), 1)
        workflows.pause(self.engine, id_, WHO)
        self.engine.hubs.reset(0)
        self.engine.hubs.tick(self.services.clock())
        self.wait_for(lambda: not self.town.state.told)
        self.assertIsNone(self.line(id_))

    def test_it_is_asked_again_before_its_word_runs_out_and_never_twice_at_once(self) -> None:
        id_ = self.listening()
        self.agreed(id_)
        until = self.line(id_).until or 0  # type: ignore[union-attr]
        asked = self.town.state.counts["hub"]
        for moment in (self.services.clock() + 60, until - 20_000):
            self.engine.hubs.reset(0)
            self.engine.hubs.tick(moment)
        self.assertEqual(self.town.state.counts["hub"], asked)
        self.engine.hubs.reset(0)
        self.engine.hubs.tick(until - 10_000)
        self.wait_for(lambda: self.town.state.counts["hub"] == asked + 1)

    def test_a_hub_that_misbehaves_costs_only_time(self) -> None:
        for mode in some(("refuse", "down", "silent", "stray", "denied"), 2):
            with self.subTest(mode=mode):
                self.fault("hub", mode)
                before = self.town.state.counts.get("hub", 0)
                id_ = self.listening()
                self.wait_for(lambda: self.town.state.counts.get("hub", 0) > before)  # noqa: B023
                if mode in ("refuse", "down", "denied"):
                    self.wait_for(lambda id_=id_: bool(self.line(id_).says))  # type: ignore[misc,union-attr]
                self.assertIsNone(self.line(id_).until)  # type: ignore[union-attr]
                for later in (60.0, 1800.0):
                    self.engine.hubs.reset(0)
                    self.engine.hubs.tick(self.services.clock() + later)
                self.assertEqual(self.town.state.counts["hub"], before + 1, "it is not asked again and again")
                self.assertNotIn("tells of new", self.owner.get(f"/workflows/{id_}/start")["found"])
                self.town.state.release("cutside-courier")
                self.engine.polling.look_at(id_)
                self.assertEqual(self.runs(id_), 1, "it is looked at all the same")
                workflows.pause(self.engine, id_, WHO)
                with self.services.store.write() as session:
                    session.query(tables.HubLine).delete()
                self.fault("hub", "")

    def test_words_that_are_short_are_not_asked_for_all_the_time(self) -> None:
        self.fault("hub", "short")
        id_ = self.listening()
        self.agreed(id_)
        self.assertGreaterEqual((self.line(id_).until or 0) - self.services.clock(), hubs.SHORTEST - 5)  # type: ignore[union-attr]

    def test_who_does_not_sign_is_not_heard_and_learns_nothing(self) -> None:
        id_ = self.listening()
        self.agreed(id_)
        self.fault("hub", "forged")
        self.engine.polling.enabled = True
        self.town.state.release("cutside-courier")
        callback = self.engine.hubs.callback(id_)[len(self.services.public_url) :]
        client = self.app.test_client()
        for headers in ({}, {"X-Hub-Signature": "sha256=" + "0" * 64}):
            self.assertEqual(client.post(callback, data=b"x", headers=headers).status_code, 202)
        threading.Event().wait(1.0)
        self.assertIsNone(self.line(id_).told_at)  # type: ignore[union-attr]
        self.assertEqual(self.runs(id_), 0)

    def test_what_was_never_asked_for_is_not_agreed_to(self) -> None:
        id_ = self.listening()
        self.agreed(id_)
        topic = self.line(id_).topic  # type: ignore[union-attr]
        callback = self.engine.hubs.callback(id_)[len(self.services.public_url) :]
        client = self.app.test_client()

        def asked(place: str = callback, **query: str) -> tuple[int, str]:
            answer = client.get(place, query_string={f"hub.{name}": value for name, value in query.items()})
            return answer.status_code, answer.text

        self.assertEqual(asked(mode="subscribe", topic=topic, challenge="<b>c", lease_seconds="nan"), (200, "<b>c"))
        self.assertLess((self.line(id_).until or 0) - self.services.clock(), websub.WANTED + 1)  # type: ignore[union-attr]
        asked(mode="subscribe", topic=topic, challenge="c", lease_seconds="1e300")
        self.assertLess((self.line(id_).until or 0) - self.services.clock(), hubs.LONGEST + 1)  # type: ignore[union-attr]
        for query in (
            {"mode": "subscribe", "topic": topic + "x"}, {"mode": "subscribe"}, {}, {"mode": "unsubscribe", "topic": topic}, {"mode": "publish", "topic": topic},
        ):  # fmt: skip
            self.assertEqual(asked(challenge="c", **query)[0], 404, query)
        for token in ("x", callback.rpartition("/")[2] + "x", "1.abc"):
            self.assertEqual(asked(f"/hub/{token}", mode="subscribe", topic=topic, challenge="c")[0], 404)
            self.assertEqual(client.post(f"/hub/{token}", data=b"x").status_code, 410)
        self.assertIn("text/plain", client.get(callback).headers["Content-Type"])

    def test_a_house_that_cannot_be_reached_asks_no_hub_on_the_open_network(self) -> None:
        told: dict[str, bool] = {
            "http://127.0.0.1:8420": False, "http://localhost:8420": False, "http://10.0.0.7": False, "http://[::1]:8420": False, "http://ulmus": False,
            "https://ulmus.example": True, "https://house.example:8443": True, "https://203.0.113.9": False, "https://8.8.8.8": True,
        }  # fmt: skip
        for url, reached in told.items():
            with self.subTest(url=url), mock.patch.object(self.services, "public_url", url):
                self.assertEqual(self.engine.hubs._is_reached_by("https://hub.example/"), reached)
                self.assertTrue(self.engine.hubs._is_reached_by(f"{self.town.url}/hub"), "one of the owner's own")

    def test_many_words_at_once_are_one_look(self) -> None:
        id_ = self.listening()
        self.agreed(id_)
        self.fault("hub", "eager")
        self.engine.polling.enabled = True
        before = self.town.state.counts.get("feed", 0)
        self.town.state.release("cutside-courier")
        self.wait_for(lambda: self.runs(id_) == 1)
        threading.Event().wait(1.5)
        self.assertLessEqual(self.town.state.counts["feed"] - before, 2)
