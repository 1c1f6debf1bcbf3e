"""A house with nothing in it: the first account, connections, a sheet, a workflow brought in, its gaps filled, live."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from playwright.sync_api import expect, sync_playwright

from practice_town.app import Town
from tests.browser.place import free_port, launch
from tests.runtime.house import page as workflow_file
from tests.runtime.house import reachable
from tests.short import long


class FirstUse(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.town = Town().start()
        self.addCleanup(self.town.stop)
        options = ["--data", str(self.folder)]
        command = [sys.executable, "-m", "ulmus.cli"]
        subprocess.run(
            [*command, "user", "add", "me@a.example", "--name", "Me", "--password", "long enough", *options],
            check=True,
            capture_output=True,
        )
        port = free_port()
        allow = [word for place in reachable(self.town) for word in ("--allow", place)]
        self.server = subprocess.Popen(
            [*command, "serve", "--port", str(port), *allow, *options], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        self.addCleanup(self.stop)
        assert self.server.stdout is not None
        while "open at" not in self.server.stdout.readline():
            continue
        playwright = sync_playwright().start()
        self.addCleanup(playwright.stop)
        browser = launch(playwright)
        self.addCleanup(browser.close)
        self.page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        self.page.set_default_timeout(15_000)
        self.page.goto(f"http://127.0.0.1:{port}/")
        self.page.get_by_label("Mail address").fill("me@a.example")
        self.page.get_by_label("Password").fill("long enough")
        self.page.get_by_role("button", name="Sign in").click()

    def stop(self) -> None:
        self.server.terminate()
        self.server.wait(20)
        assert self.server.stdout is not None
        self.server.stdout.close()

    def go(self, place: str) -> None:
        self.page.get_by_role("navigation", name="Main").get_by_role("link", name=place).click()

    @long
    def test_from_nothing_to_live(self) -> None:
        page = self.page
        # Every place says what would put something into it.
        expect(page.get_by_role("heading", name="Before the first piece goes out")).to_be_visible()
        for place, words in (
            ("Workflows", "No workflow yet."),
            ("Approvals", "Nothing to read."),
            ("Sheets", "No sheet yet."),
            ("Runs", "Nothing has run yet."),
            ("Connections", "None yet."),
        ):
            self.go(place)
            expect(page.get_by_text(words).first).to_be_visible()
        self.bring_in_a_workflow()
        self.add_connections()
        self.make_a_sheet()
        self.fill_the_gaps_and_go_live()

    def bring_in_a_workflow(self) -> None:
        page = self.page
        self.go("Workflows")
        page.get_by_role("button", name="New workflow").click()
        wrong = self.folder / "wrong.json"
        wrong.write_text('{"format": "ulmus-workflow", "version": 7}')
        page.get_by_role("radio", name="A file").check(force=True)
        page.get_by_label("Workflow file").set_input_files(wrong)
        expect(page.get_by_role("alert")).to_contain_text("newer Ulmus")
        document = workflow_file(self.town.url)
        document["brand"] = None
        document["steps"][1]["settings"]["standing"] = "You write short posts."
        document["steps"][2]["settings"]["mail"] = ""
        good = self.folder / "good.json"
        good.write_text(json.dumps(document))
        page.get_by_label("Workflow file").set_input_files(good)
        expect(page.get_by_text("“model” is not here yet").first).to_be_visible()
        expect(page.get_by_text("No samples yet.")).to_be_visible()
        page.get_by_role("button", name="Go live").click()
        expect(page.get_by_role("dialog").get_by_text("✕ missing")).to_have_count(3)
        page.keyboard.press("Escape")

    def add_connections(self) -> None:
        page = self.page
        self.go("Today")
        page.get_by_role("button", name="Add a model …").click()
        page.get_by_label("Name here").fill("The model")
        page.get_by_label("Address").fill(f"{self.town.url}/model/v1")
        page.get_by_label("Model name").fill("practice-1")
        page.get_by_label("API key").fill("s3cret-key")
        page.get_by_role("button", name="Keep").click()
        # At its step it is tried by itself, as soon as it is there.
        row = page.get_by_role("listitem").filter(has_text="The model")
        expect(row.get_by_text("Answered in")).to_be_visible()
        self.go("Connections")
        row = page.get_by_role("listitem").filter(has_text="The model")
        row.get_by_role("button", name="Test").click()
        expect(row.get_by_text("Answered in")).to_be_visible()
        add = page.get_by_role("button", name="Add")
        add.nth(1).click()
        page.get_by_label("Name here").fill("Pond")
        page.get_by_label("Micropub address").fill(f"{self.town.url}/pondside/micropub")
        page.get_by_label("Greatest length (characters)").fill("300")
        page.get_by_label("Access token").fill("wrong")
        page.get_by_role("button", name="Keep").click()
        row = page.get_by_role("listitem").filter(has_text="Pond")
        row.get_by_role("button", name="Test").click()
        expect(row.get_by_text("check the connection")).to_be_visible()
        row.get_by_role("button", name="Change").click()
        page.get_by_label("Access token").fill("pond-token")
        page.get_by_role("button", name="Keep").click()
        row.get_by_role("button", name="Test").click()
        expect(row.get_by_text("Nothing was posted")).to_be_visible()
        page.reload()
        self.assertNotIn("s3cret-key", page.content())
        self.assertNotIn("pond-token", page.content())

    def make_a_sheet(self) -> None:
        page = self.page
        self.go("Sheets")
        page.get_by_role("button", name="New sheet").click()
        page.get_by_label("Name").fill("Posts")
        page.get_by_label("Columns, with commas between").fill("Post, Link, Who")
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_text("This sheet is empty.")).to_be_visible()
        page.get_by_role("button", name="More …").click()
        page.get_by_role("menuitem", name="Columns …").click()
        page.get_by_label("Name of column 3").fill("By")
        page.get_by_label("Type of column 2").select_option("link")
        page.get_by_role("button", name="Keep").click()
        expect(page.get_by_role("columnheader", name="By")).to_be_visible()
        page.get_by_role("button", name="Add a row").click()
        expect(page.get_by_role("gridcell").first).to_be_visible()
        page.get_by_label("Row 1", exact=True).click()
        page.get_by_role("menuitem", name="Remove the row").click()
        expect(page.get_by_text("This sheet is empty.")).to_be_visible()

    def fill_the_gaps_and_go_live(self) -> None:
        page = self.page
        self.go("Workflows")
        page.get_by_role("link", name="News").click()
        page.get_by_role("rowheader").nth(2).get_by_role("button").click()
        page.get_by_role("combobox", name="Model").select_option("the_model")
        page.get_by_role("rowheader").nth(4).get_by_role("button").click()
        page.get_by_role("combobox", name="Where to").select_option("pond")
        page.get_by_role("rowheader").nth(5).get_by_role("button").click()
        page.get_by_role("combobox", name="Sheet").select_option("posts")
        expect(page.get_by_text("is not here")).to_have_count(0)
        page.get_by_role("button", name="Close").click()
        page.get_by_role("button", name="Take the latest from the start").click()
        expect(page.get_by_text("Sample 3")).to_be_visible()
        page.get_by_role("button", name=re.compile("^Run .* out of date")).click()
        expect(page.get_by_text("would go out")).to_have_count(3)
        self.assertEqual(self.town.state.posts, [])
        page.get_by_role("button", name="Go live").click()
        # What is in the feed already: a person says what becomes of it.
        page.get_by_role("dialog").get_by_label("only what comes from now on starts runs", exact=False).check()
        page.get_by_role("dialog").get_by_role("button", name="Go live").click()
        expect(page.get_by_text("live", exact=True)).to_be_visible()
        page.wait_for_timeout(2500)
        self.town.state.release("furrow-letter")
        badge = page.get_by_role("navigation", name="Main").get_by_text("1 waiting")
        expect(badge).to_be_visible(timeout=12_000)
        self.go("Approvals")
        page.get_by_role("textbox", name="The piece").fill("Said in my own words.")
        page.get_by_role("button", name="Approve with my changes").click()
        # The words lack the link that was asked for: that is told, and letting it out is a second act.
        page.get_by_role("button", name="Send it out all the same").click()
        expect(page.get_by_text("Approved. It goes out at its time.")).to_be_visible()
        self.go("Today")
        went_out = page.get_by_role("region", name=re.compile("Went out"))
        expect(went_out.get_by_text("Said in my own words.")).to_be_visible()
        self.assertEqual([p["content"] for p in self.town.state.posts], ["Said in my own words."])
