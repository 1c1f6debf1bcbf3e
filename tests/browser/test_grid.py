"""A sheet that is open all day: blocks, filling, undoing, groups, views, what stands under columns, a large sheet, and two people at once."""

from __future__ import annotations

import csv
import io
import re

from playwright.sync_api import Page, expect

from tests.browser.place import WithBrowser
from tests.short import long

COPIED = """() => new Promise((done) => {
  const grid = document.querySelector("[role=grid]");
  const data = new DataTransfer();
  grid.dispatchEvent(new ClipboardEvent("copy", { clipboardData: data, bubbles: true, cancelable: true }));
  done(data.getData("text/plain"));
})"""
PASTE = """(text) => {
  const data = new DataTransfer();
  data.setData("text/plain", text);
  document.querySelector("[role=grid]").dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true }));
}"""
FRAMES = """() => new Promise((done) => {
  const frame = document.querySelector("[role=grid]").parentElement;
  const times = [];
  let last = performance.now();
  const step = () => {
    const now = performance.now();
    times.push(now - last);
    last = now;
    frame.scrollTop += 120;
    times.length < 90 ? requestAnimationFrame(step) : done(times.slice(5));
  };
  requestAnimationFrame(step);
})"""

OPENED = """() => new Promise((done) => {
  const began = performance.now();
  const seen = () =>
    document.querySelector("[role=grid] [role=gridcell]")
      ? requestAnimationFrame(() => done(performance.now() - began))
      : requestAnimationFrame(seen);
  [...document.querySelectorAll("a")].find((a) => a.textContent.includes("Many")).click();
  requestAnimationFrame(seen);
})"""


class Blocks(WithBrowser):
    def setUp(self) -> None:
        super().setUp()
        self.open(self.page)
        self.grid = self.page.get_by_role("grid", name="Topics for spring")

    def open(self, page: Page) -> None:
        page.goto(f"{self.demo.url}/sheets/topics")
        page.get_by_role("grid", name="Topics for spring").get_by_role("row").nth(8).wait_for()

    def cell(self, row: int, column: int, page: Page | None = None):  # type: ignore[no-untyped-def]
        grid = (page or self.page).get_by_role("grid", name="Topics for spring")
        return grid.get_by_role("row").nth(row).get_by_role("gridcell").nth(column - 1)

    def test_copied_pasted_filled_down_emptied_and_taken_back(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.cell(2, 1).click()
        keys.press("Shift+ArrowRight")
        keys.press("Shift+ArrowDown")
        block = page.evaluate(COPIED)
        rows = [line.split("\t") for line in block.split("\n")]
        self.assertEqual([row[0] for row in rows], ["Saving tomato seed", "Widow Amblin bean"])
        self.assertEqual([row[1][:22] for row in rows], ["Saving tomato seed nee", "The Widow Amblin bean "])
        self.cell(5, 1).click()
        page.evaluate(PASTE, 'two\tlines\n"with\nan end"\tx')
        expect(self.cell(6, 1)).to_have_text("with an end")
        expect(self.cell(5, 2)).to_have_text("lines")
        keys.press("Control+z")
        expect(self.cell(6, 1)).to_have_text("The second vault")
        expect(self.cell(5, 1)).to_have_text("School Strip packets")
        keys.press("Control+Shift+z")
        expect(self.cell(6, 1)).to_have_text("with an end")
        self.cell(1, 3).click()
        for _ in range(3):
            keys.press("Shift+ArrowDown")
        keys.press("Control+d")
        expect(self.cell(4, 3)).to_have_text("March")
        keys.press("Delete")
        expect(self.cell(4, 3)).to_have_text("")
        page.get_by_role("button", name="Undo").click()
        expect(self.cell(4, 3)).to_have_text("March")
        page.get_by_role("button", name="Undo").click()
        expect(self.cell(4, 3)).to_have_text("February")

    def test_a_text_of_several_lines_is_written_and_kept(self) -> None:
        keys = self.page.keyboard
        self.cell(7, 2).click()
        keys.press("Enter")
        keys.press("Alt+Enter")
        keys.type("and a line")
        keys.press("Enter")
        expect(self.page.locator("p", has_text="Row 8, Angle")).to_be_visible()
        keys.press("ArrowUp")
        expect(self.page.locator("p", has_text="Row 7, Angle")).to_contain_text(re.compile("a week without rain\\.\nand a line"))

    def test_groups_columns_and_what_stands_under_them_are_kept_as_a_view(self) -> None:
        page = self.page
        page.get_by_label("In groups by").select_option(label="Month")
        expect(page.get_by_role("button", name="April 1 row")).to_be_visible()
        page.get_by_role("button", name="April 1 row").click()
        expect(self.grid.get_by_text("Widow Amblin bean")).to_have_count(0)
        self.of_column("Angle", "Hide it")
        expect(page.get_by_role("columnheader", name="Angle")).to_have_count(0)
        self.of_column("Used", "empty")
        expect(page.get_by_role("row", name="What the columns come to")).to_contain_text("empty 7")
        page.get_by_role("button", name=re.compile("^View:")).click()
        page.get_by_role("menuitem", name="Keep it under a name …").click()
        page.get_by_label("Name", exact=True).fill("By month")
        page.get_by_role("button", name="Keep it").click()
        page.reload()
        expect(page.get_by_role("columnheader", name="Angle")).to_be_visible()
        page.get_by_role("button", name=re.compile("^View:")).click()
        page.get_by_role("menuitem", name="By month").click()
        expect(page.get_by_role("columnheader", name="Angle")).to_have_count(0)
        expect(page.get_by_role("row", name="What the columns come to")).to_contain_text("empty 7")
        page.get_by_role("button", name="Show 1 hidden column").click()
        expect(page.get_by_role("columnheader", name="Angle")).to_be_visible()

    def of_column(self, name: str, item: str) -> None:
        self.page.get_by_role("columnheader", name=name).hover()
        self.page.get_by_role("button", name=f"Column {name}").click()
        self.page.get_by_role("menuitem", name=item, exact=True).click()

    def test_two_people_see_each_other_s_cells_and_what_the_other_writes(self) -> None:
        other = self.visitor("Ines Varga")
        self.open(other)
        self.cell(3, 2).click()
        expect(self.cell(3, 2, other)).to_have_attribute("title", re.compile("is here$"))
        self.page.keyboard.type("seen by both")
        self.page.keyboard.press("Enter")
        expect(self.cell(3, 2, other)).to_have_text("seen by both")
        self.page.get_by_role("link", name="Today").click()
        expect(self.cell(4, 2, other)).not_to_have_attribute("title", re.compile("is here$"))

    def test_a_cell_a_run_wrote_leads_to_its_line(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/sheets/posts_out")
        page.get_by_role("gridcell").nth(2).click()
        page.get_by_role("link", name=re.compile("^Written by ")).click()
        expect(page).to_have_url(re.compile(r"/runs/\d+\?line=\w+"))
        expect(page.get_by_role("grid", name="The page as it ran")).to_be_visible()


class Large(WithBrowser):
    @long
    def test_a_hundred_thousand_rows_are_brought_in_gone_through_and_narrowed(self) -> None:
        page = self.page
        out = io.StringIO()
        csv.writer(out).writerows([["Name", "Town", "Price"], *([f"Person {n}", f"Town {n % 40}", n] for n in range(100_000))])
        page.goto(f"{self.demo.url}/sheets")
        page.get_by_role("button", name="New sheet").click()
        page.get_by_label("Name", exact=True).fill("Many")
        file = {"name": "many.csv", "mimeType": "text/csv", "buffer": out.getvalue().encode()}
        page.get_by_role("dialog").get_by_label("A file of rows").set_input_files(file)  # type: ignore[arg-type]
        grid = page.get_by_role("grid", name="Many")
        grid.wait_for(timeout=60_000)
        expect(page.get_by_text("100,000 rows", exact=True)).to_be_visible()
        grid.focus()
        page.keyboard.press("Control+End")
        expect(grid.get_by_text("Person 99999", exact=True)).to_be_visible()
        page.keyboard.press("Control+Home")
        expect(grid.get_by_text("Person 0", exact=True)).to_be_visible()
        frames = page.evaluate(FRAMES)
        print(f"frames while a hundred thousand rows scroll: {sum(f < 20 for f in frames)} of {len(frames)} within 20 ms")
        opened = []
        for _ in range(5):
            page.get_by_role("link", name="Sheets", exact=True).click()
            page.get_by_role("link", name="Many").wait_for()
            opened.append(page.evaluate(OPENED))
        print(f"opening a hundred thousand rows, from the press to rows on the screen: {sorted(round(ms) for ms in opened)} ms")
        page.get_by_label("Find in this sheet").fill("person 4242")
        expect(page.get_by_text("20 of 100,000 rows")).to_be_visible()
        grid.get_by_role("checkbox").nth(1).check()
        page.get_by_role("button", name="Choose all 20").click()
        expect(page.get_by_role("button", name="Send 20 rows through …")).to_be_visible()
        page.get_by_role("button", name="Choose none").click()
        page.get_by_label("Find in this sheet").fill("")
        page.get_by_label("In groups by").select_option(label="Town")
        expect(page.get_by_role("button", name="Town 0 2,500 rows")).to_be_visible()
