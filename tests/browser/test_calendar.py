"""The week as an editor keeps it open: what waits is read, moved by key and by dragging, held, taken back; and mailings as a person
sends them: who gets it, a look at any reader's, one to oneself, joining, leaving."""

from __future__ import annotations

import re

import httpx
from playwright.sync_api import expect

from tests.browser.place import WithBrowser


class Week(WithBrowser):
    def test_what_waits_is_moved_by_key_and_by_dragging(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/calendar/outbox")
        expect(page.get_by_role("listitem").filter(has_text="Saving leek seed").filter(has_text="Pondside")).to_contain_text(
            "waits"
        )
        page.goto(f"{self.demo.url}/calendar")
        expect(page.get_by_role("table")).to_be_visible()
        piece = (
            page.get_by_role("cell").get_by_role("button").filter(has_text="Saving leek seed").filter(has_not_text="Approved for")
        )
        if not piece.count():
            page.get_by_role("button", name="Later").click()
        piece.press("ArrowDown")
        expect(piece).to_contain_text(re.compile(r"\d\d:15"))
        page.get_by_role("button", name="Later").click()
        expect(page.get_by_text("free").first).to_be_visible()
        page.get_by_role("button", name="This week").click()
        page.wait_for_timeout(1000)
        free = page.locator("[data-free]").last
        if not free.count() or not piece.count():
            return  # it is Sunday evening, and this week has no place left
        words = re.search(r"\d\d:\d\d", free.inner_text())
        assert words is not None
        piece.drag_to(free)
        expect(piece).to_contain_text(words.group())

    def test_it_is_held_let_go_and_taken_back(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/calendar/outbox")
        row = page.get_by_role("listitem").filter(has_text="Labels that last")
        row.get_by_role("button", name="Hold").click()
        expect(row).to_contain_text("Held by Mara Tollen")
        row.get_by_role("button", name="Send it at its time").click()
        expect(row).not_to_contain_text("Held by")
        row.get_by_role("button", name="Labels that last").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("Ink on plastic is gone")
        dialog.get_by_role("button", name="Take it back").click()
        expect(row).to_have_count(0)
        page.goto(f"{self.demo.url}/")
        expect(page.get_by_text("Taken back by Mara Tollen")).to_be_visible()

    def test_what_was_approved_is_changed_by_asking_again(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/calendar/outbox")
        page.get_by_role("button", name=re.compile("Sowing on the windowsill")).click()
        page.get_by_role("button", name="Change it, and ask again").click()
        # It stands among the decided ones too, until it is asked about again.
        waiting = page.get_by_label("Drafts").locator("section").filter(has=page.get_by_role("heading", name="Waiting"))
        waiting.get_by_role("link", name=re.compile("Sowing on the windowsill")).click()
        expect(page.get_by_role("button", name="Approve", exact=False).first).to_be_visible()

    def test_the_feed_can_be_read_until_it_is_closed(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/calendar")
        page.get_by_role("button", name="As a feed …").click()
        page.get_by_role("button", name="Make an address").click()
        address = page.get_by_label("Its secret address").input_value()
        answer = httpx.get(address, trust_env=False)
        self.assertEqual((answer.status_code, answer.headers["content-type"].split(";")[0]), (200, "text/calendar"))
        self.assertIn("Weekly round of the seed pages starts", answer.text.replace("\r\n ", ""))
        page.get_by_role("button", name="Close it").click()
        expect(page.get_by_role("button", name="Make an address")).to_be_visible()
        self.assertEqual(httpx.get(address, trust_env=False).status_code, 404)

    def test_a_channel_gets_a_timetable_and_the_week_shows_its_places(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/connections")
        review = page.get_by_role("listitem").filter(has_text="The Towpath Review").first
        review.get_by_role("button", name="Timetable").click()
        page.get_by_label("At most a day").fill("1")
        page.get_by_role("button", name="Keep").click()
        expect(review).to_contain_text("Its places:")
        page.goto(f"{self.demo.url}/calendar")
        page.get_by_role("button", name="Later").click()
        expect(page.get_by_role("row").filter(has_text="The Towpath Review")).to_contain_text("5 of 5 places free")


class Mailing(WithBrowser):
    def test_the_monday_letter_goes_to_its_readers(self) -> None:
        page = self.page
        page.goto(self.workflow("Weekly round of the seed pages") + "?line=mailing")
        bench = page.get_by_label("Bench", exact=True)
        expect(bench.get_by_text("24 readers of Monday letter")).to_be_visible()
        expect(bench).to_contain_text("1 who stand on it twice: HEDDA@sorrel.example")
        bench.get_by_label("Show it for another reader").fill("petra")
        expect(bench).to_contain_text("As petra@lindqvist.example gets it")
        bench.get_by_role("button", name="Send it to me first").click()
        expect(bench).to_contain_text("Sent to mara@hedgelane.example, and to nobody else.")
        page.goto(f"{self.demo.url}/runs?words=Monday%E2%80%99s%20round")
        page.get_by_role("row").nth(1).get_by_role("link").first.click()
        page.get_by_role("grid", name="The page as it ran").get_by_text("Send “The Monday letter”", exact=False).click()
        became = page.get_by_label("What became of the letters")
        expect(became).to_contain_text("23 of 24 out")
        became.get_by_role("button", name="1 refused").click()
        expect(became).to_contain_text("gone.linnet@sayle.example")
        page.goto(f"{self.demo.town}/mail/")
        expect(page.get_by_text("ottoline@varley.example").first).to_be_visible()

    def test_people_join_by_a_page_and_leave_by_their_letter(self) -> None:
        page, stranger = self.page, self.visitor()
        page.goto(f"{self.demo.url}/sheets/members")
        page.get_by_role("button", name="More …").click()
        page.get_by_role("menuitem", name="List of readers …").click()
        page.get_by_label("People may join by a page").check()
        page.get_by_label("The mail that asks back goes through").select_option(label="Office mail")
        page.get_by_role("button", name="Keep").click()
        stranger.goto(page.get_by_label("Its address").input_value())
        stranger.get_by_label("Your mail address").fill("new@reader.example")
        stranger.get_by_label("Your name").fill("New Reader")
        stranger.get_by_role("button", name="Join").click()
        expect(stranger.get_by_text("A mail is on its way to new@reader.example")).to_be_visible()
        asked_back = stranger.get_by_role("link", name="Please confirm", exact=False)

        def came() -> bool:
            stranger.goto(f"{self.demo.town}/mail/")
            return asked_back.count() > 0

        self.soon(came, "the mail that asks back")
        asked_back.first.click()
        answer = re.search(r"http\S+/join/[\w-]+/[\w.-]+", stranger.content())
        assert answer is not None
        stranger.goto(answer.group())
        stranger.get_by_role("button", name="Yes, put me on the list").click()
        expect(stranger.get_by_text("You are on the list")).to_be_visible()
        page.goto(f"{self.demo.url}/sheets/members")
        page.get_by_label("Find in this sheet").fill("new@reader")
        expect(page.get_by_text("New Reader").first).to_be_visible()
