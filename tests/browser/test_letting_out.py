"""What goes out, as a person sees it: broken rules, parts of a draft, what is there already, chosen rows, a fault with its mend."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.browser.place import WithBrowser

RECORDING = "New recording announced"


class Desk(WithBrowser):
    def draft(self) -> str:
        """The desk with the draft that waits; gives its title."""
        self.page.goto(self.asked("Seed news to Pondside"))
        return self.page.get_by_role("heading", level=1).inner_text()


class Broken(Desk):
    def test_a_broken_rule_is_told_and_let_out_only_by_a_second_act(self) -> None:
        page = self.page
        title = self.draft()
        box = page.get_by_label("The piece, to be changed in place")
        box.fill("No link in this, and nothing else that was asked for.")
        expect(page.get_by_text("It breaks", exact=False).first).to_be_visible()
        # The evidence is that of what is written here, and no more that of the draft.
        expect(page.get_by_label("Evidence").get_by_text("No link in this", exact=False)).to_be_visible()
        page.get_by_role("button", name="Approve with my changes").click()
        expect(page.get_by_role("alert")).to_contain_text("shown wherever the piece is")
        expect(page.get_by_label("Drafts").get_by_text(title)).to_be_visible()
        page.get_by_role("button", name="Send it out all the same").click()
        expect(page.get_by_text("Approved. It goes out at its time.")).to_be_visible()
        for place in ("", "/brands/marrowbank"):
            page.goto(f"{self.demo.url}{place}")
            expect(page.get_by_text("let out although it breaks", exact=False).first).to_be_visible()


class Refused(Desk):
    def test_what_the_channel_cannot_take_is_refused_on_the_screen(self) -> None:
        page = self.page
        self.draft()
        page.get_by_label("The piece, to be changed in place").fill("x" * 320)
        expect(page.get_by_text("It breaks", exact=False).first).to_be_visible()
        page.get_by_role("button", name="Approve with my changes").click()
        page.get_by_role("button", name="Send it out all the same").click()
        expect(page.get_by_text("takes at most 300 characters; this has 320", exact=False).first).to_be_visible()
        expect(page.get_by_role("button", name="Send it out all the same")).to_be_visible()


class GoingLive(WithBrowser):
    def test_what_is_there_is_asked_about_first(self) -> None:
        page = self.page
        page.goto(self.workflow(RECORDING) + "?before")
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("4 items are there already", exact=False)).to_be_visible()
        go = dialog.get_by_role("button", name="Go live")
        expect(go).to_be_disabled()
        dialog.get_by_label("So many a day").fill("2")
        go.click()
        expect(page.get_by_text("What is there is run for, 2 a day.", exact=False)).to_be_visible()

    def test_a_line_that_would_let_out_what_was_not_approved_is_mended_with_one_press(self) -> None:
        page = self.page
        page.goto(self.workflow(RECORDING) + "?line=post")
        # As it was before: the post is put together before anybody is asked.
        page.get_by_role("row", name="Set", exact=False).first.click()
        page.keyboard.press("Alt+ArrowUp")
        page.goto(self.workflow(RECORDING) + "?line=pondside")
        mend = page.get_by_role("button", name="Move “post” behind “editor”")
        mend.click()
        expect(mend).to_have_count(0)


class Rows(WithBrowser):
    def test_chosen_rows_are_sent_through_a_workflow(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/sheets/topics")
        page.get_by_label("Choose row 3").check()
        page.get_by_label("Choose row 4").check()
        page.get_by_role("button", name="Send 2 rows through …").click()
        page.get_by_role("button", name="Begin 2 runs").click()
        expect(page.get_by_text("2 runs began.", exact=False)).to_be_visible()
        expect(page.get_by_role("button", name="Send 2 rows through …")).to_have_count(0)
