"""Sheets, runs, workflows and samples as lists: searched, sorted, pasted into, copied, hidden."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from playwright.sync_api import expect

from tests.browser.place import WithBrowser

PASTE = """
(text) => {
  const data = new DataTransfer();
  data.setData('text/plain', text);
  document.querySelector('[role=grid]').dispatchEvent(new ClipboardEvent('paste', {clipboardData: data, bubbles: true, cancelable: true}));
}
"""


class SheetScreen(WithBrowser):
    def setUp(self) -> None:
        super().setUp()
        self.page.goto(f"{self.demo.url}/sheets/topics")
        self.grid = self.page.get_by_role("grid", name="Topics for spring")
        self.grid.get_by_role("row").nth(5).wait_for()

    def first(self) -> str:
        return self.grid.get_by_role("row").nth(1).get_by_role("gridcell").first.inner_text()

    def test_sorted_by_a_column_and_back(self) -> None:
        head = self.page.get_by_role("columnheader", name="Topic")
        head.click()
        self.soon(lambda: self.first().startswith(("A new", "Bracken")))
        expect(head).to_have_attribute("aria-sort", "ascending")
        head.click()
        self.soon(lambda: self.first().startswith("Widow"))
        head.click()
        self.soon(lambda: self.first().startswith("Sowing onions"))

    def test_found_by_words(self) -> None:
        self.page.get_by_label("Find in this sheet").fill("jam squeeze")
        expect(self.page.get_by_text("1 of 8 rows")).to_be_visible()
        self.page.get_by_label("Find in this sheet").fill("zzz")
        expect(self.page.get_by_text("No row has these words.")).to_be_visible()

    def test_only_rows_that_fit_and_what_is_of_another_type_is_marked_and_taken_back(self) -> None:
        page = self.page
        page.get_by_role("button", name="Only where …").click()
        page.get_by_label("Column", exact=True).select_option(label="Month")
        page.get_by_label("Value").fill("August")
        page.get_by_role("button", name="Show only these").click()
        expect(page.get_by_role("rowheader")).to_have_count(1)
        expect(page.get_by_text("1 of 8 rows")).to_be_visible()
        page.get_by_role("button", name="Month is August").click()
        expect(page.get_by_role("rowheader")).to_have_count(8)
        page.get_by_role("button", name="Row 4", exact=True).click()
        page.get_by_role("menuitem", name="Read it in full").click()
        dialog = page.get_by_role("dialog", name="Bracken compost")
        dialog.get_by_label("Used").fill("soon")
        dialog.get_by_role("button", name="Keep").click()
        expect(dialog.get_by_text("This is no date")).to_be_visible()
        dialog.get_by_label("Used").fill("28.11.2026")
        dialog.get_by_role("button", name="Keep").click()
        expect(dialog.get_by_label("Used")).to_have_value("2026-11-28")
        dialog.get_by_label("Topic").press("Alt+ArrowDown")
        expect(page.get_by_role("dialog", name="School Strip packets")).to_be_visible()
        page.keyboard.press("Alt+ArrowUp")
        page.get_by_role("button", name="What was done to it").click()
        history = page.get_by_role("dialog", name="What was done to row 4")
        expect(history.get_by_role("listitem")).to_have_count(2)
        history.get_by_role("button", name="Take it back").first.click()
        expect(history.get_by_role("listitem")).to_have_count(3)
        page.keyboard.press("Escape")
        expect(page.get_by_role("gridcell", name="soon", exact=True)).to_have_attribute("aria-invalid", "true")

    def test_a_long_cell_is_read_in_full_below(self) -> None:
        self.page.goto(f"{self.demo.url}/sheets/posts_out")
        self.page.get_by_role("gridcell").nth(2).click()
        expect(self.page.get_by_text("Row 1, Post", exact=True)).to_be_visible()
        expect(self.page.locator("p", has_text="Row 1, Post")).to_contain_text("#")

    def test_pasted_from_a_spreadsheet_and_brought_in_as_csv(self) -> None:
        page = self.page
        self.grid.get_by_role("row").nth(8).get_by_role("gridcell").first.click()
        page.evaluate(PASTE, "Night market again\tTwo lamps\nA new topic\tA new angle\n")
        expect(self.grid.get_by_text("A new angle")).to_be_visible()
        expect(page.get_by_text("9 rows", exact=True)).to_be_visible()
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "more.csv"
            file.write_text("Topic,Month\nFrom a file,July\n", "utf-8")
            page.get_by_label("A file of rows").set_input_files(file)
            # The file is read when it is sent, not when it is chosen.
            expect(self.grid.get_by_text("From a file")).to_be_visible()
        page.get_by_role("button", name="More …").click()
        with page.expect_download() as out:
            page.get_by_role("menuitem", name="As CSV").click()
        text = Path(out.value.path()).read_text("utf-8-sig")
        self.assertIn('"A new topic","A new angle"', text)

    def test_a_row_leads_back_to_its_run(self) -> None:
        self.page.goto(f"{self.demo.url}/sheets/posts_out")
        self.page.get_by_label("Row 1", exact=True).click()
        self.page.get_by_role("menuitem", name="The run that wrote it").click()
        expect(self.page.get_by_role("grid", name="The page as it ran")).to_be_visible()


class BrandScreen(WithBrowser):
    def test_facts_are_kept_a_piece_is_liked_and_a_guide_is_taken(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/brands/tillerby")
        page.get_by_text("Add liked examples, and their style is measured here.").wait_for()
        expect(page.get_by_role("button", name="Write a guide from the examples")).to_be_disabled()
        page.get_by_label("What they promise").fill("a week at the pace of a duck")
        page.get_by_role("button", name="Like it").first.click()
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        expect(page.get_by_role("columnheader", name="liked")).to_be_visible()
        page.get_by_role("button", name="Write a guide from the examples").click()
        page.get_by_role("button", name="Take it").click()
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.reload()
        expect(page.get_by_label("What they promise")).to_have_value("a week at the pace of a duck")
        expect(page.get_by_role("textbox", name=re.compile("^Voice"))).to_have_value(re.compile("Write about"))
        expect(page.get_by_role("button", name="Remove")).to_have_count(1)


class WorkflowList(WithBrowser):
    def setUp(self) -> None:
        super().setUp()
        self.page.goto(f"{self.demo.url}/workflows")
        self.page.get_by_role("link", name="Lead brief", exact=True).wait_for()

    def test_by_keys_alone(self) -> None:
        keys = self.page.keyboard
        keys.press("/")
        keys.type("boats canal")
        expect(self.page.locator("a[data-workflow]")).to_have_count(1)
        keys.press("ArrowDown")
        expect(self.page.get_by_role("link", name="Canal news to Pondside")).to_be_focused()
        keys.press("Enter")
        expect(self.page.get_by_role("grid", name="The page and its proofs")).to_be_visible()
        keys.press("l")
        expect(self.page.get_by_role("dialog", name="Before it goes live")).to_be_visible()
        keys.press("Escape")
        keys.press("2")
        expect(self.page.get_by_role("heading", name="Workflows")).to_be_visible()
        keys.press("ArrowDown")
        expect(self.page.locator("a[data-workflow]").first).to_be_focused()
        keys.press("ArrowDown")
        expect(self.page.locator("a[data-workflow]").nth(1)).to_be_focused()
        keys.press("n")
        expect(self.page.get_by_role("dialog", name="New workflow")).to_be_visible()

    def test_what_is_not_found_is_said(self) -> None:
        self.page.get_by_label("Find a workflow").fill("zebra")
        expect(self.page.get_by_text("No workflow is called “zebra”.")).to_be_visible()

    def test_copied_put_away_brought_back_and_deleted(self) -> None:
        page = self.page
        page.get_by_role("link", name="Lead brief", exact=True).click()
        page.get_by_role("button", name="Page …").click()
        page.get_by_role("menuitem", name="Make a copy").click()
        expect(page.get_by_label("The workflow’s name")).to_have_value("Lead brief, copy")
        page.get_by_role("button", name="Page …").click()
        page.get_by_role("menuitem", name="Put away").click()
        expect(page.get_by_text("“Lead brief, copy” is put away")).to_be_visible()
        expect(page.get_by_role("link", name="Lead brief, copy")).to_be_hidden()
        page.get_by_text("Put away (1)").click()
        page.get_by_role("button", name="Bring back").click()
        expect(page.get_by_text("Put away (1)")).to_have_count(0)
        page.get_by_role("link", name="Lead brief, copy").click()
        page.get_by_role("button", name="Page …").click()
        page.get_by_role("menuitem", name="Put away").click()
        page.get_by_text("Put away (1)").click()
        page.get_by_role("button", name="Delete …").click()
        page.get_by_role("dialog").get_by_role("button", name="Delete it").click()
        expect(page.get_by_role("link", name="Lead brief, copy")).to_have_count(0)
        expect(page.get_by_role("link", name="Lead brief", exact=True)).to_be_visible()


class RunList(WithBrowser):
    def test_found_by_words_and_state(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/runs")
        page.get_by_label("Find by words").fill("night market")
        expect(page.get_by_role("row")).to_have_count(2)
        page.get_by_label("Find by words").fill("")
        page.get_by_label("State").select_option("declined")
        expect(page.get_by_role("row").nth(1)).to_contain_text("We wrote about this last week.")
        page.reload()
        expect(page.get_by_label("State")).to_have_value("declined")
        page.get_by_label("Find by words").fill("nothing like it")
        expect(page.get_by_text("No run fits.")).to_be_visible()

    def test_a_run_with_a_note_shows_both_versions(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/approvals")
        page.get_by_role("link", name=re.compile("sent back")).last.click()
        expect(page.get_by_text("Sent back by")).to_be_visible()
        page.get_by_role("link", name="the run").click()
        page.get_by_role("row").filter(has_text=re.compile("Draft “")).first.get_by_role("gridcell").first.click()
        expect(page.get_by_text("How it got there")).to_be_visible()
        self.assertGreater(page.locator("ins, del").count(), 0)


class TwoRuns(WithBrowser):
    def test_two_runs_stand_beside_each_other(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/runs?words=Pondside&state=done")
        page.get_by_role("table").get_by_role("link").first.click()
        page.get_by_role("button", name="Beside another run").click()
        other = page.get_by_label("The run beside this one")
        expect(other.get_by_role("option").nth(1)).to_be_attached()
        other.select_option(index=1)
        expect(page.get_by_role("grid", name="The page as it ran, twice").get_by_role("columnheader")).to_have_count(3)
        page.get_by_role("rowheader").filter(has_text="Draft").first.get_by_role("button").click()
        expect(page.get_by_text(re.compile("of the words are the same|Both are the same"))).to_be_visible()
        page.goto(page.url.split("?")[0] + "?beside=99999")
        expect(page.get_by_text("Run 99999 is not here.")).to_be_visible(timeout=15_000)
        page.get_by_role("button", name="Alone").click()
        expect(page.get_by_role("grid", name="The page as it ran, twice")).to_have_count(0)


class Pages(WithBrowser):
    def test_a_copy_is_a_page_of_its_own_and_its_file_can_be_taken(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_role("radio", name="A copy").check(force=True)
        page.get_by_role("dialog").get_by_role("button", name=re.compile("Canal news")).click()
        name = page.get_by_role("textbox", name="The workflow’s name")
        expect(name).to_have_value("Canal news to Pondside, copy")
        name.fill("Boats to Pondside")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        with page.expect_download() as out:
            page.get_by_role("button", name="Page …").click()
            page.get_by_role("menuitem", name="Save as a file").click()
        self.assertIn('"name": "Boats to Pondside"', Path(out.value.path()).read_text("utf-8"))

    def test_samples_are_added_hidden_and_shown_again(self) -> None:
        self.open_workflow("Canal news to Pondside")
        page = self.page
        page.get_by_role("button", name="Add …").click()
        page.get_by_role("menuitem", name="The start’s latest item").click()
        expect(page.get_by_text("Sample 4")).to_be_visible()
        page.get_by_role("button", name="Sample 4").click()
        page.get_by_role("menuitem", name="Run this column").click()
        expect(self.cell(5, 4)).to_contain_text("would go out", timeout=20_000)
        page.get_by_role("button", name="Sample 4").click()
        page.get_by_role("menuitem", name="Hide it").click()
        expect(page.get_by_text("Sample 4")).to_have_count(0)
        page.get_by_role("button", name="Add …").click()
        page.get_by_role("menuitem").last.click()
        expect(self.cell(5, 4)).to_contain_text("would go out")

    def test_pausing_and_going_live_again_from_the_list(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        row = page.get_by_role("listitem").filter(has_text="Canal news to Pondside").first
        row.get_by_role("button", name="Go live again …").click()
        dialog = page.get_by_role("dialog")
        # What is there is asked about, where something is.
        expect(dialog.get_by_text("Looking what is there")).to_have_count(0)
        if dialog.get_by_text("Say first what becomes of what is there.").count():
            dialog.get_by_text("Pass", exact=False).first.click()
        dialog.get_by_role("button", name="Go live").click()
        expect(dialog).to_have_count(0)
        page.goto(f"{self.demo.url}/workflows")
        expect(row.get_by_text("live", exact=True)).to_be_visible()
        row.get_by_role("button", name="Pause").click()
        expect(row.get_by_text("paused")).to_be_visible()
