"""Each screen: by keyboard, in the dark, for those who may only look, when the outside fails; and axe finds nothing serious."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import expect

from tests.browser.place import WithBrowser, enter
from tests.short import WHOLE, long

AXE = (Path(__file__).parents[2] / "frontend" / "node_modules" / "axe-core" / "axe.min.js").read_text("utf-8")
SCREENS = (
    "/",
    "/workflows",
    "Seed news to Pondside",
    "Seed news to Pondside?line=post",
    "/approvals",
    "/calendar",
    "/calendar/outbox",
    "/sheets/posts_out",
    "/runs",
    "/runs/3?line=post",
    "Topic list to posts?line=topic",
    "Visitors’ questions?line=sort",
    "Weekly round of the seed pages?line=mailing",
    "Standing assistant?line=assistant",
    "Trade news on Friday?line=message",
    "First letters to leads?line=letter",
    "Launch kit?line=wide",
    "/brands/marrowbank",
    "/connections",
    "/kept",
    "/person",
    "/workers",
    "/trail",
    "/account",
)


class Accessible(WithBrowser):
    def serious(self) -> list[str]:
        found = self.page.evaluate("axe.run({resultTypes: ['violations']})")
        return [f"{v['id']}: {v['nodes'][0]['html'][:160]}" for v in found["violations"] if v["impact"] in ("serious", "critical")]

    def test_axe_finds_nothing_serious_in_light_and_dark(self) -> None:
        for theme in ("light", "dark"):
            self.page.evaluate(f"localStorage.setItem('theme', '{theme}')")
            for path in SCREENS if WHOLE else SCREENS[:8] if theme == "light" else SCREENS[:3]:
                with self.subTest(theme=theme, path=path):
                    name, line, query = path.partition("?")
                    self.page.goto(self.demo.url + path if path[0] == "/" else self.workflow(name) + line + query)
                    self.page.wait_for_timeout(700)
                    self.page.evaluate(AXE)
                    self.assertEqual(self.serious(), [])

    @long
    def test_axe_finds_nothing_serious_at_any_size(self) -> None:
        """On a phone, on a small screen, and at 200 % of a screen of 1280 by 800; and nothing runs out of the screen."""
        for width, height in ((390, 844), (1024, 768), (640, 400)):
            self.page.set_viewport_size({"width": width, "height": height})
            for theme in ("light", "dark"):
                self.page.evaluate(f"localStorage.setItem('theme', '{theme}')")
                for path in SCREENS:
                    with self.subTest(width=width, theme=theme, path=path):
                        name, line, query = path.partition("?")
                        self.page.goto(self.demo.url + path if path[0] == "/" else self.workflow(name) + line + query)
                        self.page.wait_for_timeout(700)
                        self.page.evaluate(AXE)
                        self.assertEqual(self.serious(), [])
                        beyond = self.page.evaluate("document.documentElement.scrollWidth - innerWidth")
                        self.assertLessEqual(beyond, 0, "nothing runs out of the screen")

    @long
    def test_axe_finds_nothing_serious_in_what_opens_over_the_workbench(self) -> None:
        page = self.page
        ways = {
            "finder": lambda: page.get_by_role("button", name="Add a line").click(),
            "revisions": lambda: page.get_by_role("button", name="revision 1").click(),
            "a sample typed in": lambda: (
                page.get_by_role("button", name="Add …").click(),
                page.get_by_role("menuitem", name="Type one in").click(),
            ),
            "before it goes live": lambda: page.keyboard.press("l"),
            "limits": lambda: (
                page.get_by_role("button", name="Page …").click(),
                page.get_by_role("menuitem", name="Limits").click(),
            ),
            "shortcuts": lambda: page.keyboard.press("?"),
            "takes": lambda: (
                page.get_by_text("Draft “Short post”").click(),
                page.get_by_role("button", name="Another take").click() if size[0] == 1280 else None,
                page.get_by_role("button", name="Side by side").click(),
                page.get_by_text("0 judged").wait_for(),
            ),
        }
        for size in ((1280, 800), (1024, 768), (390, 844), (640, 400)):
            page.set_viewport_size({"width": size[0], "height": size[1]})
            for name, open_ in ways.items():
                with self.subTest(name, size=size):
                    self.open_workflow()
                    open_()
                    page.wait_for_timeout(500)
                    page.evaluate(AXE)
                    self.assertEqual(self.serious(), [])
                    page.keyboard.press("Escape")

    def test_axe_finds_nothing_serious_in_a_new_page_and_one_that_is_put_away(self) -> None:
        page = self.page

        def fine(where: str) -> None:
            page.wait_for_timeout(500)
            page.evaluate(AXE)
            self.assertEqual(self.serious(), [], where)

        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        for way in ("A template", "A blank page", "A copy", "A file"):
            page.get_by_text(way, exact=True).click()
            fine(way)
        page.get_by_text("A template", exact=True).click()
        page.get_by_role("button", name=re.compile("^Report to article")).click()
        page.get_by_text("No samples yet.").wait_for()
        fine("without samples")
        page.get_by_role("button", name="Type one in …").click()
        fine("a sample like the form")
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Page …").click()
        page.get_by_role("menuitem", name="Put away").click()
        page.get_by_text("Put away (1)").click()
        fine("put away")
        page.get_by_role("button", name="Delete …").click()
        fine("deleting")


class Keyboard(WithBrowser):
    def test_the_workbench_without_a_mouse(self) -> None:
        self.open_workflow()
        page = self.page
        page.keyboard.press("Enter")
        expect(page.get_by_label("Bench", exact=True)).to_be_visible()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowRight")
        expect(self.cell(3, 2)).to_have_attribute("aria-selected", "true")
        page.keyboard.press("g")
        expect(page.get_by_text("The prompt as sent")).to_be_visible()
        page.keyboard.press("f")
        self.soon(lambda: "writing" in self.cell(3, 2).inner_text() or "working" in self.cell(3, 2).inner_text(), "asked again")
        expect(self.cell(3, 2)).to_contain_text("keeps")
        page.keyboard.press("m")
        expect(self.cell(3, 2)).to_contain_text("passed over")
        page.keyboard.press("m")
        expect(self.cell(3, 2)).to_contain_text("keeps")
        page.keyboard.press("Escape")
        expect(page.get_by_label("Bench", exact=True)).not_to_be_visible()

    def test_places_and_the_shortcut_sheet(self) -> None:
        page = self.page
        for key, heading in (("2", "Workflows"), ("6", "Runs"), ("8", "Connections")):
            page.keyboard.press(key)
            expect(page.get_by_role("heading", name=heading, exact=True)).to_be_visible()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Shortcuts")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)

    def test_a_sheet_is_changed_by_keys(self) -> None:
        page = self.page
        page.goto(f"{self.demo.url}/sheets/topics")
        grid = page.get_by_role("grid", name="Topics for spring")
        grid.focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowRight")
        page.keyboard.type("By lamp light")
        page.keyboard.press("Enter")
        expect(grid.get_by_text("By lamp light")).to_be_visible()
        page.keyboard.press("ArrowUp")
        page.keyboard.press("Enter")
        page.keyboard.type("x")
        page.keyboard.press("Escape")
        page.reload()
        expect(page.get_by_role("grid").get_by_text("By lamp light", exact=True)).to_be_visible()


class Editing(WithBrowser):
    def test_a_wrong_slot_is_marked_as_it_is_typed_and_keeps_the_page_from_going_live(self) -> None:
        self.open_workflow("Canal news to Pondside")
        page = self.page
        self.cell(2).click()
        address = page.get_by_role("textbox", name="Page address")
        address.click()
        page.keyboard.press("Control+A")
        page.keyboard.type("<<courier.lnk>>")
        expect(page.get_by_text("Did you mean “link”?").first).to_be_visible()
        page.get_by_role("button", name=re.compile("Go live|Make the changes live")).click()
        dialog = page.get_by_role("dialog", name="Before it goes live")
        expect(dialog.get_by_role("button", name="Go live")).to_be_disabled()
        dialog.get_by_role("button", name=re.compile("✕ missing")).first.click()
        address.click()
        page.keyboard.press("Control+A")
        page.keyboard.type("<<courier.link>>")
        expect(page.get_by_text("Did you mean")).to_have_count(0)

    def test_two_people_on_one_page_overwrite_nothing(self) -> None:
        self.open_workflow("Allotment notes to the garden board")
        url = self.page.url
        other = self.visitor("Mara")
        other.goto(url)
        name = "The workflow’s name"
        other.get_by_role("textbox", name=name).fill("Named by the other")
        expect(other.get_by_text("Saved", exact=True)).to_be_visible()
        expect(self.page.get_by_role("textbox", name=name)).to_have_value("Named by the other")
        self.page.context.set_offline(True)
        self.page.get_by_role("textbox", name=name).fill("Named by me")
        expect(self.page.get_by_text("Not saved yet", exact=True)).to_be_visible()
        other.get_by_role("textbox", name=name).fill("Named by the other again")
        expect(other.get_by_text("Saved", exact=True)).to_be_visible()
        self.page.context.set_offline(False)
        expect(self.page.get_by_role("button", name="Keep mine")).to_be_visible()
        self.page.get_by_role("button", name="Keep mine").click()
        expect(other.get_by_role("textbox", name=name)).to_have_value("Named by me")

    def test_the_missing_connection_is_shown_on_its_line(self) -> None:
        self.page.goto(self.workflow("Allotment notes to the garden board"))
        expect(self.page.get_by_text("“garden_board” is not here yet").first).to_be_visible()


class Failing(WithBrowser):
    def test_a_failed_run_is_looked_at_and_taken_up_from_today(self) -> None:
        page = self.page
        waiting = page.get_by_role("region", name=re.compile("^Waiting for you"))
        expect(waiting.get_by_text("nothing at this address (404)")).to_be_visible()
        waiting.get_by_role("link", name="See what happened").click()
        expect(page.get_by_text("Stopped: ")).to_be_visible()
        page.get_by_role("button", name="Take up again").click()
        expect(page.get_by_role("link", name="Read and decide")).to_be_visible()

    def test_a_failed_run_left_to_rest_no_longer_waits(self) -> None:
        page = self.page
        town = self.visitor()
        town.goto(f"{self.demo.town}/control")
        town.get_by_label("Fault of page").select_option("gone")
        town.locator("form", has=town.get_by_label("Fault of page")).get_by_role("button", name="Set").click()
        town.get_by_role("button", name="Publish the next article in The Furrow Letter").click()
        title = town.locator(".say").inner_text().removeprefix("Published: ")
        waiting = page.get_by_role("region", name=re.compile("^Waiting for you")).get_by_role("listitem").filter(has_text=title)
        expect(waiting.get_by_text("a run stopped")).to_be_visible(timeout=15_000)
        waiting.get_by_role("button", name="Leave it as it is").click()
        expect(waiting).to_have_count(0)
        page.goto(f"{self.demo.url}/runs")
        expect(page.get_by_role("row").filter(has_text=title)).to_contain_text("cancelled")
        town.get_by_label("Fault of page").select_option("")
        town.locator("form", has=town.get_by_label("Fault of page")).get_by_role("button", name="Set").click()

    def test_a_connection_that_fails_its_test_says_why(self) -> None:
        page = self.page
        town = self.visitor()
        town.goto(f"{self.demo.town}/control")
        town.get_by_label("Fault of model").select_option("busy")
        town.locator("form", has=town.get_by_label("Fault of model")).get_by_role("button", name="Set").click()
        page.goto(f"{self.demo.url}/connections")
        model = page.get_by_role("listitem").filter(has_text="the drafting model")
        model.get_by_role("button", name="Test").click()
        expect(model.get_by_text("asks us to slow down")).to_be_visible()
        town.get_by_label("Fault of model").select_option("")
        town.locator("form", has=town.get_by_label("Fault of model")).get_by_role("button", name="Set").click()
        model.get_by_role("button", name="Test").click()
        expect(model.get_by_text("Answered in")).to_be_visible()

    def test_an_unknown_page_and_a_missing_run_say_so(self) -> None:
        self.page.goto(f"{self.demo.url}/runs/9999")
        expect(self.page.get_by_text("This is not here (any more).")).to_be_visible()


class LookingOnly(WithBrowser):
    who = "Ines"

    def test_a_reviewer_sees_but_does_not_change(self) -> None:
        page = self.page
        expect(page.get_by_role("link", name="Connections")).to_have_count(0)
        page.goto(self.workflow("Seed news to Pondside") + "?line=post")
        expect(page.get_by_text("You may look, not change")).to_be_visible()
        expect(page.get_by_role("button", name="Run this cell")).to_have_count(0)
        page.goto(self.asked("Seed news to Pondside"))
        expect(page.get_by_role("button", name="Approve")).to_be_visible()

    def test_signing_out_and_a_wrong_password(self) -> None:
        page = self.page
        page.get_by_role("button", name="Ines Varga").click()
        page.get_by_role("menuitem", name="Sign out").click()
        page.get_by_label("Mail address").fill("ines@marrowbank.example")
        page.get_by_label("Password").fill("wrong")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_have_text("That address and password do not belong together.")
        enter(page, self.demo.url, "Mara")
        expect(page.get_by_role("link", name="Connections")).to_be_visible()
