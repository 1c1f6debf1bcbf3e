"""A new article becomes a listing with a button, and a long read that waits on the blog as a draft; looked at where readers look."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.place import WithBrowser
from tests.short import long

LISTING, READ = "Articles to Market Row", "Long reads for the Review"


class ToTheirEnds(WithBrowser):
    def live(self, name: str) -> None:
        page = self.page
        page.goto(self.workflow(name) + "?before")
        dialog = page.get_by_role("dialog")
        dialog.get_by_label(re.compile("[Pp]ass")).first.check()
        dialog.get_by_role("button", name="Go live").click()
        expect(dialog).to_have_count(0)

    @long
    def test_from_a_new_article_to_a_listing_and_a_draft_on_a_blog(self) -> None:
        page, town = self.page, self.visitor()
        for name in (LISTING, READ):
            self.live(name)
        self.page.wait_for_timeout(2000)
        town.goto(f"{self.demo.town}/control")
        town.get_by_role("button", name="Publish the next article in The Cutside Courier").click()
        title = town.locator(".say").inner_text().removeprefix("Published: ")

        page.goto(self.asked(LISTING))
        expect(page.get_by_text("What goes out")).to_be_visible()
        page.get_by_label("The piece, to be changed in place").fill("Changed at the desk: come and see it.")
        expect(page.get_by_text("Lock 9, Ostrey")).to_be_visible()
        page.get_by_role("button", name="Approve with my changes").click()
        expect(page.get_by_text("Approved. It goes out at its time.")).to_be_visible()
        self.soon(lambda: "Changed at the desk" in town.request.get(f"{self.demo.town}/market").text(), "it is listed")
        town.goto(f"{self.demo.town}/market")
        offer = town.locator(".post").first
        expect(offer).to_contain_text("Changed at the desk: come and see it.")
        expect(offer.get_by_role("button", name="See more")).to_be_visible()

        page.goto(self.asked(READ))
        expect(page.get_by_text("a draft there")).to_be_visible()
        page.get_by_label("Title", exact=True).fill("A title of the editor’s")
        expect(page.get_by_role("heading", name="A title of the editor’s")).to_be_visible()
        page.get_by_role("button", name="Approve with my changes").click()
        expect(page.get_by_text("Approved. It goes out at its time.")).to_be_visible()
        self.soon(lambda: "1 more waits as drafts" in town.request.get(f"{self.demo.town}/blog/").text(), "it waits on the blog")
        page.goto(f"{self.demo.url}/")
        expect(page.get_by_text("A title of the editor’s").first).to_be_visible()
        page.goto(f"{self.demo.url}/runs")
        expect(page.get_by_role("row").filter(has_text=title).first).to_contain_text("done")
