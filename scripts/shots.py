"""``make shots``: one current picture of each main view, from demo data, in docs/screenshots/."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from tests.browser.place import Demo, EmptyHouse, enter, launch

OUT = Path("docs/screenshots")
VIEWS = {
    "today": "/",
    "workflows": "/workflows",
    "sheets": "/sheets/posts_out",
    "run": "/runs/17?line=page",
    "connections": "/connections",
    "assignment": "Standing assistant?line=assistant",
    "brand": "/brands/marrowbank",
    "calendar": "/calendar",
    "publishing": "Weekly round of the seed pages?line=mailing",
}
"""An address, or a workflow by its name."""
DARK = {"today-dark": "/"}


def take(page: Page, name: str) -> None:
    """Wait until nothing moves, then take the picture."""
    page.wait_for_timeout(900)
    # Pages opened one after another hold more lines for news than one person has, until the first are given up.
    page.get_by_text("The server cannot be reached").wait_for(state="hidden", timeout=20_000)
    page.screenshot(path=OUT / f"{name}.png")
    print(name, flush=True)


def place_of(page: Page, demo: Demo, path: str) -> str:
    """The address of a workflow's page, with what is to be open on it."""
    name, line, query = path.partition("?")
    listed = page.request.get(f"{demo.url}/api/workflows").json()
    return f"/workflows/{next(w['id'] for w in listed if w['name'] == name)}{line}{query}"


def form(page: Page, demo: Demo) -> None:
    """The public form, as a stranger sees it."""
    page.goto(demo.url + place_of(page, demo, "Visitors’ questions?line=question"))
    address = page.get_by_label("Bench", exact=True).get_by_role("link", name="Open", exact=True)
    page.goto(str(address.get_attribute("href")))
    take(page, "form")


def main() -> None:
    """Take all pictures."""
    OUT.mkdir(parents=True, exist_ok=True)
    demo = Demo().start()
    try:
        with sync_playwright() as playwright:
            browser = launch(playwright)
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            enter(page, demo.url)
            for name, path in VIEWS.items():
                page.goto(demo.url + (path if path[0] == "/" else place_of(page, demo, path)))
                take(page, name)
            beginning(page, demo)
            bench(page, demo)
            writing(page, demo)
            approvals(page, demo)
            dark = browser.new_context(viewport={"width": 1280, "height": 800}, color_scheme="dark").new_page()
            enter(dark, demo.url)
            for name, path in DARK.items():
                dark.goto(demo.url + path)
                take(dark, name)
            letter(browser.new_context(viewport={"width": 390, "height": 780}).new_page(), demo)
            form(page, demo)
            first_steps(browser.new_context(viewport={"width": 1280, "height": 800}).new_page())
            browser.close()
    finally:
        demo.close()


def first_steps(page: Page) -> None:
    """A house in its first hour: nobody but its first owner, and the practice town open beside it."""
    house = EmptyHouse()
    try:
        page.goto(house.first)
        page.get_by_label("Your name").fill("Nora Feld")
        page.get_by_label("Mail address").fill("nora@feld.example")
        page.get_by_label("Password").fill("two boats and a heron")
        page.get_by_role("button", name="Begin").click()
        page.get_by_role("button", name="Practise first").click()
        page.get_by_text("You practise").wait_for()
        take(page, "first-steps")
    finally:
        house.close()


def beginning(page: Page, demo: Demo) -> None:
    """The ways to a new page, and a draft set beside another with its evidence."""
    page.goto(f"{demo.url}/workflows")
    page.get_by_role("button", name="New workflow").click()
    page.get_by_role("radio", name="A template").check(force=True)
    take(page, "new-workflow")
    page.keyboard.press("Escape")


def bench(page: Page, demo: Demo) -> None:
    """The bench on the draft: some cells out of date, one being written, the values offered."""
    page.goto(demo.url + place_of(page, demo, "Seed news to Pondside?line=post&sample=2"))
    prompt = page.get_by_role("textbox", name="Prompt")
    prompt.click()
    page.keyboard.press("Control+Home")
    page.keyboard.type("Begin calmly. ")
    page.wait_for_timeout(600)
    page.get_by_role("button", name="Run this cell").click()
    page.get_by_text("writing …").first.wait_for()
    page.wait_for_timeout(450)
    page.screenshot(path=OUT / "workbench-writing.png")
    print("workbench-writing", flush=True)
    page.wait_for_timeout(2500)
    prompt.click()
    page.keyboard.press("Control+Home")
    page.keyboard.type("For <<")
    page.locator(".cm-tooltip-autocomplete").wait_for()
    page.keyboard.press("Escape")
    page.keyboard.press("Backspace")
    page.keyboard.press("Backspace")
    page.keyboard.press("Control+i")
    page.get_by_label("Find a value").press("ArrowDown")
    page.keyboard.press("ArrowDown")
    take(page, "workbench-values")
    page.keyboard.press("Escape")
    page.wait_for_timeout(800)


def writing(page: Page, demo: Demo) -> None:
    """The finder at a line, and two takes of a draft set against each other."""
    page.goto(demo.url + place_of(page, demo, "Seed news to Pondside?line=post"))
    page.get_by_label("Bench", exact=True).wait_for()
    page.keyboard.press("n")
    page.get_by_role("listbox", name="What can come next").wait_for()
    take(page, "workbench-finder")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Another take").click()
    page.get_by_label("What it tries").fill("Drier")
    page.get_by_role("textbox", name="Prompt", exact=True).press("Control+Home")
    page.keyboard.type("At most 160 characters. ")
    page.wait_for_timeout(600)
    page.get_by_role("button", name=re.compile("^Run .* out of date")).click()
    page.get_by_role("button", name="All proofs are fresh").wait_for(timeout=60_000)
    page.get_by_role("button", name="Side by side").click()
    page.get_by_text("0 judged").wait_for()
    for n in range(3):
        page.keyboard.press("1")
        page.get_by_text(f"{n + 1} judged").wait_for()
    take(page, "workbench-takes")
    page.keyboard.press("Escape")


def approvals(page: Page, demo: Demo) -> None:
    """The desk, in the second round with the changes marked."""
    waiting = page.request.get(f"{demo.url}/api/approvals").json()["open"]
    draft = next(one["id"] for one in waiting if one["workflow_name"] == "Seed news to Pondside")
    page.goto(f"{demo.url}/approvals/{draft}")
    page.get_by_role("button", name="Send back with a note").click()
    page.get_by_role("textbox", name="Note for the rewrite").fill("Say how many envelopes changed owners, and make it shorter.")
    page.keyboard.press("Control+Enter")
    page.get_by_text("Sent back. The rewrite comes here").wait_for()
    page.get_by_text("What changed since the last round").wait_for(timeout=60_000)
    take(page, "approvals")


def letter(phone: Page, demo: Demo) -> None:
    """The page behind the link in the mail, on a phone."""
    phone.goto(f"{demo.town}/mail/")
    phone.get_by_role("link", name=re.compile("To approve")).first.click()
    phone.frame_locator("iframe[title='The letter']").get_by_role("link", name=re.compile("answer")).click()
    take(phone, "approval-on-a-phone")


if __name__ == "__main__":
    main()
