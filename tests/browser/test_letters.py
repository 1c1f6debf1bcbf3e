"""A lead becomes a letter: from the row to the mailbox, with a change made at the desk in every part that goes out."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.place import WithBrowser


class FromTheRowToTheMailbox(WithBrowser):
    def test_a_letter_is_proofed_approved_with_a_change_and_arrives(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("link", name="First letters to leads").click()
        letter = page.get_by_role("gridcell").filter(has_text="would go out").first
        expect(letter).to_contain_text("To Ottoline Varley")
        letter.click()
        expect(page.get_by_text("A proof lets nothing out")).to_be_visible()
        expect(page.frame_locator("iframe[title='As it will look']").get_by_text("Dear Ottoline Varley")).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Go live").click()
        page.get_by_role("dialog").get_by_role("button", name="Go live").last.click()
        page.get_by_role("gridcell").filter(has_text="Varley Kitchen Gardens").first.click()
        page.get_by_role("button", name="Run on this sample").click()
        page.get_by_role("button", name="Start the run").click()
        page.get_by_role("link", name="Read and decide").click(timeout=30_000)
        out = page.get_by_role("region", name="What goes out")
        expect(out).to_contain_text("Ottoline Varley <ottoline@varley.example>")
        page.get_by_label("Letter", exact=True).fill("We think of *beans*, and of your walls.")
        expect(out.frame_locator("iframe").get_by_text("We think of beans")).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Approve with my changes").click()
        page.goto(f"{self.demo.url}/")
        went_out = page.get_by_role("region", name=re.compile("Went out"))
        expect(went_out.get_by_role("listitem").filter(has_text="To Ottoline Varley").first).to_be_visible(timeout=20_000)
        page.goto(f"{self.demo.town}/mail/")
        mine = page.get_by_role("row").filter(has_text="ottoline@varley.example").filter(has_not_text="The Monday letter")
        mine.get_by_role("link").first.click()  # the newest
        expect(page.get_by_text("From Hedge Lane drafts")).to_be_visible()
        body = page.frame_locator("iframe[title='The letter']")
        expect(body.locator("em")).to_have_text("beans")
        expect(body.locator("body")).to_contain_text("Dear Ottoline Varley")
        page.goto(f"{self.demo.url}/sheets/letters_out")
        expect(page.get_by_text(re.compile("@hedgelane.example>"))).to_be_visible()
