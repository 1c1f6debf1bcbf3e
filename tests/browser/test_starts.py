"""Starts, blocks and runs that ask, through the screens: as a maker, and as a stranger with a form."""

from __future__ import annotations

import json
import re
import urllib.error
import urllib.request

from playwright.sync_api import expect

from practice_town import reports
from tests.browser.place import WithBrowser


class Forms(WithBrowser):
    def test_a_stranger_fills_in_the_form_and_the_reply_waits_for_approval(self) -> None:
        page = self.page
        self.open_workflow("Visitors’ questions")
        page.get_by_text("When the form").first.click()
        panel = page.get_by_label("Bench", exact=True)
        address = panel.get_by_role("link", name="Open", exact=True).get_attribute("href")
        stranger = self.visitor()
        stranger.goto(str(address))
        stranger.get_by_role("button", name="Ask").click()
        expect(stranger.get_by_text("Please fill this in.")).to_have_count(3)
        stranger.get_by_label("Your name").fill("Bram Okonjo")
        stranger.get_by_label("What is it about?").select_option("Something else")
        stranger.get_by_label("Your question").fill("May we bring two dogs along on the boat?")
        stranger.get_by_role("button", name="Ask").click()
        expect(stranger.get_by_role("status").first).to_contain_text("Dory will write to you")
        page.goto(f"{self.demo.url}/runs?words=Bram&state=asking")
        page.get_by_role("row").nth(1).get_by_role("link").first.click()
        expect(page.get_by_role("grid", name="The page as it ran")).to_contain_text("waits for a person")

    def test_a_sample_is_filled_in_like_the_form_with_its_file(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_text("A template", exact=True).click()
        page.get_by_role("button", name=re.compile("^Report to article")).click()
        page.get_by_role("button", name="Type one in …").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("The report").set_input_files(
            {"name": "seed-report.pdf", "mimeType": "application/pdf", "buffer": reports.pdf("seed-year.pdf")}
        )
        dialog.get_by_label("In what tone").fill("plain")
        dialog.get_by_role("button", name="Keep as a sample").click()
        head = page.get_by_role("columnheader", name=re.compile("seed-report.pdf"))
        expect(head).to_be_visible()
        self.cell(2).click()
        page.keyboard.press("r")
        expect(self.cell(2)).to_contain_text("words", timeout=30_000)
        expect(self.cell(2)).not_to_contain_text("failed")
        # A changed copy keeps the file, and shows what was filled in.
        head.get_by_role("button").last.click()
        page.get_by_role("menuitem", name=re.compile("Change a copy")).click()
        expect(page.get_by_role("dialog").get_by_label("In what tone")).to_have_value("plain")
        page.get_by_role("dialog").get_by_label("In what tone").fill("warm")
        page.get_by_role("dialog").get_by_role("button", name="Keep as a sample").click()
        expect(page.get_by_role("columnheader", name=re.compile("seed-report.pdf"))).to_have_count(2)

    def test_fields_are_added_and_named(self) -> None:
        page = self.page
        self.open_workflow("Visitors’ questions")
        page.get_by_text("When the form").first.click()
        page.get_by_role("button", name="Add a field").click()
        label = page.get_by_label("Label of field 6")
        label.fill("Your boat")
        page.get_by_label("Type of Your boat").select_option("choice")
        expect(page.get_by_label("Choices of Your boat, one on each line")).to_have_value("Yes\nNo")
        page.locator("fieldset li").nth(5).get_by_role("button", name="More").click()
        expect(page.get_by_label("Called in slots")).to_have_value("your_boat")
        page.get_by_role("button", name="Remove the field").click()
        expect(page.get_by_label("Label of field 6")).to_have_count(0)


class Clock(WithBrowser):
    def test_a_schedule_is_said_in_words_with_its_next_times(self) -> None:
        page = self.page
        self.open_workflow("Weekly round of the seed pages")
        page.get_by_text("Every Monday at 07:00").click()
        times = page.get_by_role("list", name="Next times")
        expect(times.get_by_role("listitem")).to_have_count(5)
        expect(times.get_by_role("listitem").first).to_contain_text("Mon,")
        page.get_by_role("button", name="Thu", exact=True).click()
        expect(page.get_by_role("rowheader").nth(0)).to_contain_text("Every Monday and Thursday at 07:00")
        page.get_by_label("How often").select_option("nth")
        page.get_by_label("Which one").select_option("-1")
        expect(page.get_by_role("rowheader").nth(0)).to_contain_text("last Monday or Thursday")
        page.get_by_role("button", name="Write it as a rule").click()
        page.get_by_label("Rule", exact=True).fill("FREQ=SOMETIMES")
        expect(page.get_by_text("This is not a rule of RFC 5545").first).to_be_visible()

    def test_a_run_on_a_sample_is_asked_about_first(self) -> None:
        page = self.page
        self.open_workflow("Topic list to posts")
        page.get_by_text("with the next unused row").click()
        page.get_by_role("button", name="Run on this sample …").click()
        expect(page.get_by_role("dialog")).to_contain_text("for real")
        page.get_by_role("button", name="Start the run").click()
        expect(page.get_by_role("grid", name="The page as it ran")).to_be_visible()
        page.get_by_role("button", name="Pause").click()
        expect(page.get_by_role("alert")).to_contain_text("Paused by Mara")
        page.get_by_role("button", name="Go on", exact=True).click()
        expect(page.get_by_role("link", name="Read and decide")).to_be_visible()
        page.get_by_role("button", name="Cancel the run").click()
        page.get_by_role("button", name="Carry out again").click()
        expect(page.get_by_role("link", name="Read and decide")).to_be_visible()


class Blocks(WithBrowser):
    def test_a_block_opens_to_its_items_and_one_is_taken_up(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/runs?words=Monday%E2%80%99s%20round")
        page.get_by_role("row").nth(1).get_by_role("link").first.click()
        grid = page.get_by_role("grid", name="The page as it ran")
        expect(grid).to_contain_text("4 items · 1 failed")
        page.get_by_text("Read the page at").click()
        items = page.get_by_role("list", name="Carried out for")
        expect(items.get_by_role("listitem")).to_have_count(4)
        items.get_by_role("button", name=re.compile("a-page-that-was-moved")).click()
        expect(page.get_by_text("nothing at this address").first).to_be_visible()
        items.get_by_role("button", name="Take up").click()
        expect(grid).to_contain_text("waits for a person", timeout=25_000)

    def test_proofs_of_a_block(self) -> None:
        page = self.page
        self.open_workflow("Weekly round of the seed pages")
        expect(self.cell(3)).to_contain_text("4 items · 1 failed")
        expect(self.cell(4)).to_contain_text("3 done")
        page.get_by_text("Draft “One line”").click()
        expect(page.get_by_role("list", name="Carried out for").get_by_role("listitem")).to_have_count(3)
        expect(page.get_by_label("Bench", exact=True)).to_contain_text("If it still fails")

    def test_a_fork_shows_its_lanes_and_which_ran(self) -> None:
        page = self.page
        self.open_workflow("Visitors’ questions")
        expect(page.get_by_text('If question.about is "Steering a boat"')).to_be_visible()
        expect(page.get_by_text("did not run here").first).to_be_visible()
        page.get_by_text("Take the first lane that fits").click()
        lane = page.get_by_role("group", name="Condition of the lane steering")
        expect(lane.get_by_label("With what")).to_have_value("Steering a boat")
        lane.get_by_role("button", name="Type it").click()
        page.get_by_label("Condition of the lane steering").fill("nobody.x is 1")
        expect(page.get_by_text("No earlier step is called “nobody”").first).to_be_visible()


class Calls(WithBrowser):
    def test_a_webhook_from_the_practice_town(self) -> None:
        page = self.page
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "New customers",
            "start": {"id": "call", "kind": "call", "settings": {"title": "<<call.body.record.name>>", "proof": "signed"}},
            "steps": [{"id": "said", "kind": "set_values", "settings": {"values": {"text": "Hello <<call.body.record.name>>"}}}],
        }
        made = page.evaluate(
            """async (document) => {
              const session = await (await fetch('/api/session')).json();
              const headers = {'Content-Type': 'application/json', 'X-CSRF-Token': session.csrf};
              const made = await (await fetch('/api/workflows', {method: 'POST', headers, body: JSON.stringify({document, name: ''})})).json();
              await fetch(`/api/workflows/${made.id}/live`, {method: 'POST', headers, body: '{}'});
              return made.id;
            }""",
            document,
        )
        page.goto(f"{self.demo.url}/workflows/{made}?line=call")
        panel = page.get_by_label("Bench", exact=True)
        panel.get_by_role("button", name="Show").click()
        address, secret = (panel.locator("code").nth(i).inner_text() for i in range(2))
        town = self.visitor()
        town.goto(f"{self.demo.town}/customers")
        town.get_by_label("Address").fill(address)
        town.get_by_label("Secret, where calls are signed").fill(secret)
        town.get_by_role("button", name="Call").click()
        expect(town.locator(".say")).to_contain_text("202: ")
        page.goto(f"{self.demo.url}/runs?words=Ottoline")
        expect(page.get_by_role("row").nth(1)).to_contain_text("Ottoline Varley")
        refused = urllib.request.Request(address, data=json.dumps({"a": 1}).encode(), method="POST")
        with self.assertRaises(urllib.error.HTTPError):
            urllib.request.urlopen(refused)
