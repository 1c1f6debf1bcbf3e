"""Pages and changes of pages said in words: guesses on their lines, the difference before it is taken, one key that takes it back."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.place import WithBrowser


class InWords(WithBrowser):
    def described(self, words: str) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_label("What should happen").fill(words)
        page.get_by_role("button", name="Draft the page").click()
        page.get_by_role("grid", name="The page and its proofs").wait_for()

    def lines(self) -> list[str]:
        number = re.search(r"/workflows/(\d+)", self.page.url)
        assert number is not None
        told = self.page.request.get(f"{self.demo.url}/api/workflows/{number[1]}/bench").json()
        return [line["kind"] for line in told["lines"]]

    def test_a_guess_is_told_at_its_line_and_one_press_says_it_is_right(self) -> None:
        self.described(
            "Each Friday search the news for heritage seed, write a post of at most two sentences for Marrowbank, have it looked at, and post it."
        )
        page = self.page
        self.assertEqual(self.lines(), ["schedule", "search", "draft", "ask", "publish_post"])
        expect(page.get_by_label("The brand it is for")).to_have_value("marrowbank")
        expect(page.get_by_text("A guess: No time of day was said").first).to_be_visible()
        page.get_by_text("Every Friday at 08:00").first.click()
        bench = page.get_by_label("Bench", exact=True)
        bench.get_by_role("button", name="That is right").click()
        expect(page.get_by_text("A guess: No time of day was said")).to_have_count(0)
        # Said to be right, it stays so.
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.reload()
        page.get_by_role("grid", name="The page and its proofs").wait_for()
        expect(page.get_by_text("A guess: No time of day was said")).to_have_count(0)

    def test_a_change_is_shown_before_it_is_taken_and_taken_back(self) -> None:
        self.open_workflow()
        page, before = self.page, self.lines()
        page.keyboard.press("e")
        page.get_by_role("textbox", name="What is to change").fill(
            "Also post it to the blog, but without the hashtags. Ask Mara instead of Ines."
        )
        page.keyboard.press("Enter")
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("+ added")).to_be_visible()
        expect(dialog.get_by_text("untagged")).to_be_visible()
        expect(dialog.get_by_text("~ changed")).to_be_visible()
        self.assertEqual(self.lines(), before)
        dialog.get_by_role("button", name="Leave it as it is").click()
        self.assertEqual(self.lines(), before)
        page.keyboard.press("e")
        page.get_by_role("textbox", name="What is to change").fill("Remove the row")
        page.keyboard.press("Enter")
        dialog.get_by_role("button", name="Change the page").click()
        self.soon(lambda: self.lines() == before[:-1], self.lines)
        page.keyboard.press("Control+z")
        self.soon(lambda: self.lines() == before, self.lines)

    def test_a_line_is_explained_where_one_stands_and_its_example_put_in(self) -> None:
        self.open_workflow()
        page, before = self.page, self.lines()
        page.get_by_text("Ask Ines Varga").first.click()
        page.get_by_label("Bench", exact=True).get_by_role("button", name="Help").wait_for()
        page.keyboard.press("h")
        told = page.get_by_label("What this line does")
        expect(told).to_contain_text("Shows the draft to a person and waits.")
        expect(told).to_contain_text("What it gives")
        told.get_by_role("button", name="Put it below this line").click()
        at = before.index("ask") + 1
        self.soon(lambda: self.lines() == [*before[:at], "ask", *before[at:]], self.lines)
        expect(told).to_have_count(0)
        page.keyboard.press("Control+z")
        self.soon(lambda: self.lines() == before, self.lines)

    def test_what_happens_next_in_a_sentence_of_one_s_own(self) -> None:
        self.open_workflow()
        page, before = self.page, self.lines()
        page.keyboard.press("n")
        page.keyboard.type("wait two days and mail it to me")
        page.get_by_role("option", name="Have “wait two days").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("+ added")).to_have_count(2)
        dialog.get_by_role("button", name="Put it in").click()
        self.soon(lambda: self.lines() == [*before, "wait", "send_letter"], self.lines)
        page.keyboard.press("Control+z")
        self.soon(lambda: self.lines() == before, self.lines)
