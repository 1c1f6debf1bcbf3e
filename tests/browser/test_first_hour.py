"""Somebody who has never seen it, in an empty house: from the first screen to a post that stands in the practice network."""

from __future__ import annotations

import time
import unittest
import urllib.request

from playwright.sync_api import Locator, Page, expect, sync_playwright

from tests.browser.place import EmptyHouse, launch

MOST_ACTIONS = 25
MOST_SECONDS = 300
SCREEN = {"width": 1280, "height": 800}


class Newcomer:
    """What somebody does at the screen: each press and each thing typed counts; what is pressed has to be in sight."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.did: list[str] = []

    def press(self, name: str, role: str = "button", within: Page | Locator | None = None) -> None:
        found = (within or self.page).get_by_role(role, name=name, exact=True).first  # type: ignore[arg-type]
        found.wait_for()
        self._in_sight(found, name)
        found.click()
        self.did.append(f"press {name}")

    def choose(self, start: str) -> None:
        lines = self.page.get_by_role("rowheader").count()
        found = self.page.get_by_role("option").filter(has_text=start).first
        found.wait_for()
        self._in_sight(found, start)
        found.click()
        self.did.append(f"choose {start}")
        if self.page.get_by_role("button", name="Undo").is_enabled():
            expect(self.page.get_by_role("rowheader")).not_to_have_count(lines)
        expect(self.page.get_by_text("Saved", exact=True)).to_be_visible()

    def type(self, label: str, words: str) -> None:
        found = self.page.get_by_label(label, exact=True).first
        found.wait_for()
        self._in_sight(found, label)
        found.fill(words)
        self.did.append(f"type {label}")

    def _in_sight(self, found: Locator, name: str) -> None:
        box = found.bounding_box()
        assert box is not None, name
        told = f"{name} is out of sight: {box}"
        assert 0 <= box["y"] <= SCREEN["height"] - min(box["height"], 20), told
        assert 0 <= box["x"] < SCREEN["width"], told


class FirstHour(unittest.TestCase):
    def setUp(self) -> None:
        self.house = EmptyHouse()
        self.addCleanup(self.house.close)
        playwright = sync_playwright().start()
        self.addCleanup(playwright.stop)
        browser = launch(playwright)
        self.addCleanup(browser.close)
        self.page = browser.new_page(viewport=SCREEN)  # type: ignore[arg-type]
        self.page.set_default_timeout(8_000)
        self.addCleanup(lambda: self.page.screenshot(path="/tmp/g.png"))

    def begin(self, who: Newcomer) -> None:
        self.page.goto(self.house.first)
        who.type("Your name", "Nora Feld")
        who.type("Mail address", "nora@feld.example")
        who.type("Password", "two boats and a heron")
        who.press("Begin")

    def town(self) -> str:
        told = self.page.request.get(f"{self.house.url}/api/session").json()
        return str(told["town_url"])

    def test_from_an_empty_house_to_a_post_in_five_minutes_and_25_actions(self) -> None:
        page, began = self.page, time.monotonic()
        who = Newcomer(page)
        self.begin(who)
        who.press("Practise first")
        who.press("Begin with a blank page")
        who.choose("By hand")
        who.press("Add a line")
        who.choose("Draft")
        who.press("Add a line")
        who.choose("Ask somebody to approve")
        who.press("Add a line")
        who.choose("Post to Practice network")
        who.press("Go live")
        who.press("Go live", within=page.get_by_role("dialog"))
        who.press("Start now …")
        who.type("Topic", "The library of Ostrey lends seeds from Monday, forty sorts of beans among them.")
        who.press("Start the run")
        who.press("Approvals 1 waiting", "link")
        who.press("Approve")
        end, there = time.monotonic() + 60, ""
        while "lends seeds" not in there and time.monotonic() < end:
            there = urllib.request.urlopen(f"{self.town()}/pondside/").read().decode()
            time.sleep(0.5)
        took = time.monotonic() - began
        print(f"\nan empty house to a post: {len(who.did)} actions, {took:.0f} s of the machine's; {who.did}")
        self.assertIn("lends seeds", there)
        self.assertLessEqual(len(who.did), MOST_ACTIONS)
        self.assertLess(took, MOST_SECONDS)
        page.goto(self.house.url)
        expect(page.get_by_text("Before the first piece goes out")).to_have_count(0)
        expect(page.get_by_role("heading", name="Went out 1 today")).to_be_visible()
