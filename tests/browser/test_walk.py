"""What the first user does, in Chromium: from Today to the published post and its row, with a kill in between."""

from __future__ import annotations

import re
import signal

from playwright.sync_api import expect

from tests.browser.place import WithBrowser


class TheWalk(WithBrowser):
    def test_from_the_feed_to_the_sheet(self) -> None:
        page = self.page
        # 1. Today: one approval waits, and the history went out.
        waiting = page.get_by_role("region", name=re.compile("^Waiting for you"))
        expect(waiting.get_by_text("a draft to approve")).to_have_count(1)
        self.assertGreater(page.get_by_role("region", name=re.compile("^Went out")).get_by_role("listitem").count(), 5)

        # 2. The workflow reads as a page, with three proof columns of real items.
        self.open_workflow()
        outline = " ".join(page.get_by_role("rowheader").all_inner_texts())
        for words in ("When a new item appears in", "Read the page at", "Draft", "Ask", "Post to", "Add a row to"):
            self.assertIn(words, outline)
        self.assertGreaterEqual(page.get_by_role("columnheader").count(), 3)
        expect(self.cell(3)).to_contain_text("keeps all 6 rules")
        expect(self.cell(5)).to_contain_text("would go out")

        # 3. Edit the prompt with a value from <<; dependants go out of date; run; the answer streams in.
        self.cell(3).click()
        prompt = page.get_by_role("textbox", name="Prompt")
        prompt.click()
        page.keyboard.press("Control+Home")
        page.keyboard.type("Begin calmly. Author: <<feed.auth")
        offered = page.get_by_role("option", name=re.compile("feed.author"))
        expect(offered).to_contain_text("Tilda Rossiter")
        page.keyboard.press("Enter")
        expect(prompt).to_contain_text("<<feed.author>>")
        for line in (3, 5, 6):
            expect(self.cell(line)).to_contain_text("out of date")
        expect(self.cell(2)).not_to_contain_text("out of date")
        # The model takes its time, so that a busy machine sees it write.
        page.request.post(f"{self.demo.town}/control/habits", form={"pace": "120"})
        page.get_by_role("button", name="Run this cell").click()
        partial: set[str] = set()
        reader = page.get_by_label("Bench")
        self.soon(lambda: partial.add(self.cell(3).inner_text()) or "keeps all" in self.cell(3).inner_text(), "the cell is made")
        page.request.post(f"{self.demo.town}/control/habits", form={"pace": "18"})
        self.assertGreater(len([t for t in partial if "writing" in t]), 2, "the answer streams in")
        expect(self.cell(3, 2)).to_contain_text("out of date")
        expect(reader.get_by_text("of 300 characters").first).to_be_visible()
        page.get_by_role("tab", name="Was given").click()
        expect(reader.get_by_text("The prompt as sent")).to_be_visible()
        page.get_by_role("tab", name="Gave").click()

        # 4. A rule that is changed is broken, revised by the model, and kept.
        page.get_by_role("textbox", name="Greatest length").fill("180")
        expect(self.cell(3)).to_contain_text("out of date")
        page.get_by_role("button", name="The row").click()
        self.soon(lambda: all("keeps all" in self.cell(3, n).inner_text() for n in (1, 2, 3)), "the row keeps its rules")
        # Rules that cannot all be kept are said before the model is asked; one it cannot keep is said after its tries.
        page.get_by_role("textbox", name="Greatest length").fill("20")
        page.get_by_role("button", name="Run this cell").click()
        expect(self.cell(3)).to_contain_text("longer than 20 characters")
        page.get_by_role("textbox", name="Greatest length").fill("75")
        expect(self.cell(3)).to_contain_text("out of date")
        page.get_by_role("button", name="Run this cell").click()
        expect(self.cell(3)).to_contain_text("of 75 characters")
        expect(self.cell(3)).to_contain_text("after 2 revisions")
        expect(reader.get_by_text("Sent back: ").first).to_be_visible()
        page.get_by_role("textbox", name="Greatest length").fill("300")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.get_by_role("button", name="Close").click()
        page.get_by_role("button", name=re.compile("^Run .* out of date")).click()
        expect(page.get_by_role("button", name="All proofs are fresh")).to_be_visible()

        # 5. A new item in the feed starts a run by itself; sent back with a note, approved, published, written down.
        town = self.visitor()
        posts = self.posts(town)
        town.goto(f"{self.demo.town}/control")
        town.get_by_role("button", name="Publish the next article in The Furrow Letter").click()
        title = town.locator(".say").inner_text().removeprefix("Published: ")
        page.get_by_role("link", name="Approvals").click()
        page.get_by_role("link", name=re.compile(re.escape(title[:40]))).click()
        piece = page.get_by_role("textbox", name="The piece")
        first = piece.input_value()
        self.demo.stop(signal.SIGKILL)
        self.demo.start()
        page.reload()
        expect(piece).to_have_value(first)
        page.locator("h1").click()
        page.keyboard.press("b")
        page.get_by_role("textbox", name="Note for the rewrite").fill("Make it shorter, please.")
        page.keyboard.press("Control+Enter")
        page.get_by_role("link", name=re.compile(re.escape(title[:40]) + ".*round 2", re.S)).click()
        expect(page.get_by_text("What changed since the last round")).to_be_visible()
        self.assertGreater(page.locator("aside ins, aside del").count(), 0)
        page.locator("h1").click()
        page.keyboard.press("e")
        expect(piece).to_be_focused()
        second = piece.input_value()
        self.assertLess(len(second), len(first))
        piece.fill(second + " ")
        expect(page.get_by_role("button", name="Approve")).to_be_visible()
        piece.fill(second)
        page.locator("h1").click()
        page.keyboard.press("a")
        expect(page.get_by_text("Approved. It goes out at its time.")).to_be_visible()
        self.soon(lambda: len(self.posts(town)) == len(posts) + 1, "the post is out")
        self.assertEqual("".join(self.posts(town)[0].split()), "".join(second.split()))

        page.get_by_role("link", name="Sheets").click()
        page.get_by_role("link", name=re.compile("^Posts out")).click()
        expect(page.get_by_role("grid", name="Posts out").get_by_text(title[:20]).first).to_be_visible()

        # 6. The run afterwards: the same page with one column, and what each step was given and gave.
        page.get_by_role("link", name="Runs").click()
        page.get_by_role("link", name=title).click()
        expect(page.get_by_role("grid", name="The page as it ran")).to_be_visible()
        expect(page.get_by_text("done", exact=True).first).to_be_visible()
        page.get_by_role("gridcell", name="Line 3").click()
        expect(page.get_by_text(re.compile(r"\d calls? · \d+ tokens in, \d+ out · € ")).first).to_be_visible()
        page.get_by_role("tab", name="Was given").click()
        expect(page.get_by_text("The prompt as sent")).to_be_visible()
        page.get_by_role("button", name="Journal").click()
        expect(page.get_by_text("“Make it shorter, please.”")).to_be_visible()
        self.assertEqual(len(self.posts(town)), len(posts) + 1)

    def posts(self, town) -> list[str]:  # type: ignore[no-untyped-def]
        town.goto(f"{self.demo.town}/pondside/")
        return [t.rsplit("\n", 1)[0].strip() for t in town.locator(".post").all_inner_texts()]


class ByLink(WithBrowser):
    def test_an_approval_from_the_mail_on_a_phone_without_an_account(self) -> None:
        phone = self.browser.new_context(viewport={"width": 390, "height": 780}).new_page()
        self.addCleanup(phone.context.close)
        phone.goto(f"{self.demo.town}/mail/")
        phone.get_by_role("link", name=re.compile("To approve")).first.click()
        phone.frame_locator("iframe[title='The letter']").get_by_role("link", name=re.compile("answer")).click()
        expect(phone.get_by_role("button", name="Approve")).to_be_visible()
        self.assertLessEqual(phone.evaluate("document.documentElement.scrollWidth"), 390)
        phone.reload()
        expect(phone.get_by_role("button", name="Approve")).to_be_visible()
        phone.get_by_role("button", name="Approve").click()
        expect(phone.get_by_text("Approved. Thank you")).to_be_visible()
        phone.reload()
        expect(phone.get_by_text("Approved by ines@marrowbank.example")).to_be_visible()
        phone.goto(phone.url[:-4])
        expect(phone.get_by_text("This link is not complete")).to_be_visible()
