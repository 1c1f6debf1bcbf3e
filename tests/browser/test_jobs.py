"""Whole jobs from a template to their very ends: its gaps filled, live, the world happens, a person says yes, and what stands then
in the room, the mailboxes, the blog, the customer database and the outreach service."""

from __future__ import annotations

from playwright.sync_api import expect

from practice_town import recordings, reports
from tests.browser.atwork import ELSEWHERE, FAULTS, AtWork
from tests.short import long


class Jobs(AtWork):
    def of_readers(self) -> tuple[str, int]:
        """Have the mailing go to the list of the page's client; gives a reader's address and how many get it: all who have not left, but
        for one who has moved away."""
        if self.brand:
            # The client's own list was found by its columns.
            return "noor@castel.example", 7
        self.choose("mailing", "List", "Letter readers")
        return "ottoline@varley.example", 23

    def test_a_feed_to_the_teams_room(self) -> None:
        self.begin("Feed to channel")
        self.write("feed", "Feed address", f"{self.demo.town}/sites/furrow-letter/feed.rss")
        self.choose("message", "Room", "The team’s room")
        self.go_live()
        title = self.release("The Furrow Letter")
        self.line("feed").get_by_role("button", name="Look now").click()
        self.page.goto(f"{self.demo.url}/runs")
        expect(self.page.get_by_role("row").filter(has_text=title).filter(has_text="Feed to channel")).to_contain_text(
            "done", timeout=40_000
        )
        said = self.page.request.get(f"{self.demo.town}/room").text()
        self.assertIn("/sites/furrow-letter/", said)

    @long
    def test_a_draft_answered_by_mail_alone_until_it_is_right(self) -> None:
        self.begin("Draft, note, redraft")
        self.choose("search", "Search with", "Valley search")
        self.write("editor", "Who decides", "ruben@aske.example")
        self.go_live()
        self.line("start").get_by_role("button", name="Start now …").click()
        self.page.get_by_role("dialog").get_by_role("textbox", name="What about?").fill("seed library")
        self.page.get_by_role("button", name="Start the run").click()
        expect(self.page.get_by_role("grid", name="The page as it ran")).to_be_visible()
        self.answer("To approve: seed library", "Yes, but begin with the people please.", 1)
        self.answer("To approve: seed library", "Perfect, thank you!", 2)
        self.page.goto(f"{self.demo.url}/runs?words=seed+library")
        expect(self.page.get_by_role("row").filter(has_text="seed library").filter(has_text="Draft, note").first).to_contain_text(
            "done", timeout=60_000
        )
        self.page.get_by_role("row").filter(has_text="seed library").filter(has_text="Draft, note").first.get_by_role(
            "link"
        ).first.click()
        expect(self.page.get_by_text("by mail", exact=False).first).to_be_visible()

    @long
    def test_a_plan_passed_by_mail_alone_is_researched_into_a_report(self) -> None:
        self.begin("Plan first, then research")
        self.choose("search", "Search with", "Valley search")
        self.write("editor", "Who decides", "ruben@aske.example")
        self.go_live()
        self.line("start").get_by_role("button", name="Start now …").click()
        question = "Who lends seed in the valley, and to whom?"
        self.page.get_by_role("dialog").get_by_role("textbox", name="What do you want to know?").fill(question)
        self.page.get_by_role("button", name="Start the run").click()
        expect(self.page.get_by_role("grid", name="The page as it ran")).to_be_visible()
        self.answer("To approve: Who lends seed", "No, ask about the prices as well.", 1)
        self.answer("To approve: Who lends seed", "Ja, gerne!", 2)
        self.page.goto(f"{self.demo.url}/runs?words=Who+lends+seed")
        row = self.page.get_by_role("row").filter(has_text="Who lends seed").filter(has_text="Plan first").first
        expect(row).to_contain_text("done", timeout=90_000)
        row.get_by_role("link").first.click()
        expect(self.page.get_by_text("by mail", exact=False).first).to_be_visible()

    @long
    def test_the_weeks_trade_news_to_the_team(self) -> None:
        self.begin("Trade news for the team")
        self.write("search", "Search for", "heritage seed")
        self.choose("search", "Search with", "Valley search")
        self.choose("message", "Room", "The team’s room")
        self.go_live()
        before = self.page.request.get(f"{self.demo.town}/room").text().count('class="post"')
        self.run_on({"title": "Friday", "date": "2026-11-27"})
        self.approve("Trade news for the team")
        self.soon(lambda: self.page.request.get(f"{self.demo.town}/room").text().count('class="post"') > before, "it is said", 40)

    def test_a_newsletter_on_a_topic_to_every_reader(self) -> None:
        self.begin("Topic newsletter")
        self.write("search", "Search for", "seed library")
        self.choose("search", "Search with", "Valley search")
        self.write(
            "letter",
            "Who is writing, and how",
            'You write a newsletter for <<brand.name | otherwise "our readers">>. Short, with links.',
        )
        readers = self.of_readers()
        self.go_live()
        self.run_on({"title": "Monday", "date": "2026-11-30"})
        self.approve("Topic newsletter")
        self.in_town("/mail/", "What is new, ")
        self.page.goto(f"{self.demo.url}/runs?words=Monday")
        expect(self.page.get_by_role("row").filter(has_text="Topic newsletter").first).to_contain_text("done", timeout=40_000)
        self.page.goto(f"{self.demo.town}/mail/")
        mine = self.page.get_by_role("row").filter(has_text="What is new, ")
        one, so_many = readers
        expect(mine.filter(has_text=one)).to_have_count(1)
        expect(mine).to_have_count(so_many)

    @long
    def test_an_episode_to_every_reader(self) -> None:
        self.begin("Episode to mailing")
        self.write("episode", "Feed address", f"{self.demo.town}/radio/feed.rss")
        self.write("body", "Who is writing, and how", 'You write to readers of <<brand.name | otherwise "our house">>. Short.')
        self.of_readers()
        self.go_live()
        episode = next(iter(recordings.episodes()))
        link, image = f"{self.demo.town}/radio/{episode}", f"{self.demo.town}/radio/cover.png"
        self.run_on({"title": "An episode", "link": link, "image": image})
        self.approve("Episode to mailing")
        self.approve("Episode to mailing")
        self.in_town("/mail/", "An episode")

    @long
    def test_a_report_from_a_form_to_a_draft_on_a_blog(self) -> None:
        self.begin("Report to article")
        self.go_live()
        stranger = self.visitor()
        stranger.goto(self.line("form").locator("code").first.inner_text())
        stranger.get_by_label("The report").set_input_files(
            {"name": "seed-year.pdf", "mimeType": "application/pdf", "buffer": reports.pdf("seed-year.pdf")}
        )
        stranger.get_by_label("In what tone").fill("calm")
        stranger.get_by_label("How many words").fill("300")
        stranger.get_by_label("How many sections").fill("2")
        stranger.get_by_role("button", name="Begin").click()
        self.approve("Report to article")
        self.in_town("/blog/", "waits as draft")

    @long
    def test_a_new_customer_is_enriched_and_handed_to_outreach(self) -> None:
        self.begin("Lead enrichment")
        self.choose("customer", "Service", "Customer database")
        self.choose("record", "Service", "Customer database")
        self.choose("outreach", "Service", "Outreach service")
        self.go_live()
        panel = self.line("call")
        panel.get_by_role("button", name="Show").first.click()
        town = self.visitor()
        town.goto(f"{self.demo.town}/customers")
        town.get_by_label("Address").fill(panel.locator("code").first.inner_text())
        town.get_by_role("button", name="Call").click()
        expect(town.locator(".say")).to_contain_text("202: ")
        self.in_town("/outreach", "ottoline@varley.example")
        self.in_town("/customers", "PATCH")
        self.page.goto(f"{self.demo.url}/runs?words=Ottoline")
        row = self.page.get_by_role("row").filter(has_text="Lead enrichment")
        expect(row).to_contain_text("done", timeout=30_000)
        row.get_by_role("link").first.click()
        grid = self.page.get_by_role("grid", name="The page as it ran")
        expect(grid).to_contain_text("Customer database, Outreach service")


@long
class JobsElsewhere(Jobs):
    """The same for another client, with outsides that fail once in the middle."""

    brand = ELSEWHERE
    faults = FAULTS
