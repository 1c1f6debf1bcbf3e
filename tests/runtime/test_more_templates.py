"""More templates carried out to their very ends: what stands in the network, the room, the folder and the sheet; also where an outside
fails in the middle, and the run is taken up."""

from __future__ import annotations

import itertools
from typing import Any
from unittest import mock

from practice_town import recordings
from tests.runtime.house import WHO
from tests.runtime.test_templates_live import FromATemplate
from ulmus.core import flow
from ulmus.core.drafting.repeats import Nearest, Published
from ulmus.runtime import sheets, workflows
from ulmus.store import tables


class Topics(FromATemplate):
    connections = ("team_room",)

    def topics(self) -> int:
        self.sheet(
            "topics",
            "Topics",
            {"Topic": "Brown runner beans for cold ground", "Post": "", "Link": "", "Used": ""},
            {"Topic": "Leek seed takes twelve plants", "Post": "", "Link": "", "Used": ""},
        )
        id_ = self.made(self.page_of("topic-list-to-posts", {}).model_dump(mode="json", exclude_none=True))
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def next_row(self, id_: int) -> int:
        """The day's row, as the clock would bring it."""
        with self.services.store.write() as session:
            start = session.get_one(tables.Start, id_)
            start.memory, start.next_at = {**start.memory, "due": self.services.clock() - 4 * 86_400}, 0
        known = self.runs_of(id_)
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: len(self.runs_of(id_)) > len(known))
        return max(self.runs_of(id_))

    def runs_of(self, id_: int) -> list[int]:
        with self.services.store.read() as session:
            return [run.id for run in session.query(tables.Run).filter_by(workflow_id=id_)]

    def test_the_next_unused_row_becomes_a_post_and_a_message_and_both_stand_beside_it(self) -> None:
        id_ = self.topics()
        run = self.next_row(id_)
        self.answer(run, despite=True)
        self.ends(run)
        first, second = self.rows("topics")
        self.assertEqual(first["Post"], self.posts()[0])
        self.assertTrue(first["Link"].startswith(self.town.url) and first["Used"], first)
        self.assertEqual(second["Used"], "")
        self.assertEqual(len(self.town.state.messages), 1)
        again = self.next_row(id_)
        self.answer(again, despite=True)
        self.ends(again)
        self.assertTrue(all(row["Used"] and row["Post"] for row in self.rows("topics")))
        self.assertEqual(len(set(self.posts())), 2)

    def test_where_the_room_fails_the_post_stands_and_the_room_is_made_up_for_alone(self) -> None:
        self.fault("room", "down")
        id_ = self.topics()
        run = self.next_row(id_)
        self.answer(run, despite=True)
        self.until(run, "unsure", seconds=60)
        with self.services.store.read() as session:
            (doubt,) = session.query(tables.Piece).filter_by(run_id=run, state="unsure")
        self.engine.outbox.decide(doubt.id, "drop", WHO)
        self.until(run, "failed", seconds=60)
        self.assertEqual((len(self.posts()), len(self.town.state.messages)), (1, 0))
        self.assertTrue(self.rows("topics")[0]["Used"], "the row is used all the same")
        self.fault("room", "")
        self.engine.outsides.forgive("connection:team_room")
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="destinations:2/room"))
        self.until(run, "done", seconds=60)
        self.assertEqual((len(self.posts()), len(self.town.state.messages)), (1, 1))


class Recording(FromATemplate):
    def test_teaser_link_and_chapters_go_out_as_one_post(self) -> None:
        slug = next(iter(recordings.episodes()))
        item = {
            "title": "An episode",
            "link": f"{self.town.url}/radio/{slug}",
            "image": f"{self.town.url}/radio/cover.png",
            "transcript": "",
            "enclosure": "",
        }
        document = self.page_of("new-recording", {}).model_dump(mode="json", exclude_none=True)
        self.assertNotIn("channel", document["steps"][-1]["settings"], "where to is a gap")
        document["steps"][-1]["settings"]["channel"] = "pond"
        document["start"]["settings"]["url"] = f"{self.town.url}/radio/feed.rss"
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, item)
        assert run is not None
        self.answer(run, despite=True)
        self.ends(run)
        (post,) = self.posts()
        self.assertIn(item["link"], post)
        self.assertGreater(len(post.split("\n")[0]), 30, "a teaser above")
        self.assertLessEqual(len(post), 300)
        whole = str(self.engine.live(run).state.values["post"]["text"])
        chapters = [line for line in whole.splitlines() if line[:1].isdigit()]
        self.assertGreater(len(chapters), 2, whole)
        kept = [line for line in post.splitlines() if line[:1].isdigit()]
        self.assertEqual(kept, chapters[: len(kept)], "what is too long loses chapters at the end, and nothing else")


class TwoLines(FromATemplate):
    def test_each_lead_has_both_beside_it_and_a_bad_site_harms_nobody(self) -> None:
        empty = {"Company": "", "Site": "", "Opening": "", "PS": ""}
        self.sheet("leads", "Leads", empty)
        id_ = self.made(self.page_of("two-personal-lines", {}).model_dump(mode="json", exclude_none=True))
        workflows.go_live(self.engine, id_, WHO)
        leads = [
            {"Company": "Varley Kitchen Gardens", "Site": f"{self.town.url}/companies/varley"},
            {"Company": "Nobody", "Site": f"{self.town.url}/companies/nobody-at-all"},
            {"Company": "Nowhere", "Site": "https://nowhere.invalid/"},
            {"Company": "Varley again", "Site": f"{self.town.url}/companies/varley"},
        ]
        with self.services.store.write() as session:
            sheets.add_rows(session, session.get_one(tables.Sheet, "leads"), leads)
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: sum(bool(row.get("PS")) for row in self.rows("leads")) >= 2, lambda: str(self.rows("leads")), 60)
        rows = {row["Company"]: row for row in self.rows("leads")}
        for company in ("Varley Kitchen Gardens", "Varley again"):
            self.assertTrue(rows[company]["Opening"] and rows[company]["PS"], rows[company])
        for company in ("Nobody", "Nowhere"):
            self.assertFalse(rows[company].get("Opening"), rows[company])


class Rotating(FromATemplate):
    def posting(self) -> int:
        document = self.page_of("rotating-posts", {}).model_dump(mode="json", exclude_none=True)
        document["start"] = {"id": document["start"]["id"], "kind": "by_hand"}
        document["steps"][-1]["settings"]["channel"] = "pond"
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def drawn(self, run: int) -> list[str]:
        with self.services.store.read() as session:
            events = [row.event for row in session.query(tables.JournalEntry).filter_by(run_id=run)]
        return [e["output"]["picked"] for e in events if e["event"] == "done" and e["address"].endswith("/topic")]

    def test_where_a_draft_cannot_be_made_unlike_what_went_out_another_theme_is_drawn(self) -> None:
        id_ = self.posting()
        for most, state, posts in ((4, "done", 1), (10**6, "failed", 1)):
            with self.subTest(most=most):
                asked: list[str] = []

                def nearest(_: Published, draft: str, asked: list[str] = asked, most: int = most) -> Nearest:
                    asked.append(draft)
                    return Nearest(0, 0.95 if len(asked) <= most else 0.1, "What went out before.")

                with mock.patch.object(Published, "nearest", nearest):
                    run = self.engine.runs.push(id_, {"title": f"At most {most}"})
                    assert run is not None
                    self.until(run, "done", "failed", seconds=60)
                themes = self.drawn(run)
                self.assertEqual((self.run_of(run).state, len(self.posts())), (state, posts), themes)
                self.assertTrue(len(themes) == len(set(themes)) > 1, themes)

    def test_no_theme_comes_again_soon_and_each_post_keeps_its_rules(self) -> None:
        id_ = self.posting()
        themes = []
        for n in range(4):
            run = self.engine.runs.push(id_, {"title": f"Round {n}"})
            assert run is not None
            self.until(run, "done", "failed", "stuck", seconds=40)
            themes.append(self.engine.live(run).state.values["topic"])
        drawn = [str(theme["picked"]) for theme in themes]
        # One drawn anew, because its draft was like another, counts as drawn: three of four are different at the least.
        self.assertTrue(all(one != after for one, after in itertools.pairwise(drawn)) and len(set(drawn)) >= 3, drawn)
        posts = self.posts()
        self.assertTrue(posts)
        self.assertTrue(all(len(post) <= 300 for post in posts))


class Stories(FromATemplate):
    connections = ("valley_news",)

    def test_found_stories_become_rows_once_and_each_its_texts(self) -> None:
        self.sheet("stories", "Stories", {"Title": "", "Link": "", "Summary": "", "Found": ""})
        self.sheet(
            "liked", "Liked examples", {"Text": "Soak the beans overnight. In the morning they are twice as large. Sow them then."}
        )
        self.sheet(
            "texts", "Texts", dict.fromkeys(("Story", "Link", "Main text", "Comment", "Date", "Used", "Post", "Commented"), "")
        )
        second = self.made(self.page_of("story-to-texts", {}).model_dump(mode="json", exclude_none=True))
        workflows.go_live(self.engine, second, WHO)
        self.engine.polling.look_at(second)
        gaps = {"<<? your trade, such as heritage seed>>": "seed"}
        self.ends(self.begin("stories-to-rows", {"title": "This morning"}, gaps))
        found = self.rows("stories")
        self.assertTrue(found)
        self.assertEqual(len({row["Link"] for row in found}), len(found))
        self.engine.polling.look_at(second)
        self.wait_for(lambda: len(self.rows("texts")) == len(found), lambda: str(self.rows("texts"))[:500], 90)
        for row in self.rows("texts"):
            self.assertTrue(row["Main text"] and row["Comment"] and row["Link"], row)


class Kit(FromATemplate):
    connections = ("brushes", "office_files")

    def test_three_pictures_and_the_words_lie_in_a_folder_of_its_name(self) -> None:
        item = {
            "name": "Midsummer pea", "tagline": "Sow in June, eat in August", "category": "a climbing pea",
            "benefit": "a second harvest when others have none",
        }  # fmt: skip
        document = self.page_of("launch-kit", {}).model_dump(mode="json", exclude_none=True)
        for step in document["steps"]:
            for name, key in (("maker", "brushes"), ("store", "office_files")):
                if name in step["settings"]:
                    step["settings"][name] = key
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {**item, "photo": {}, "title": "Midsummer pea"})
        assert run is not None
        self.answer(run, despite=True)
        self.ends(run)
        folder = self.town.files / "Kits" / "Midsummer pea"
        names = sorted(path.suffix for path in folder.iterdir())
        self.assertEqual(names, [".html", ".png", ".png", ".png"], list(folder.iterdir()))
        words = next(folder.glob("*.html")).read_text("utf-8")
        self.assertIn("pea", words.lower())


class Assistant(FromATemplate):
    connections = ("valley_news",)

    def test_it_looks_reads_asks_before_its_first_act_and_lists_what_it_found(self) -> None:
        self.sheet("posts", "Posts", {"Date": "", "Title": "", "Post": ""})
        document = self.page_of("standing-assistant", {}).model_dump(mode="json", exclude_none=True)
        document["start"] = {"id": document["start"]["id"], "kind": "by_hand"}
        (assignment,) = document["steps"]
        assignment["settings"] |= {"who": WHO, "goal": "Find what is new about seed. Read two articles and post the best of them."}
        told: dict[str, Any] = {"service": "valley_news", "channel": "pond", "sheet": "posts"}
        for step in assignment["steps"]:
            step["settings"] |= {name: key for name, key in told.items() if name in step["settings"]}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "This morning"})
        assert run is not None
        self.until(run, "asking", seconds=40)
        self.assertEqual(self.posts(), [])
        self.answer(run)
        while self.until(run, "done", "asking", "failed", seconds=40).state == "asking":
            self.answer(run)
        gave = self.ends(run)["assistant"]
        self.assertEqual(len(self.posts()), 1)
        self.assertTrue(gave.get("items") or gave.get("list") or gave.get("results"), gave)
