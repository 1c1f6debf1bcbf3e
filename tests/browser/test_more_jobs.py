"""More jobs from a template to their very ends, with sheets that the template brings and what people outside write."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.atwork import ELSEWHERE, FAULTS, AtWork
from tests.short import long

TITLE = "Wet chains wear twice as fast"
TEXT = """Bicycle chains that stay wet wear twice as fast, the repair shop at Aldergate found in a trial of forty chains.

Half of them were wiped and oiled after each ride, and half were left alone. After nine hundred miles the wiped ones had stretched by \
a quarter of a millimetre, the others by half a millimetre.

Hanne Brook, who ran the trial, now oils with a drop for each link. “A chain costs as much as a good dinner,” she says.

The shop lends its measuring tool on Saturdays."""


class MoreJobs(AtWork):
    def write_article(self, paper: str = "The Furrow Letter", title: str = TITLE, text: str = TEXT) -> None:
        """Somebody writes an article in the town about what none of the demonstration's are about."""
        town = self.visitor()
        town.goto(f"{self.demo.town}/control")
        town.get_by_text("Write an article, or change").click()
        town.get_by_label("Paper").select_option(label=paper)
        town.get_by_label("Title", exact=True).fill(title)
        town.get_by_label(re.compile("^Text, an empty")).fill(text)
        town.get_by_role("button", name="Publish it").click()
        expect(town.locator(".say")).to_contain_text("Published: ")

    def look_now(self, line: str) -> None:
        self.line(line).get_by_role("button", name="Look now").first.click()

    def test_a_topic_a_day_beside_its_row_and_out_to_two_places(self) -> None:
        self.begin("A topic a day")
        self.add_rows("topics", {"Topic": "Leeks from seed", "Angle": "Twelve plants are enough to save leek seed from."})
        self.prove({"title": "Leeks from seed", "Topic": "Leeks from seed", "Angle": "Twelve plants are enough"})
        self.go_live()
        self.line("topic").get_by_role("button", name="Start now").first.click()
        self.approve("A topic a day")
        self.soon(lambda: any(row.get("Link") for row in self.rows("topics")), lambda: str(self.rows("topics")), 40)
        row = next(row for row in self.rows("topics") if row.get("Link"))
        self.assertTrue(row["Post"] and row["Used"], row)
        self.in_town("/pondside/", row["Post"].split("\n")[0][:40])
        self.in_town("/room", "Out today: ")

    @long
    def test_a_new_recording_is_announced_with_its_chapters(self) -> None:
        self.begin("A new recording announced")
        self.write("episode", "Feed address", f"{self.demo.town}/radio/feed.rss")
        self.choose("pondside", "Where to", "Pondside")
        self.go_live()
        town = self.visitor()
        town.goto(f"{self.demo.town}/control")
        town.get_by_text("An episode for the radio").click()
        town.get_by_label("Title of the episode").fill("Chains and rain")
        town.get_by_label("What is said").fill(TEXT)
        town.get_by_role("button", name="Put it on the air").click()
        expect(town.locator(".say")).to_contain_text("On the air")
        self.look_now("episode")
        self.approve("A new recording announced")
        self.in_town("/pondside/", "/radio/chains-and-rain")

    @long
    def test_a_brief_beside_each_lead(self) -> None:
        self.begin("A brief on each lead")
        self.choose("news", "Search with", "Valley search")
        self.mended("beside", "Add the 7 columns")
        self.add_rows(self.sheet("What went well"), {"Customer": "The Lock House", "Story": "Their kitchen garden grew our beans."})
        if self.brand:
            # The sheet of offers is the client's own, and new.
            self.add_rows(self.sheet("What we offer"), {"Offer": "A week at walking pace", "About": "six boats, for gardeners too"})
        self.go_live()
        site = f"{self.demo.town}/companies/varley"
        self.add_rows("leads", {"Company": "Varley Kitchen Gardens", "Person": "Ottoline Varley", "Site": site})
        self.soon(lambda: bool(self.rows("leads")[-1].get("Mail")), lambda: str(self.rows("leads")[-1]), 60)
        brief = self.rows("leads")[-1]
        for column in ("Overview", "News", "Offer", "Why", "Subject", "Mail", "Message"):
            self.assertTrue(brief.get(column), (column, brief))

    @long
    def test_two_lines_beside_each_lead_and_one_bad_site_harms_nobody(self) -> None:
        self.begin("Two personal lines")
        self.mended("beside", "Add the 2 columns")
        self.go_live()
        town = self.demo.town
        names = {"Varley": "varley", "Nobody": "nobody-at-all", "Okonjo": "okonjo"}
        self.add_rows("leads", *({"Company": name, "Site": f"{town}/companies/{slug}"} for name, slug in names.items()))

        def told() -> dict[str, dict[str, str]]:
            return {row["Company"]: row for row in self.rows("leads") if row["Company"] in names}

        self.soon(lambda: all(told()[name].get("PS") for name in ("Varley", "Okonjo")), lambda: str(told()), 60)
        self.assertFalse(told()["Nobody"].get("Opening"))

    @long
    def test_a_feed_becomes_a_sheet_of_ideas_and_one_mail(self) -> None:
        self.begin("Feeds to an idea sheet")
        self.write("feeds", "Feed address", f"{self.demo.town}/sites/furrow-letter/feed.rss")
        self.write("letter", "To", "team@marrowbank.example")
        self.write_article()
        self.go_live()
        self.run_on({"title": "This morning"})
        self.soon(lambda: any(row["Title"] for row in self.rows("ideas")), lambda: str(self.rows("ideas")), 60)
        self.in_town("/mail/", "new ideas")
        self.assertTrue(all(row["Hook"] and row["Link"] and row["Date"] for row in self.rows("ideas")), self.rows("ideas"))

    @long
    def test_short_posts_on_themes_that_do_not_come_again_soon(self) -> None:
        self.begin("Rotating short posts")
        self.choose("network", "Where to", "Pondside")
        self.go_live()
        before = self.page.request.get(f"{self.demo.town}/control/state").json()["posts"]
        for n in range(3):
            self.run_on({"title": f"Round {n}"})
            self.ended(f"Round+{n}", "Rotating short posts")
        after = self.page.request.get(f"{self.demo.town}/control/state").json()["posts"]
        new = [post["content"] for post in after[len(before) :]]
        self.assertEqual(len(set(new)), 3, new)
        self.assertTrue(all(len(post) <= 280 for post in new))

    @long
    def test_a_post_we_follow_is_answered(self) -> None:
        self.begin("Answers to posts we follow")
        self.write("theirs", "Feed address", f"{self.demo.town}/sites/furrow-letter/feed.rss")
        self.go_live()
        self.write_article(title="Who still oils a chain?")
        self.look_now("theirs")
        self.approve("Answers to posts we follow")
        self.ended("Who+still+oils", "Answers to posts we follow")
        posts = self.page.request.get(f"{self.demo.town}/control/state").json()["posts"]
        self.assertIn("/sites/furrow-letter/who-still-oils-a-chain", str(posts[-1]))

    @long
    def test_a_film_for_the_person_a_form_names(self) -> None:
        self.begin("A personal film")
        self.go_live()
        stranger = self.visitor()
        stranger.goto(self.line("form").locator("code").first.inner_text())
        stranger.get_by_label("Company").fill("Varley Kitchen Gardens")
        stranger.get_by_label("What the greeting is about").fill("The winter lettuce seed is in, and your order can be fetched.")
        stranger.get_by_role("button", name="Send").click()
        self.approve("A personal film")
        self.soon(lambda: any(row["Name"] == "Ottoline Varley" for row in self.rows("films")), seconds=60)
        row = self.rows("films")[-1]
        self.assertEqual((row["Name"], row["Mail"]), ("Ottoline Varley", "ottoline@varley.example"))
        self.in_town("/mail/", row["Subject"])

    @long
    def test_an_assistant_asks_before_its_first_act(self) -> None:
        self.begin("Standing assistant")
        self.choose("look", "Search with", "Valley search")
        self.choose("post", "Where to", "Pondside")
        self.go_live()
        self.run_on({"title": "This morning"})
        self.approve("Standing assistant")
        self.page.goto(f"{self.demo.url}/runs?words=This+morning")
        row = self.page.get_by_role("row").filter(has_text="Standing assistant").first
        expect(row).to_contain_text(re.compile("done|waits"), timeout=60_000)

    @long
    def test_tomorrow_s_meetings_each_with_a_note(self) -> None:
        self.begin("Tomorrow’s meetings")
        self.write("calendar", "Calendar address", f"{self.demo.town}/calendar/office.ics")
        self.choose("search", "Search with", "Web search")
        self.go_live()
        self.run_on({"title": "This evening"})
        self.soon(lambda: bool(self.rows("meetings")), seconds=60)
        self.assertTrue(all(row["Meeting"] and row["When"] and row["Note"] for row in self.rows("meetings")))

    @long
    def test_a_launch_kit_lies_in_a_folder_of_its_name(self) -> None:
        self.begin("Launch kit")
        self.go_live()
        stranger = self.visitor()
        stranger.goto(self.line("kit").locator("code").first.inner_text())
        for label, text in {
            "Name": "Chain day", "Tagline": "Bring it wet, take it oiled", "What it is": "a Saturday at the repair shop",
            "What it is good for": "Your chain lasts twice as long.",
        }.items():  # fmt: skip
            stranger.get_by_role("textbox", name=label, exact=True).fill(text)
        stranger.get_by_role("button", name=re.compile("Make|Send|Begin")).click()
        self.approve("Launch kit")
        folder = self.demo.folder / "town" / "files" / "Kits" / "Chain day"
        wanted = {"Chain day.html", *(f"chain-day-{form}.png" for form in ("square", "wide", "tall"))}
        self.soon(lambda: folder.is_dir() and {path.name for path in folder.iterdir()} == wanted, "the kit lies in its folder", 60)

    @long
    def test_news_about_one_of_ours_is_judged_for_each_interest(self) -> None:
        self.begin("News triage")
        self.write("feed", "Feed address", f"{self.demo.town}/sites/furrow-letter/feed.rss")
        self.write("lists", "organisations", "the repair shop at Aldergate\nTillerby Boats")
        self.write("lists", "interests", "Chains: how long they last\nBoats: hire and moorings")
        self.go_live()
        self.write_article()
        self.look_now("feed")
        self.in_town("/room", f"the repair shop at Aldergate: {TITLE}")
        self.in_town("/room", "Chains: ")

    @long
    def test_an_article_becomes_a_listing_with_its_link(self) -> None:
        self.begin("Article to listing")
        self.write("feed", "Feed address", f"{self.demo.town}/sites/furrow-letter/feed.rss")
        self.write("market", "Place", "Lock 9, Ostrey")
        self.go_live()
        self.write_article(title="The shop lends its measuring tool")
        self.look_now("feed")
        self.approve("Article to listing")
        self.in_town("/market", "/sites/furrow-letter/the-shop-lends-its-measuring")
        self.assertIn("See more", self.page.request.get(f"{self.demo.town}/market").text())

    @long
    def test_stories_found_each_written_up_and_commented_under_its_post(self) -> None:
        self.begin("Fresh stories into a sheet")
        self.write("found", "Search for", "bicycle chains")
        self.choose("found", "Search with", "Valley search")
        self.go_live()
        first = self.at
        self.begin("A main text and a comment for each story")
        self.add_rows("liked", {"Text": "Oil it tonight. A drop for each link is enough. Tomorrow it runs as new."})
        texts = self.own("texts")
        self.go_live()
        self.begin("A comment under its post")
        self.choose("comment", "Where to", "Pondside")
        self.go_live()
        self.write_article()
        self.at = first
        self.run_on({"title": "This morning"})
        self.soon(lambda: any(row.get("Comment") and row["Story"] == TITLE for row in self.rows(texts)), seconds=90)
        found = self.page.request.get(f"{self.demo.url}/api/sheets/{texts}/rows").json()["rows"]
        row = next(row for row in found if row["cells"]["Story"] == TITLE)
        self.assertGreaterEqual(len(row["cells"]["Main text"].split()), 60)
        post = self.page.request.get(f"{self.demo.town}/control/state").json()["posts"][-1]
        there = f"{self.demo.town}/pondside/posts/{post['uid']}"
        self.send("PATCH", f"/sheets/{texts}/rows/{row['id']}", {"cells": {"Post": there, "Used": "yes"}})
        self.soon(lambda: any(row.get("Commented") for row in self.rows(texts)), lambda: str(self.rows(texts)), 60)


@long
class MoreJobsElsewhere(MoreJobs):
    """The same for another client, with outsides that fail once in the middle."""

    brand = ELSEWHERE
    faults = FAULTS
