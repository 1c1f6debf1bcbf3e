"""The workbench as a person uses it: writing the page with keys alone, blocks, takes, undo, two people, a lost line."""

from __future__ import annotations

import json
import re
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.place import WithBrowser
from tests.short import long

MADE = """
async ({town}) => {
  const csrf = (await (await fetch('/api/session')).json()).csrf;
  const headers = {'Content-Type': 'application/json', 'X-CSRF-Token': csrf};
  const send = async (path, body) => (await fetch(path, {method: 'POST', headers, body: JSON.stringify(body)})).json();
  const url = `${town}/companies/varley/`;
  const steps = [{id: 'page', kind: 'read_page', settings: {url}}, {id: 'links', kind: 'site_links', settings: {url}}];
  const document = {format: 'ulmus-workflow', version: 1, name: 'Sources', brand: null, start: {id: 'start', kind: 'by_hand'}, steps};
  const {id} = await send('/api/workflows', {document});
  await send(`/api/workflows/${id}/samples`, {item: {title: 'One'}});
  return id;
}
"""

SLOW_EDITS = """
const fetched = window.fetch;
window.fetch = async (request, ...more) => {
  if (String(request.url ?? request).endsWith("/edits")) await new Promise((done) => setTimeout(done, 400));
  return fetched(request, ...more);
};
"""


class Workbench(WithBrowser):
    def blank(self, name: str, brand: str = "Marrow") -> None:
        """A blank page, made with keys; it asks what sets it off."""
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").press("Enter")
        keys = page.keyboard
        page.get_by_label("What should happen").wait_for()
        keys.press("Shift+Tab")
        keys.press("Shift+Tab")
        keys.press("Shift+Tab")
        keys.press("ArrowDown")
        keys.press("ArrowDown")
        keys.press("Tab")
        keys.type(name)
        keys.press("Tab")
        keys.type(brand)
        keys.press("Tab")
        keys.press("Enter")
        page.get_by_role("combobox", name="What sets it off?").wait_for()

    def say(self, words: str, line: str | re.Pattern[str]) -> None:
        """Take the first thing the finder offers for `words`; wait for the line it makes."""
        options = self.page.get_by_role("listbox", name="What can come next").get_by_role("option")
        self.page.keyboard.type(words)
        called = line if isinstance(line, re.Pattern) else re.compile(re.escape(line))
        expect(options.first).to_have_accessible_name(called)
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("combobox", name=re.compile("What (happens next|sets it off)"))).to_have_count(0)
        # What is typed from here on goes into the new line's first field.
        expect(self.page.locator("[data-settings] :focus")).to_have_count(1)

    def leave(self) -> None:
        """Out of a field, back to the page."""
        # The list of values opens when it has come: Escape closes it first, and leaves the field then.
        typing = "!!document.activeElement?.closest('input, textarea, select, [contenteditable=true]')"
        while self.page.evaluate(typing):
            self.page.keyboard.press("Escape")

    def add(self, words: str, line: str | re.Pattern[str]) -> None:
        self.leave()
        self.page.keyboard.press("n")
        self.page.get_by_role("combobox", name="What happens next?").wait_for()
        self.say(words, line)

    def rows(self, page: Page | None = None) -> list[str]:
        return [re.sub(r"\s+", " ", t) for t in (page or self.page).get_by_role("rowheader").all_inner_texts()]

    def from_a_feed(self, name: str) -> None:
        self.blank(name)
        self.say("feed", "A new item in a feed")
        keys = self.page.keyboard
        expect(self.page.get_by_label("Feed address")).to_be_focused()
        keys.type(f"{self.demo.town}/sites/furrow-letter/feed.rss")
        keys.press("Escape")
        expect(self.page.get_by_text("Saved", exact=True)).to_be_visible()


class AtTheBench(Workbench):
    def test_what_is_typed_while_a_line_is_made_goes_into_its_first_field(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.from_a_feed("Typed ahead")
        self.leave()
        page.add_init_script(SLOW_EDITS)
        page.reload()
        page.get_by_role("rowheader").first.wait_for()
        offers = page.get_by_role("listbox", name="What can come next").get_by_role("option")
        keys.press("n")
        page.get_by_role("combobox", name="What happens next?").wait_for()
        keys.type("read a page")
        expect(offers.first).to_have_accessible_name(re.compile("Read a page"))
        keys.press("Enter")
        # As fingers do it: Shift is a key that goes down before the letter.
        keys.down("Shift")
        keys.press("M")
        keys.up("Shift")
        keys.type("adx")
        keys.press("Backspace")
        expect(page.locator("[data-settings] :focus")).to_contain_text(re.compile("Mad$"))
        expect(page.get_by_text("muted", exact=True)).to_have_count(0)
        self.leave()
        keys.press("n")
        page.get_by_role("combobox", name="What happens next?").wait_for()
        keys.type("add a row")
        expect(offers.first).to_have_accessible_name(re.compile("Add a row"))
        # Whoever adds line after line is not held up: Escape is the page's at once.
        keys.press("Enter")
        keys.press("Escape")
        keys.press("n")
        expect(page.get_by_role("combobox", name="What happens next?")).to_be_focused()
        expect(page.get_by_role("rowheader").filter(has_text="Add a row")).to_have_count(1)

    def test_from_a_blank_page_to_proofs(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.from_a_feed("Keys alone")
        for words, line in (
            ("read", "Read a page"),
            ("draft", "Draft with"),
            ("ask", "Ask somebody"),
            ("post to pond", "Post to Pondside"),
            ("row posts", "Add a row to Posts out"),
        ):
            self.add(words, line)
        expect(page.get_by_role("rowheader")).to_have_count(6)
        keys.press("Escape")
        take = page.get_by_role("button", name="Take the latest from the start")
        take.focus()
        keys.press("Enter")
        expect(page.get_by_text("Lead sample")).to_be_visible()
        # A post of at most 300 characters, as the network takes no more.
        page.get_by_role("rowheader").nth(2).get_by_role("button").click()
        page.get_by_role("textbox", name="Prompt", exact=True).press("Control+Home")
        keys.type("One short post of one sentence.")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        keys.press("Escape")
        keys.press("a")
        expect(page.get_by_text("would ask").first).to_be_visible(timeout=20_000)
        expect(page.get_by_text(re.compile("would go out|takes at most")).first).to_be_visible(timeout=20_000)

    def test_an_assignment_is_built_from_blank_and_proofed(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.blank("Looks round")
        self.say("hand", re.compile("hand"))
        self.add("assignment", re.compile("assignment with tools"))
        self.add("search valley", re.compile("Valley search"))
        self.add("read page", "Read a page")
        # What the model is to give stands in the tools by itself.
        expect(page.get_by_role("rowheader").nth(2)).to_contain_text("given.")
        expect(page.get_by_role("rowheader").nth(3)).to_contain_text("given.")
        page.get_by_role("rowheader").nth(1).get_by_role("button").click()
        page.get_by_role("textbox", name="Goal", exact=True).click()
        keys.type("Find what is new about seed and read two articles.")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.get_by_role("button", name="Type one in").click()
        page.get_by_role("dialog").get_by_role("textbox").first.fill("Monday")
        page.get_by_role("dialog").get_by_role("button", name=re.compile("Add|Keep")).click()
        expect(page.get_by_text("Lead sample")).to_be_visible()
        page.get_by_role("button", name=re.compile("^Run .* out of date")).click()
        expect(page.get_by_text("What it did")).to_be_visible(timeout=30_000)
        expect(page.get_by_text("Found at")).to_be_visible()
        self.assertEqual(page.locator("ol > li .slot").all_inner_texts()[:2], ["search", "page"])

    def test_everything_can_be_undone(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.from_a_feed("Undone")
        self.add("read", "Read a page")
        self.add("draft", "Draft with")
        expect(page.get_by_role("rowheader")).to_have_count(3)
        before = self.rows()
        self.leave()
        keys.press("d")
        expect(page.get_by_role("rowheader")).to_have_count(4)
        keys.press("Alt+ArrowUp")
        expect(page.get_by_role("rowheader").nth(2)).to_contain_text("Draft")
        keys.press("Delete")
        expect(page.get_by_role("rowheader")).to_have_count(3)
        keys.press("m")
        expect(page.get_by_text("muted", exact=True)).to_be_visible()
        for _ in range(4):
            keys.press("Control+z")
            expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        self.soon(lambda: self.rows() == before, "undone")
        keys.press("Control+Shift+z")
        expect(page.get_by_role("rowheader")).to_have_count(4)
        page.reload()
        expect(page.get_by_role("rowheader")).to_have_count(4)

    def test_a_block_with_drafts_inside_and_a_fork(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.blank("Blocks")
        self.say("by hand", "By hand")
        self.add("set values", "Set values")
        page.get_by_role("button", name="Add a value").click()
        page.get_by_role("textbox", name="value_1", exact=True).click()
        keys.type("bean, pea")
        keys.press("Escape")
        self.add("for each", "For each")
        box = page.get_by_role("textbox", name="Go through")
        box.click()
        keys.press("Control+a")
        keys.type("<<set.value_1 | split ")
        keys.type('", ">>')
        keys.press("Escape")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        self.add("draft", "Draft with")
        prompt = page.get_by_role("textbox", name="Prompt", exact=True)
        prompt.click()
        keys.press("Control+a")
        keys.type("One line about <<item>>. Seed of this kind was sown in spring and gave a full crop by autumn.")
        keys.press("Escape")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        depth = page.get_by_role("rowheader").nth(3).get_by_role("button")
        self.assertNotEqual(depth.evaluate("b => b.style.paddingLeft"), "")
        keys.press("Escape")
        page.get_by_role("button", name="Type one in").click()
        page.get_by_role("button", name="As JSON").click()
        page.get_by_label("The item as JSON").fill('{"title": "Two crops"}')
        page.get_by_role("button", name="Keep as a sample").click()
        expect(page.get_by_text("Lead sample Two crops")).to_be_visible()
        keys.press("a")
        expect(self.cell(4)).to_contain_text("2 done", timeout=20_000)
        # A fork after the block, with one more lane and a step taken into it.
        page.get_by_role("button", name="Add a line").click()
        self.say("fork", "Fork")
        page.get_by_role("button", name="Add a lane").click()
        expect(page.get_by_role("rowheader").filter(has_text="Otherwise")).to_have_count(3)
        lane = page.get_by_role("group", name=re.compile("Condition of the lane")).first
        lane.get_by_role("button", name="Set a condition").click()
        page.get_by_label("Find a value").fill("each_one.count")
        keys.press("Enter")
        lane.get_by_label("How it is compared").select_option("is more than")
        lane.get_by_label("With what").fill("1")
        expect(page.get_by_role("rowheader").filter(has_text="If each_one.count is more than 1")).to_be_visible()
        page.get_by_label(re.compile("Remove the lane")).nth(1).click()
        expect(page.get_by_role("rowheader").filter(has_text="Otherwise")).to_have_count(1)

    def test_a_description_becomes_a_page_to_look_through(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        told = page.get_by_label("What should happen")
        told.fill(
            "When the feed at https://furrow.example/feed.rss has a new article, read the page, write a short post about it, "
            "ask the editor and publish it."
        )
        told.press("Control+Enter")
        expect(page.get_by_role("status").filter(has_text="Drafted from")).to_be_visible(timeout=20_000)
        for words in ("furrow.example", "Read the page at feed.link", "Draft “Short post", "Ask Mara", "Post to Pondside"):
            expect(page.get_by_role("rowheader").filter(has_text=words)).to_have_count(1)
        # What the channel does not take is a rule of the draft already; who is asked was only guessed.
        expect(page.get_by_role("rowheader").filter(has_text="takes at most")).to_have_count(0)
        number = re.search(r"/workflows/(\d+)", page.url)
        assert number is not None
        document = page.request.get(f"{self.demo.url}/api/workflows/{number[1]}/bench").json()["document"]
        draft = next(line for line in document["steps"] if line["kind"] == "draft")
        self.assertEqual([rule["most"] for rule in draft["settings"]["rules"] if rule["rule"] == "length"], [300])
        expect(page.get_by_role("rowheader").filter(has_text="A guess: Nobody was named")).to_have_count(1)

    def test_a_template_is_begun_from(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_role("radio", name="A template").check(force=True)
        page.get_by_role("button", name=re.compile("News to a post")).click()
        expect(page.get_by_role("rowheader").filter(has_text="Ask Mara")).to_be_visible()
        expect(page.get_by_role("rowheader").filter(has_text="Feed address: Missing")).to_be_visible()

    def test_cells_are_compared_and_values_found_by_content(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        expect(page.get_by_role("button", name="Compare")).to_be_visible()
        page.get_by_role("button", name="Compare").click()
        page.get_by_role("gridcell", selected=True).focus()
        keys.press("ArrowRight")
        expect(page.get_by_text(re.compile("% of the words are the same"))).to_be_visible()
        expect(page.locator("[aria-label=Bench] ins").first).to_be_visible()
        keys.press("c")
        page.get_by_role("button", name="Put in a value").first.click()
        page.get_by_label("Find a value").fill("furrow-letter/")
        expect(page.get_by_role("treeitem").filter(has_text="feed.link")).to_be_visible()
        keys.press("Escape")

    def test_pictures_and_lists_of_a_source_are_shown(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        made = page.evaluate(MADE, {"town": self.demo.town})
        page.goto(f"{self.demo.url}/workflows/{made}?line=page")
        page.get_by_role("button", name="Run this cell").click()
        page.get_by_text(re.compile("Also given: .*image")).click(timeout=20_000)
        picture = page.get_by_label("Bench", exact=True).get_by_role("img").first
        picture.scroll_into_view_if_needed()
        expect(picture).to_have_js_property("complete", True)
        self.assertGreater(picture.evaluate("p => p.naturalWidth"), 10, "it comes through the house")
        page.get_by_text("Find the links of").click()
        page.get_by_role("button", name="Run this cell").click()
        expect(page.get_by_role("region", name="Table").get_by_role("row").nth(2)).to_contain_text("About us", timeout=20_000)

    def test_a_line_is_dragged_to_another_place(self) -> None:
        self.open_workflow("Canal news to Pondside")
        rows = self.page.get_by_role("rowheader")
        last = rows.count() - 1
        box = rows.nth(1).bounding_box()
        assert box is not None
        rows.nth(last).drag_to(rows.nth(1), target_position={"x": 200, "y": 3})
        expect(rows.nth(1)).to_contain_text("Add a row")
        self.page.get_by_role("button", name="Undo").click()
        expect(rows.nth(last)).to_contain_text("Add a row")

    def test_lines_are_copied_as_text_from_page_to_page(self) -> None:
        page = self.page
        page.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        page.keyboard.press("Escape")
        page.get_by_text("Draft “Short post”").click()
        page.get_by_role("button", name="Line …").click()
        page.get_by_role("menuitem", name="Copy as text").click()
        expect(page.get_by_text("Copied.")).to_be_visible()
        text = page.evaluate("navigator.clipboard.readText()")
        self.assertEqual(json.loads(text)["format"], "ulmus-lines")
        self.open_workflow("Canal news to Pondside")
        count = page.get_by_role("rowheader").count()
        page.evaluate(
            """text => {
              const data = new DataTransfer(); data.setData('text/plain', text);
              document.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));
            }""",
            text,
        )
        expect(page.get_by_role("rowheader")).to_have_count(count + 1)
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_role("rowheader")).to_have_count(count)

    def test_another_take_is_judged_blind_and_kept(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        page.get_by_role("button", name="Another take").click()
        page.get_by_label("What it tries").fill("A question first")
        page.get_by_role("textbox", name="Prompt", exact=True).press("Control+Home")
        keys.type("Ask a question. ")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.get_by_role("button", name="The row").click()
        rows = page.get_by_role("gridcell", name=re.compile("^Take of line 3"))
        expect(rows.nth(2)).to_contain_text(re.compile("rules|characters"), timeout=30_000)
        page.get_by_role("button", name="Side by side").click()
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("Draft 1")).to_be_visible()
        self.assertNotIn("A question first", dialog.inner_text())
        for n in range(3):
            expect(dialog.get_by_text(f"{n} judged")).to_be_visible()
            keys.press("1")
        expect(dialog.get_by_role("row", name=re.compile("A question first"))).to_contain_text("of 3")
        keys.press("Escape")
        page.get_by_role("button", name="Keep this one").click()
        expect(page.get_by_text("or: A question first")).to_have_count(0)
        expect(page.get_by_role("textbox", name="Prompt", exact=True)).to_contain_text("Ask a question.")

    def test_offers_at_the_end_of_a_page_come_into_sight(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.open_workflow()
        page.set_viewport_size({"width": 1280, "height": 620})
        page.get_by_role("button", name="Add a line").click()
        keys.type("post")
        offers = page.get_by_role("listbox", name="What can come next")
        expect(offers.get_by_role("option").nth(2)).to_be_in_viewport()
        keys.press("Enter")
        expect(page.get_by_role("rowheader").last).to_contain_text("Post to")
        page.get_by_role("button", name="Undo").click()

    def test_live_runs_are_shared_from_the_draft_s_own_settings(self) -> None:
        page = self.page
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        expect(page.get_by_role("textbox", name="Prompt", exact=True)).to_be_visible()
        expect(page.get_by_label("Share live runs between the takes")).to_have_count(0)
        page.get_by_role("button", name="Another take").click()
        page.get_by_label("What it tries").fill("Plainly")
        expect(page.get_by_text("or: Plainly")).to_be_visible()
        page.get_by_text("Draft “Short post”").click()
        page.get_by_label("Share live runs between the takes").check()
        expect(page.get_by_text("or, by lot: Plainly")).to_be_visible()
        page.get_by_role("button", name="The row").click()
        page.get_by_role("button", name="Side by side").click()
        page.get_by_role("dialog").get_by_role("button", name="Show which is which").click()
        expect(page.get_by_role("dialog").get_by_text("none decided yet")).to_have_count(2)

    def test_a_played_note_shows_the_rewrite(self) -> None:
        page = self.page
        self.open_workflow("Canal news to Pondside")
        page.get_by_text(re.compile("^4 Ask")).or_(page.get_by_role("rowheader").nth(3).get_by_role("button")).first.click()
        page.get_by_text("More settings").or_(page.get_by_label("In proofs, send it back")).first.wait_for()
        page.get_by_label("In proofs, send it back with this note").fill("Shorter, and without the name of the town.")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.get_by_role("button", name="The row").click()
        expect(page.get_by_label("Bench", exact=True)).to_contain_text("sent back with the note", timeout=20_000)

    def test_forecast_and_revisions(self) -> None:
        page = self.page
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        page.get_by_role("textbox", name="Prompt", exact=True).press("Control+Home")
        page.keyboard.type("Be brief. ")
        page.get_by_role("button", name="Make the changes live").click()
        dialog = page.get_by_role("dialog")
        forecast = dialog.get_by_label("Forecast")
        expect(forecast).to_contain_text("by its last")
        forecast.get_by_label("Runs in thirty days").fill("1000")
        expect(forecast).to_contain_text("as you typed")
        dialog.get_by_role("button", name="Not yet").click()
        page.get_by_role("button", name="revision 1").click()
        expect(dialog).to_contain_text("~ changed")
        expect(dialog).to_contain_text("Be brief.")
        dialog.get_by_role("button", name="Bring revision 1 back").click()
        expect(page.get_by_text("changed since")).to_have_count(0)

    def test_two_people_see_each_other_and_both_changes_stand(self) -> None:
        page, other = self.page, self.visitor("Mara" if self.who != "Mara" else "Ines")
        self.open_workflow()
        url = page.url.split("?")[0]
        other.goto(url)
        page.get_by_text("Draft “Short post”").click()
        expect(other.get_by_text(re.compile("Mara .* is here, on line 3"))).to_be_visible(timeout=15_000)
        prompt = page.get_by_role("textbox", name="Prompt", exact=True)
        prompt.press("Control+Home")
        page.keyboard.type("Mara was here. ")
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        other.get_by_text("Draft “Short post”").click()
        expect(other.get_by_role("textbox", name="Prompt", exact=True)).to_contain_text("Mara was here.")

    def test_edits_are_kept_while_the_line_is_lost(self) -> None:
        page = self.page
        self.open_workflow()
        page.get_by_text("Draft “Short post”").click()
        prompt = page.get_by_role("textbox", name="Prompt", exact=True)
        prompt.press("Control+Home")
        page.context.set_offline(True)
        page.keyboard.type("Written in the tunnel. ")
        expect(page.get_by_text("Not saved yet").first).to_be_visible()
        page.context.set_offline(False)
        expect(page.get_by_text("Saved", exact=True)).to_be_visible(timeout=12_000)
        page.reload()
        expect(page.get_by_role("textbox", name="Prompt", exact=True)).to_contain_text("Written in the tunnel.")

    def test_gaps_are_listed_and_shown_on_their_lines(self) -> None:
        page = self.page
        document = json.loads(Path("demo/workflows/seed-news.json").read_text("utf-8"))
        for step in document["steps"]:
            if step["kind"] == "add_row":
                step["settings"]["sheet"] = "their_sheet"
        document["name"] = "From elsewhere"
        document["needs"] = {"sheets": {"their_sheet": {"name": "What we sent", "columns": ["Sent on", "Words"]}}}
        file = Path(tempfile.mkdtemp()) / "theirs.json"
        file.write_text(json.dumps(document), "utf-8")
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_role("radio", name="A file").check(force=True)
        page.get_by_label("Workflow file").set_input_files(file)
        note = page.get_by_role("status").filter(has_text="About this page")
        expect(note).to_contain_text("“What we sent” was made, still empty: Sent on, Words.")
        lacking = page.get_by_role("rowheader").filter(has_text="The sheet “What we sent” has no columns")
        expect(lacking).to_be_visible()
        note.get_by_role("button", name="Got it").click()
        expect(note).to_have_count(0)
        lacking.get_by_role("button").click()
        page.get_by_role("button", name=re.compile(r"Add the \d+ columns")).click()
        expect(page.get_by_role("rowheader").filter(has_text="has no column")).to_have_count(0)


MANY = """
async () => {
  const csrf = (await (await fetch('/api/session')).json()).csrf;
  const headers = {'Content-Type': 'application/json', 'X-CSRF-Token': csrf};
  const send = async (path, body) => (await fetch('/api' + path, {method: 'POST', headers, body: JSON.stringify(body)})).json();
  const steps = [];
  for (let n = 1; n <= 120; n++) steps.push({id: `s${n}`, kind: 'set_values', settings: {values: {text: `Number ${n} of <<start.title>>`}}});
  const document = {format: 'ulmus-workflow', version: 1, name: 'Long', brand: null, start: {id: 'start', kind: 'by_hand'}, steps};
  const {id} = await send('/workflows', {document});
  for (const title of ['Ash', 'Birch', 'Cedar']) await send(`/workflows/${id}/samples`, {item: {title}});
  await send(`/workflows/${id}/proofs`, {});
  return id;
}
"""


class ChangeTried(Workbench):
    """In a house of its own: the page is left as it was changed."""

    def test_a_change_is_tried_on_real_items_and_a_test_holds_it_up(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows/3")
        page.get_by_text("Draft “Short post”").first.click()
        page.get_by_label("Add a rule").select_option(label="Number of sentences")
        page.get_by_label("Fewest sentences").last.fill("90")
        page.get_by_label("Most sentences").last.fill("")
        page.get_by_text("More settings").last.click()
        page.get_by_role("button", name="Add a test").click()
        page.get_by_label("Only live when the tests hold").check()
        expect(page.get_by_text("Saved", exact=True)).to_be_visible()
        page.get_by_role("button", name="Make the changes live").click()
        dialog = page.get_by_role("dialog", name="Before it goes live")
        expect(dialog.get_by_text("Its tests were not run")).to_be_visible()
        expect(dialog.get_by_role("button", name="Go live")).to_be_disabled()
        dialog.get_by_role("button", name="Try the change on real items first").click()
        dialog = page.get_by_role("dialog", name="Try the change on real items")
        dialog.get_by_role("button", name="Carry both out").click()
        expect(dialog.get_by_text("against the page as it is now")).to_be_visible(timeout=60_000)
        expect(dialog.get_by_text("Worse")).to_be_visible()
        dialog.get_by_role("button", name=re.compile("broken")).first.click()
        dialog.get_by_role("listitem").get_by_role("button").first.click()
        expect(dialog.get_by_text("at least 90", exact=False).last).to_be_visible()


class LongPage(Workbench):
    def setUp(self) -> None:
        super().setUp()
        self.page.goto(f"{self.demo.url}/workflows")
        made = self.page.evaluate(MANY)
        self.page.goto(f"{self.demo.url}/workflows/{made}")
        self.grid = self.page.get_by_role("grid", name="The page and its proofs")
        expect(self.cell(2)).to_contain_text("Number 1 of Ash")

    def test_only_the_rows_near_are_drawn_and_all_can_be_reached(self) -> None:
        self.assertEqual(self.grid.get_attribute("aria-rowcount"), "122")
        rows = self.page.locator("[data-row]")
        self.assertLess(rows.count(), 40)
        scroller = self.grid.locator("..")
        for _ in range(40):
            scroller.evaluate("box => { box.scrollTop += box.clientHeight }")
            self.page.wait_for_timeout(30)
        last = self.page.locator('[data-row="s120"]')
        expect(last).to_be_visible()
        self.assertEqual(last.get_attribute("aria-rowindex"), "122", "it says where in the page it stands")
        expect(last.get_by_role("gridcell").nth(2)).to_contain_text("Number 120 of Cedar")
        self.assertLess(rows.count(), 40)
        expect(self.page.locator('[data-row="s1"]')).to_have_count(0)

    def test_the_page_goes_along_with_the_keys(self) -> None:
        keys = self.page.keyboard
        self.cell(2).click()
        for n in range(2, 42):
            keys.press("ArrowDown")
            expect(self.page.locator(f'[data-row="s{n}"] [aria-selected=true]')).to_be_visible()
        expect(self.page.locator('[data-row="s41"] [aria-selected=true]')).to_be_focused()
        keys.press("ArrowRight")
        expect(self.page.locator('[data-row="s41"]').get_by_role("gridcell").nth(1)).to_be_focused()

    def test_a_line_far_down_is_opened_by_its_address(self) -> None:
        self.page.goto(f"{self.page.url.split('?')[0]}?line=s100")
        expect(self.page.locator('[data-row="s100"]')).to_be_in_viewport()
        expect(self.page.get_by_label("Bench", exact=True)).to_contain_text("s100")

    @long
    def test_a_line_is_put_in_far_down(self) -> None:
        self.page.goto(f"{self.page.url.split('?')[0]}?line=s90")
        expect(self.page.locator('[data-row="s90"]')).to_be_in_viewport()
        self.page.keyboard.press("Escape")
        self.page.locator('[data-row="s90"]').get_by_role("gridcell").first.click()
        self.add("set values", "Set values")
        expect(self.page.locator("[data-row=set]")).to_be_in_viewport()
        self.page.keyboard.press("Control+z")
        expect(self.page.locator("[data-row=set]")).to_have_count(0)
