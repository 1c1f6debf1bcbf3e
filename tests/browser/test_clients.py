"""One page for two clients: filled in once, live for the second with what is its own, and following the first."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.place import WithBrowser
from tests.browser.test_screens import AXE


class OnePageForTwo(WithBrowser):
    def test_a_second_client_is_added_on_one_page_and_follows(self) -> None:
        page = self.page
        self.open_workflow()
        page.get_by_role("button", name="Page …").click()
        page.get_by_role("menuitem", name="Clients …").click()
        dialog = page.get_by_role("dialog", name="Clients")
        dialog.get_by_role("heading", name="Tillerby Boats").wait_for()
        page.evaluate(AXE)
        found = page.evaluate("axe.run({resultTypes: ['violations']})")
        self.assertEqual([v["id"] for v in found["violations"] if v["impact"] in ("serious", "critical")], [])
        dialog.get_by_label("In the place of Pondside").select_option(label="Pondside (the same)")
        dialog.get_by_label("In the place of ines@marrowbank.example").fill("tom@tillerby.example")
        dialog.get_by_role("button", name="Let Tillerby Boats have the page").click()
        expect(page.get_by_text("2 things still missing")).to_be_visible()
        expect(dialog.get_by_text("No sheet chosen.")).to_be_visible()
        dialog.get_by_label("In the place of Posts out").select_option(label="Posts out (the same)")
        dialog.get_by_label(re.compile("In the place of http")).fill(f"{self.demo.town}/sites/cutside-courier/feed.atom")
        dialog.get_by_role("button", name="Save").click()
        expect(page.get_by_text("goes live when you say so")).to_be_visible()
        dialog.get_by_role("link", name="Open their page").click()
        expect(page.get_by_text("This page follows")).to_be_visible()
        expect(page.get_by_text("tom@tillerby.example")).to_be_visible()
        expect(page.get_by_label("The workflow’s name")).not_to_be_editable()
        page.get_by_role("button", name="Go live").click()
        pass_over = page.get_by_label(re.compile("over; only what comes from now on"))
        page.get_by_role("dialog").get_by_role("button", name="Go live").wait_for()
        self.soon(lambda: page.get_by_text("Looking what is there").count() == 0, "it was looked what is there")
        if pass_over.count():
            pass_over.check()
        page.get_by_role("dialog").get_by_role("button", name="Go live").click()
        expect(page.get_by_text(re.compile("^Live on revision 1"))).to_be_visible()
        page.get_by_role("link", name="Seed news to Pondside").click()
        expect(page.get_by_role("button", name="and 1 other client")).to_be_visible()
        page.get_by_label("The workflow’s name").fill("Seed news, shorter")
        page.get_by_role("button", name="Make the changes live").click()
        page.get_by_role("dialog").get_by_role("button", name="Go live").click()
        expect(page.get_by_text("1 client follows.")).to_be_visible()
        theirs = [w for w in page.request.get(f"{self.demo.url}/api/workflows").json() if w["brand"] == "Tillerby Boats"]
        self.assertIn(("Seed news, shorter", "live"), [(w["name"], w["state"]) for w in theirs])
