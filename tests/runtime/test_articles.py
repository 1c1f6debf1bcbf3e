"""Articles, posts with all that goes along, and listings: as they stand in the town, once each, and changed where they stand."""

from __future__ import annotations

from typing import Any

from tests.protocols.test_pictures import photo
from tests.runtime.house import WHO, WithHouse
from ulmus.runtime import files, workflows
from ulmus.store import tables

QUICK = {"retries": 2, "wait": 0.05}
ITEM = {"title": "Seed & water", "text": "A first paragraph.\n\n## A head\n\n* one\n* two <script>alert(1)</script>"}
PLACES = "Lock 9 = lock-9\nSeed Barn = seed-barn"
SHAPE = (
    '{"text": <<text>>, "place": <<place>>, "photo": <<photo>>, "alt": <<photo_words>>, "reference": <<key>>,'
    ' "button": {"kind": <<button>>, "url": <<link>>}}'
)


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": QUICK}


class Publishing(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        seal, town = self.services.sealer.seal, self.town.url
        blog = {"url": f"{town}/blog/app", "user": "editor", "lists_within": 0.1}
        market = {
            "base_url": f"{town}/market/api",
            "path": "/offers",
            "shape": SHAPE,
            "places": PLACES,
            "buttons": "See more = see\nOrder = order",
            "limit": 1000,
            "photos": "/photos",
            "link_in": "$.address",
            "seen_at": "/offers",
            "seen_in": "$.offers[*].reference",
            "shows_within": 0.1,
        }
        with self.services.store.write() as session:
            for key, kind, settings, secrets in (
                ("review", "blog", blog, {"password": "towpath-key"}),
                ("market", "listing", market, {"key": "market-key"}),
            ):
                session.add(tables.Connection(key=key, kind=kind, name=key.title(), settings=settings, sealed=seal(secrets)))
        self.town.state.posts.clear()

    def kept_photo(self) -> str:
        return str(files.keep(self.services, "lock.jpg", "image/jpeg", photo())["link"])

    def run_on(self, *steps: dict[str, Any], item: dict[str, Any] = ITEM) -> int:
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Out", "start": start, "steps": list(steps)})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "Out", "body": item})
        assert run is not None
        return run

    def value(self, run: int, step: str, name: str) -> Any:
        return self.engine.live(run).state.values[step][name]

    def article(self, **more: Any) -> dict[str, Any]:
        told = {"channel": "review", "title": "<<item.body.title>>", "text": "<<item.body.text>>"}
        return step("article", "publish_article", **{**told, **more})


class Articles(Publishing):
    def test_from_markdown_on_a_blog_with_its_pictures_where_readers_see_them(self) -> None:
        link = self.kept_photo()
        text = f"<<item.body.text>>\n\n![A lock]({link})"
        run = self.run_on(
            self.article(text=text, picture=link, picture_words="Lock 9 at dawn", categories="Water, #Seed", summary="Short")
        )
        self.until(run, "done")
        (entry,) = self.town.state.entries
        self.assertEqual((entry["title"], entry["categories"], entry["summary"]), ("Seed & water", ["Water", "Seed"], "Short"))
        self.assertIn("<h2>A head</h2>", entry["content"])
        self.assertNotIn("<script", entry["content"])
        self.assertNotIn("/api/files/", entry["content"], "nobody outside could fetch it here")
        self.assertEqual(entry["content"].count("/pondside/media/"), 2)
        self.assertIn('alt="Lock 9 at dawn"', entry["content"])
        self.assertEqual(self.value(run, "article", "link"), f"{self.town.url}/blog/1")

    def test_a_lost_answer_is_found_out_about_although_the_blog_keeps_doubles(self) -> None:
        self.fault("blog", "lost", 1)
        run = self.run_on(self.article())
        self.until(run, "done", seconds=30)
        self.assertEqual(len(self.town.state.entries), 1)
        self.assertEqual(self.value(run, "article", "link"), f"{self.town.url}/blog/1")

    def test_two_of_the_same_words_are_two_where_both_were_meant(self) -> None:
        self.until(self.run_on(self.article()), "done")
        self.town.state.entries[0]["edited"] -= 60
        self.fault("blog", "down", 1)
        self.until(self.run_on(self.article()), "done", seconds=30)
        self.assertEqual(len(self.town.state.entries), 2)

    def test_a_fault_before_it_was_taken_is_tried_again(self) -> None:
        self.fault("blog", "down", 1)
        self.until(self.run_on(self.article()), "done", seconds=30)
        self.assertEqual(len(self.town.state.entries), 1)

    def test_one_that_is_there_is_changed_in_its_place(self) -> None:
        again = self.article(title="A new title", text="New.", changes="<<first.link>>")
        first = {**self.article(), "id": "first"}
        self.until(self.run_on(first, again), "done")
        (entry,) = self.town.state.entries
        self.assertEqual((entry["title"], entry["content"].strip()), ("A new title", "<p>New.</p>"))

    def test_by_micropub_too_as_a_draft_and_changed(self) -> None:
        first = {**self.article(channel="pond", state="draft", categories="Water"), "id": "first"}
        again = self.article(channel="pond", title="Later", text="<p>Changed</p>", written="html", changes="<<first.link>>")
        run = self.run_on(first, again)
        self.until(run, "done")
        (post,) = self.town.state.posts
        self.assertEqual((post["name"], post["content"], post["draft"]), ("Later", "<p>Changed</p>", False))
        self.assertEqual(self.value(run, "article", "link"), self.value(run, "first", "link"))

    def test_without_a_title_or_anything_that_can_be_shown_nothing_goes_out(self) -> None:
        for settings, words in (
            ({"title": " <<item.body.none>>"}, ""),
            ({"text": "<script>1</script>", "written": "html"}, "can be shown"),
        ):
            run = self.run_on(self.article(**settings))
            self.assertIn(words, self.until(run, "failed").message)
        self.assertEqual(self.town.state.entries, [])


class Posts(Publishing):
    def post(self, **more: Any) -> dict[str, Any]:
        return step("post", "publish_post", **{"channel": "pond", "text": "Seed by the water", **more})

    def test_pictures_with_words_tags_what_it_answers_and_where_else_it_goes(self) -> None:
        for media in (True, False):
            with self.subTest(media=media):
                self.town.state.posts.clear()
                self.town.state.network.media = media
                self.services.web.memory("micropub: configurations", 1000, 600).clear()
                more = {
                    "photo": self.kept_photo(),
                    "photo_words": "A lock",
                    "tags": "seed, #water\nseed",
                    "also": "mossgate, The Weir",
                }
                self.until(self.run_on(self.post(**more, answers="https://pond.example/p/1")), "done", "failed")
                (post,) = self.town.state.posts
                self.assertEqual((post["alt"], post["tags"], post["also"]), ("A lock", ["seed", "water"], ["mossgate", "the-weir"]))
                self.assertEqual(post["answers"], "https://pond.example/p/1")
                self.assertTrue(post["photo"])

    def test_a_place_the_network_does_not_offer_is_refused_before_anything_goes_out(self) -> None:
        run = self.run_on(self.post(also="Elsewhere"))
        self.assertIn("it offers “Mossgate”, “The Weir”", self.until(run, "failed").message)
        self.assertEqual(self.town.state.posts, [])


class Listings(Publishing):
    def listing(self, **more: Any) -> dict[str, Any]:
        told = {
            "channel": "market",
            "text": "Beans are in.",
            "place": "seed barn",
            "button": "order",
            "link": "https://a.example/beans",
        }
        return step("listed", "publish_listing", **{**told, **more})

    def test_with_photo_button_and_place_as_the_service_wants_it(self) -> None:
        run = self.run_on(self.listing(photo=self.kept_photo(), photo_words="Beans"))
        self.until(run, "done")
        (offer,) = self.town.state.offers
        self.assertEqual((offer["place"], offer["button"]), ("seed-barn", {"kind": "order", "url": "https://a.example/beans"}))
        self.assertEqual(offer["alt"], "Beans")
        self.assertEqual(self.services.web.fetch(offer["photo"]).body, photo())
        self.assertTrue(self.value(run, "listed", "link").endswith("/market#offer-1"))

    def test_without_a_button_none_is_sent(self) -> None:
        self.until(self.run_on(self.listing(button="", link="")), "done")
        self.assertNotIn("button", self.town.state.offers[0])

    def test_a_lost_answer_is_found_by_the_key_that_stands_in_it(self) -> None:
        self.fault("listing", "lost", 1)
        self.until(self.run_on(self.listing()), "done", seconds=30)
        self.assertEqual(len(self.town.state.offers), 1, "the service keeps doubles")

    def test_what_does_not_fit_is_refused_here_in_words(self) -> None:
        for settings, words in (
            ({"place": "Elsewhere"}, "knows no place “Elsewhere”; there are “Lock 9”, “Seed Barn”"),
            ({"place": ""}, "Say which place"),
            ({"button": "Dance"}, "has no button “Dance”"),
            ({"link": ""}, "leads nowhere"),
            ({"text": "x" * 1001}, "at most 1000 characters"),
        ):
            with self.subTest(words=words):
                self.assertIn(words, self.until(self.run_on(self.listing(**settings)), "failed").message)
        self.assertEqual(self.town.state.offers, [])
