"""What a marketer does in a browser to have a job done: a page from a template, its gaps filled, live, and the yes of a person."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping
from typing import Any

from playwright.sync_api import Locator, expect

from tests.browser.place import WithBrowser


class AtWork(WithBrowser):
    """A browser, and hands that know what to press; for a `brand`, and with outsides that fail once in the middle (`faults`)."""

    brand = ""
    faults: Mapping[str, str] = {}
    at = ""
    actions = 0
    """What was pressed, chosen or typed to have the page live."""

    def tearDown(self) -> None:
        # What a run of the job used stands beside the pictures of its end.
        if (folder := os.environ.get("LOOK")) and self.at:
            runs = self.page.request.get(f"{self.demo.url}/api/runs?workflow={self.at.rpartition('/')[2]}").json()["runs"]
            usage = [self.page.request.get(f"{self.demo.url}/api/runs/{run['id']}").json()["usage"] for run in runs]
            used = {
                "actions": self.actions,
                "proved": self.proved,
                "runs": [(r["state"], u["calls"], r["cost"]) for r, u in zip(runs, usage, strict=True)],
            }
            with open(f"{folder}/used.jsonl", "a", encoding="utf-8") as out:
                out.write(json.dumps({"job": self._testMethodName, **used}) + "\n")
        super().tearDown()

    def begin(self, template: str) -> None:
        """A page from a template, chosen in the dialog."""
        page = self.page
        page.goto(f"{self.demo.url}/workflows")
        page.get_by_role("button", name="New workflow").click()
        page.get_by_role("radio", name="A template").check(force=True)
        page.get_by_label("For which brand").select_option(label=self.brand or "none")
        page.get_by_role("button", name=re.compile(f"^{template}")).click()
        page.get_by_role("grid", name="The page and its proofs").wait_for()
        self.at = page.url.partition("?")[0]
        self.actions += 3

    def line(self, line: str) -> Locator:
        """The bench of a line."""
        self.page.goto(f"{self.at}?line={line}")
        bench = self.page.get_by_label("Bench", exact=True)
        expect(bench).to_contain_text(line)
        return bench

    def choose(self, line: str, label: str, option: str) -> None:
        bench = self.line(line)
        bench.get_by_label(label, exact=True).select_option(label=option)
        self.actions += 2
        self.kept(line, bench.get_by_label(label, exact=True).input_value())

    def write(self, line: str, label: str, text: str) -> None:
        """Write over all of a text with slots."""
        box = self.line(line).get_by_role("textbox", name=label, exact=True)
        box.click()
        box.press("Control+a")
        self.page.keyboard.insert_text(text)
        self.actions += 2
        self.kept(line, text)

    def kept(self, line: str, value: str) -> None:
        """Wait until the house has what was set on a line."""
        told = f"{self.demo.url}/api/workflows/{self.at.rpartition('/')[2]}/bench"

        def lines(some: list[dict[str, Any]]) -> list[dict[str, Any]]:
            inside = ((line, [*line.get("steps", []), *(s for la in line.get("lanes", []) for s in la["steps"])]) for line in some)
            return [one for line, held in inside for one in (line, *lines(held))]

        def there() -> bool:
            page = self.page.request.get(told).json()["document"]
            return any(
                one["id"] == line and json.dumps(value) in json.dumps(one["settings"])
                for one in lines([page["start"], *page["steps"]])
            )

        self.soon(there, f"{value} is kept")

    proved: int = 0
    """Cells that were proved before the page went live."""

    def proofs(self) -> None:
        """Proofs of the latest that the start finds, where it finds something yet: every cell fresh, nothing failed."""
        number = self.at.rpartition("/")[2]
        if not self.page.request.get(f"{self.demo.url}/api/workflows/{number}/bench").json()["samples"]:
            self.page.goto(self.at)
            self.page.get_by_role("button", name="Type one in …").wait_for()
            take = self.page.get_by_role("button", name="Take the latest from the start")
            if not take.count():
                return  # what is brought to it has not come yet
            take.click()
            head, nothing = self.page.get_by_text("Lead sample"), self.page.get_by_role("status").get_by_text(re.compile("."))
            expect(head.or_(nothing).first).to_be_visible()
            if not head.count():
                return
        due, fresh = (self.page.get_by_role("button", name=re.compile(words)) for words in ("out of date", "are fresh"))
        expect(due.or_(fresh).first).to_be_visible()
        if due.count():
            due.click()
        self.proved = self.all_fresh(number)

    def go_live(self) -> None:
        page = self.page
        self.proofs()
        for outside, mode in self.faults.items():
            page.request.post(f"{self.demo.town}/control/fault", form={"outside": outside, "mode": mode, "left": "1"})
        page.get_by_role("button", name="Go live").click()
        dialog = page.get_by_role("dialog")
        self.soon(lambda: not dialog.get_by_text("✕ missing").count(), dialog.inner_text)
        passing = dialog.get_by_label(re.compile("^Pass"))
        expect(dialog.get_by_text(re.compile("^(Looking what is there|Working the forecast)"))).to_have_count(0)
        if passing.count():
            passing.check()
        dialog.get_by_role("button", name="Go live").click()
        self.actions += 3 if passing.count() else 2
        self.soon(lambda: not dialog.count(), page.locator("body").inner_text)
        told = f"{self.demo.url}/api/workflows/{self.at.rpartition('/')[2]}/start"

        def looked() -> bool:
            start = page.request.get(told).json()
            return start["listens"] not in ("poll", "rows") or start["looked_at"] is not None

        # What is there when it is first looked at counts as known.
        self.soon(looked, "its start was looked at")

    def run_on(self, item: dict[str, Any]) -> None:
        """Begin a run by hand on a sample that was typed in."""
        number = self.at.rpartition("/")[2]
        self.page.evaluate(
            """async ([number, item]) => {
              const session = await (await fetch('/api/session')).json();
              const headers = {'Content-Type': 'application/json', 'X-CSRF-Token': session.csrf};
              await fetch(`/api/workflows/${number}/samples`, {method: 'POST', headers, body: JSON.stringify({item})});
            }""",
            [number, item],
        )
        bench = self.page.request.get(f"{self.demo.url}/api/workflows/{number}/bench").json()
        newest = max(sample["id"] for sample in bench["samples"])
        self.page.goto(f"{self.at}?line={bench['lines'][0]['id']}&sample={newest}")
        self.page.get_by_label("Bench", exact=True).get_by_role("button", name="Run on this sample …").click()
        self.page.get_by_role("button", name="Start the run").click()
        expect(self.page.get_by_role("grid", name="The page as it ran")).to_be_visible()

    def approve(self, workflow: str) -> None:
        """Say yes at the desk to what the workflow asks; another of the same name may ask as well."""
        own = self.at.rpartition("/")[2]
        found: list[int] = []

        def waits() -> bool:
            queue = self.page.request.get(f"{self.demo.url}/api/approvals").json()["open"]
            found[:] = [a["id"] for a in queue if str(a["workflow"]) == own]
            return bool(found)

        self.soon(waits, lambda: f"a question of {workflow}: {self.page.request.get(f'{self.demo.url}/api/runs').text()[:900]}", 60)
        self.page.goto(f"{self.demo.url}/approvals/{found[0]}")
        self.page.get_by_role("button", name=re.compile("^(Approve|Allow it)")).first.click()
        again = self.page.get_by_role("button", name="Send it out all the same")
        said = self.page.get_by_text(re.compile("^(Approved|It may)"))
        expect(said.or_(again).first).to_be_visible()
        if again.count():
            again.click()
            expect(said.first).to_be_visible()

    def in_town(self, path: str, words: str, seconds: float = 60) -> None:
        """Wait until a page of the town says something."""
        self.soon(lambda: words in self.page.request.get(f"{self.demo.town}{path}").text(), f"“{words}” at {path}", seconds)
        self.look(f"{self.demo.town}{path}")

    def look(self, url: str) -> None:
        """Take a picture of how a job ended, where LOOK names a folder for them."""
        if folder := os.environ.get("LOOK"):
            there = self.visitor(self.who)
            there.goto(url)
            there.wait_for_timeout(800)
            there.screenshot(path=f"{folder}/{self._testMethodName}-{len(os.listdir(folder)):03}.png")

    def release(self, paper: str) -> str:
        town = self.visitor()
        town.goto(f"{self.demo.town}/control")
        town.get_by_role("button", name=f"Publish the next article in {paper}").click()
        return town.locator(".say").inner_text().removeprefix("Published: ")

    def answer(self, subject: str, text: str, nth: int) -> None:
        """Answer the so-maniest mail with a subject from its mailbox, as the person asked."""
        town = self.visitor()

        def there() -> bool:
            town.goto(f"{self.demo.town}/mail/")
            return town.get_by_role("link", name=subject).count() >= nth

        self.soon(there, f"{nth} mails about “{subject}”", 60)
        town.get_by_role("link", name=subject).first.click()
        town.get_by_label("Answer").fill(text)
        town.get_by_role("button", name="Send the answer").click()

    def mended(self, line: str, press: str) -> None:
        """Press what mends a line, where there is something to mend: a sheet made for the page's client has all its columns."""
        bench = self.line(line)
        if self.brand and not bench.get_by_role("button", name=press).count():
            return
        bench.get_by_role("button", name=press).click()
        self.actions += 2
        expect(bench.get_by_role("button", name=press)).to_have_count(0)

    def send(self, method: str, path: str, body: dict[str, Any]) -> Any:
        """What a screen would send, by the API: for what other tests press."""
        return self.page.evaluate(
            """async ([method, path, body]) => {
              const session = await (await fetch('/api/session')).json();
              const headers = {'Content-Type': 'application/json', 'X-CSRF-Token': session.csrf};
              const answer = await fetch('/api' + path, {method, headers, body: JSON.stringify(body)});
              if (!answer.ok) throw new Error(await answer.text());
              return answer.json();
            }""",
            [method, path, body],
        )

    def sheet(self, name: str) -> str:
        """The key of a sheet, by its name."""
        return str(next(s["key"] for s in self.page.request.get(f"{self.demo.url}/api/sheets").json() if s["name"] == name))

    def own(self, sheet: str) -> str:
        """The key of the sheet the page uses where its template says `sheet`: of another client's it has one of its own."""
        page = self.page.request.get(f"{self.demo.url}/api/workflows/{self.at.rpartition('/')[2]}/bench").json()["document"]
        found = re.search(rf'"sheet": "((?:\w+_)?{re.escape(sheet)}(?:_\w+)?)"', json.dumps(page))
        return found[1] if found else sheet

    def add_rows(self, sheet: str, *rows: dict[str, str]) -> None:
        self.send("POST", f"/sheets/{self.own(sheet)}/rows", {"rows": list(rows)})

    def rows(self, sheet: str) -> list[dict[str, Any]]:
        found = self.page.request.get(f"{self.demo.url}/api/sheets/{self.own(sheet)}/rows").json()["rows"]
        return [row["cells"] for row in found]

    def prove(self, item: dict[str, Any]) -> None:
        """Proofs for a sample: every cell fresh, nothing failed."""
        number = self.at.rpartition("/")[2]
        self.send("POST", f"/workflows/{number}/samples", {"item": item})
        self.page.goto(self.at)
        self.page.get_by_role("button", name=re.compile("out of date")).click()
        self.all_fresh(number)

    def all_fresh(self, number: str) -> int:
        """Wait until every proof is made and none failed; gives how many there are."""
        told = f"{self.demo.url}/api/workflows/{number}/bench"
        cells: list[dict[str, Any]] = []

        def fresh() -> bool:
            cells[:] = self.page.request.get(told).json()["cells"]
            self.assertEqual([c for c in cells if c["state"] == "failed"], [])
            return bool(cells) and all(c["state"] not in ("stale", "running", "empty") for c in cells)

        self.soon(fresh, lambda: self.page.locator("body").inner_text()[-3000:], 60)
        return len(cells)

    def ended(self, words: str, workflow: str, seconds: float = 60) -> None:
        """Wait until the newest run of a workflow with these words is done."""
        self.page.goto(f"{self.demo.url}/runs?words={words}")
        row = self.page.get_by_role("row").filter(has_text=workflow).first
        expect(row).to_contain_text("done", timeout=seconds * 1000)


ELSEWHERE = "Tillerby Boats"
FAULTS = {
    "page": "down", "model": "cut", "search": "busy", "network": "lost", "contacts": "busy", "render": "busy", "pictures": "busy",
    "room": "busy",
}  # fmt: skip
