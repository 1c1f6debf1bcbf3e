"""Micropub as the standard says it, with servers of every kind: what they take, where their endpoint is, what their lists tell."""

from __future__ import annotations

import time
from urllib.parse import parse_qsl, urlsplit

from practice_town.state import Network
from tests.protocols.outside import WithTown, answering, raw
from tests.protocols.test_pictures import photo
from ulmus.protocols import micropub
from ulmus.protocols.errors import OutsideError


class WithNetwork(WithTown):
    def setUp(self) -> None:
        super().setUp()
        self.endpoint = micropub.Endpoint(f"{self.town.url}/pondside/micropub", "pond-token")
        self.network = self.town.state.network = Network()
        self.town.state.posts.clear()


class Servers(WithNetwork):
    def create(self, key: str = "k", text: str = "Hello", **more: object) -> micropub.Created:
        return micropub.create(self.web, self.endpoint, micropub.Post(text, key, **more))  # type: ignore[arg-type]

    def test_servers_that_take_forms_only_or_json_only(self) -> None:
        for takes in ("forms", "json"):
            self.network.takes = takes
            self.assertTrue(self.create(takes, categories=("seed",)).there)
        self.assertEqual([p["uid"] for p in self.town.state.posts], ["forms", "json"])

    def test_the_endpoint_is_found_from_the_sites_address(self) -> None:
        self.endpoint = micropub.Endpoint(f"{self.town.url}/pondside/home", "pond-token")
        self.assertIn("/pondside/posts/1", self.create().link)
        self.assertIn("destination", micropub.config(self.web, self.endpoint))

    def test_and_from_a_link_header(self) -> None:
        server, web = raw(
            self,
            answering(b"", 'Link: <https://other.example/x>; rel="other", </mp>; rel="micropub"\r\nLocation: /p/1\r\n', "200 OK"),
        )
        self.assertEqual(micropub.discovered(web, micropub.Endpoint(server.url, "t")).url, f"{server.url}mp")

    def test_an_endpoint_with_a_query_of_its_own_keeps_it(self) -> None:
        server, web = raw(self, answering(b'{"items": []}', "Content-Type: application/json\r\n"))
        micropub.find(web, micropub.Endpoint(f"{server.url}mp?site=1&q=x", ""), "k")
        line = server.requests[-1].decode().split(" ")[1]
        self.assertEqual(parse_qsl(urlsplit(line).query), [("site", "1"), ("q", "x"), ("q", "source"), ("limit", "100")])

    def test_a_picture_goes_to_the_media_endpoint_where_there_is_one(self) -> None:
        for media in (True, False):
            self.web.memory("micropub: configurations", micropub.MOST_KNOWN, micropub.KNOWN_FOR).clear()
            self.network.media = media
            self.create(f"m{media}", photos=(micropub.Picture(("a.jpg", "image/jpeg", photo())),))
        first, second = self.town.state.posts
        self.assertIn("/pondside/media/1", first["photo"])
        self.assertTrue(second["photo"].startswith("data:image/jpeg"))

    def test_answers_that_say_nothing_are_doubt(self) -> None:
        for status in ("302 Found", "200 OK", "500 Internal Server Error", "502 Bad Gateway"):
            server, web = raw(self, answering(b"", "Location: /elsewhere\r\n", status))
            with self.subTest(status), self.assertRaises(OutsideError) as caught:
                micropub.create(web, micropub.Endpoint(f"{server.url}mp", "t"), micropub.Post("x", "k"))
            self.assertTrue(caught.exception.ambiguous)
            self.assertEqual(sum(r.startswith(b"POST") for r in server.requests), 1, "it is not sent on by itself")

    def test_answers_that_say_it_was_not_taken_are_none(self) -> None:
        for status in ("503 Service Unavailable", "429 Too Many Requests", "400 Bad Request", "403 Forbidden"):
            server, web = raw(self, answering(b"{}", "Retry-After: 7\r\n", status))
            with self.subTest(status), self.assertRaises(OutsideError) as caught:
                micropub.create(web, micropub.Endpoint(f"{server.url}mp", "t"), micropub.Post("x", "k"))
            self.assertFalse(caught.exception.ambiguous)

    def test_accepted_and_taken_without_an_address(self) -> None:
        self.network.accepts = 60.0
        self.assertFalse(self.create("a").there)
        self.network.accepts, self.network.location = 0.0, False
        self.assertEqual(self.create("b"), micropub.Created("", True))


class Lists(WithNetwork):
    def fill(self, count: int) -> None:
        for n in range(count):
            self.town.state.posts.append(
                {"id": n + 1, "content": f"{n}", "uid": f"u{n}", "at": time.time() - 5000 + n, "by": "x", "photo": ""}
            )

    def find(self, key: str = "not there", since: float | None = None, **more: object) -> micropub.Looked:
        return micropub.find(self.web, self.endpoint, key, time.time() if since is None else since, **more)  # type: ignore[arg-type]

    def test_every_page_is_read(self) -> None:
        self.fill(120)
        self.network.most = 7
        self.assertIn("/posts/1", self.find("u0", since=0.0).link or "")
        self.network.dates = False
        self.assertTrue(self.find().tells)

    def test_a_full_list_without_pages_cannot_tell(self) -> None:
        self.fill(60)
        self.network.pages, self.network.most, self.network.dates = False, 50, False
        looked = self.find("u3")
        self.assertEqual((looked.link, looked.tells), (None, False))
        self.assertIn("cut", looked.why)

    def test_a_short_list_without_pages_can(self) -> None:
        self.fill(9)
        self.network.pages, self.network.dates = False, False
        self.assertTrue(self.find().tells)

    def test_a_list_without_keys_cannot(self) -> None:
        self.fill(3)
        self.network.keys = False
        self.assertFalse(self.find("u1").tells)

    def test_one_that_reaches_back_behind_the_attempt_can(self) -> None:
        self.fill(60)
        self.network.pages, self.network.most = False, 20
        self.assertTrue(self.find().tells)
        self.assertFalse(self.find(since=time.time() - 5000).tells, "not behind this one")

    def test_one_that_shows_earlier_posts_of_ours_in_their_order_can(self) -> None:
        self.fill(60)
        self.network.pages, self.network.most, self.network.dates = False, 20, False
        earlier = {"u50": 100.0, "u45": 90.0}
        self.assertTrue(self.find(since=200.0, earlier=earlier).tells)
        self.assertFalse(self.find(since=200.0, earlier={"u50": 90.0, "u45": 100.0}).tells, "oldest first proves nothing")
        self.assertFalse(self.find(since=200.0, earlier={"u50": 100.0}).tells, "nor does one alone")
