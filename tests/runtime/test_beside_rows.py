"""Jobs that begin or end in rows, from their templates to what stands in the sheets."""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.core.workflow import Workflow, finder
from ulmus.places import DEMO
from ulmus.runtime import sheets, workflows
from ulmus.runtime.services import world
from ulmus.runtime.sharing import templates
from ulmus.steps import kinds
from ulmus.store import tables


class BesideRows(WithHouse):
    late = ""

    def setUp(self) -> None:
        super().setUp()
        text = (DEMO / "world.json").read_text("utf-8").replace("{town}", self.town.url)
        connections = json.loads(text.replace('"{smtp}"', "1").replace('"{imap}"', "1"))["connections"]
        search: dict[str, Any] = next(c for c in connections if c["key"] == "web_search")
        sealed = self.services.sealer.seal(search["secrets"])
        with self.services.store.write() as session:
            session.add(tables.Connection(key="search", kind="search", name="Search", settings=search["settings"], sealed=sealed))

    def sheet(self, name: str, columns: str, *rows: dict[str, str]) -> str:
        with self.services.store.write() as session:
            sheet = sheets.create(session, name, [{"name": c.strip(), "type": "text"} for c in columns.split(",")])
            sheets.add_rows(session, sheet, rows)
            return sheet.key

    def cells(self, key: str) -> list[dict[str, str]]:
        row = tables.SheetRow
        with self.services.store.read() as session:
            return [dict(one.cells) for one in session.query(row).where(row.sheet == key).order_by(row.position)]

    def begun(self, template: str, *, hand: bool = False, late: bool = False, **gaps: str) -> int:
        """A live page from a template; `gaps` by words in them."""
        document = json.loads(json.dumps(templates()[template][1]))
        text = json.dumps(document, ensure_ascii=False)
        for gap, words in gaps.items():
            start = text.index(f"<<? {gap.replace('_', ' ')}")
            text = text[:start] + words + text[text.index(">>", start) + 2 :]
        document = json.loads(text)
        for gone in ("needs", "about"):
            document.pop(gone, None)
        if hand:
            document["start"] = {"id": document["start"]["id"], "kind": "by_hand", "settings": {}}
        if late:
            document["steps"][1]["steps"][-1]["settings"] = {"cells": {}}
        self.document = document
        id_ = self.made(self.with_cells(document))
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def with_cells(self, document: dict[str, Any]) -> dict[str, Any]:
        """Choose a sheet late, as in the form: the cells of lines that have none are filled by what they mean."""

        def each(steps: list[dict[str, Any]]) -> list[dict[str, Any]]:
            return [one for step in steps for one in (step, *each(step.get("steps", [])))]

        for step in each(document["steps"]):
            if step["kind"] == "add_row" and not step["settings"].get("cells"):
                step["settings"]["sheet"] = self.late
                page = Workflow.model_validate(document)
                with self.services.store.read() as session:
                    around = world(session)
                step["settings"] |= finder.filled(page, kinds(), step["id"], step["settings"], "sheet", around)
        return document

    def once(self, id_: int) -> None:
        """Begin a run by hand and wait for its end."""
        number = self.engine.runs.push(id_, {"title": "now"})
        assert number is not None
        self.until(number, "done", seconds=60)

    def test_two_personal_lines_beside_each_lead_a_bad_site_harms_nobody(self) -> None:
        self.sheet("Leads", "Company, Site, Opening, PS")
        id_ = self.begun("two-personal-lines")
        self.engine.polling.look_at(id_)
        with self.services.store.write() as session:
            leads = session.get_one(tables.Sheet, "leads")
            some = (("Okonjo & Daughters", f"{self.town.url}/companies/okonjo/"), ("Nobody", f"{self.town.url}/companies/nobody/"))
            sheets.add_rows(session, leads, [{"Company": name, "Site": site} for name, site in some])
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: bool(self.cells("leads")[0].get("PS")), lambda: str(self.cells("leads")), 40)
        good, bad = self.cells("leads")
        self.assertTrue(good["Opening"] and good["PS"])
        self.assertEqual((good["Company"], bad["Company"]), ("Okonjo & Daughters", "Nobody"))

    def test_ideas_of_feeds_into_a_sheet_that_is_chosen_late(self) -> None:
        self.late = self.sheet("Ideas", "Date, Title, Hook, Angle, Keywords, Link")
        feed = f"{self.town.url}/sites/furrow-letter/feed.rss"
        gaps = {"the_addresses_of_your_feeds": feed, "the_team’s_mail_address": "team@a.example"}
        id_ = self.begun("feeds-to-ideas", hand=True, late=True, **gaps)
        row = self.document["steps"][1]["steps"][-1]["settings"]
        self.assertEqual(
            {name: row["cells"].get(name) for name in ("Date", "Title", "Hook")},
            {"Date": "<<run.date>>", "Title": "<<idea.title>>", "Hook": "<<idea.hook>>"},
        )
        self.once(id_)
        ideas = self.cells(self.late)
        self.assertGreaterEqual(len(ideas), 2)
        self.assertTrue(all(one["Title"] and one["Hook"] and one["Date"] for one in ideas))

    def test_fresh_stories_once_each_and_two_texts_from_each_beside_examples(self) -> None:
        self.sheet("Stories", "Title, Link, Summary, Found")
        self.sheet("Liked", "Text", {"Text": "A jar in a shed held a thousand seeds. We sowed ten of them."})
        self.sheet("Texts", "Story, Link, Main text, Comment, Date, Used, Post, Commented")
        second = self.begun("story-to-texts")
        self.engine.polling.look_at(second)
        first = self.begun("stories-to-rows", hand=True, your_trade="heritage seed beans allotment")
        self.once(first)
        stories = self.cells("stories")
        self.assertTrue(1 <= len(stories) <= 5, stories)
        self.once(first)
        self.assertEqual(self.cells("stories"), stories)  # what is there already does not come again
        self.engine.polling.look_at(second)
        told: list[tuple[str, str]] = []

        def over() -> bool:
            with self.services.store.read() as session:
                runs = select(tables.Run.state, tables.Run.message).where(tables.Run.workflow_id == second)
                told[:] = [(state, message) for state, message in session.execute(runs)]
            return len(told) == len(stories) and all(state in ("done", "failed") for state, _ in told)

        self.wait_for(over, lambda: str(told), 60)
        # From a page that says too little for its length no text is made up.
        self.assertTrue(all("at least 80" in message for state, message in told if state == "failed"), told)
        self.assertEqual(len(self.cells("texts")), [state for state, _ in told].count("done"))
        self.assertGreaterEqual(len(self.cells("texts")), len(stories) - 1)
        for text in self.cells("texts"):
            self.assertIn(text["Link"], {story["Link"] for story in stories})
            self.assertTrue(text["Comment"])
            self.assertLessEqual(len(text["Main text"].split()), 180)

    def test_a_lead_s_brief_is_written_into_its_own_row(self) -> None:
        self.sheet("Leads", "Company, Site, Person, Overview, News, Offer, Why, Subject, Mail, Message")
        self.sheet("Offers", "Offer, About", {"Offer": "Bean library", "About": "Heritage beans for growers and yards"})
        self.sheet("Successes", "Customer, Story", {"Customer": "The Lock House", "Story": "Their yard was planted with our beans"})
        id_ = self.begun("lead-brief")
        self.engine.polling.look_at(id_)
        with self.services.store.write() as session:
            lead = {"Company": "Okonjo & Daughters", "Site": f"{self.town.url}/companies/okonjo/", "Person": "Ada Okonjo"}
            sheets.add_rows(session, session.get_one(tables.Sheet, "leads"), [lead])
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: bool(self.cells("leads")[0].get("Subject")), lambda: str(self.cells("leads")), 60)
        (row,) = self.cells("leads")
        self.assertTrue(row["Overview"] and row["Mail"] and row["Message"])
        self.assertEqual(row["Person"], "Ada Okonjo")

    def test_tomorrow_s_meetings_and_who_comes_a_row_each_and_no_row_twice(self) -> None:
        self.sheet("Meetings", "Meeting, When, Place, Who comes, Note, Mine")
        id_ = self.begun("meetings-tomorrow", hand=True, the_address_of_your_calendar=f"{self.town.url}/calendar/office.ics")
        self.once(id_)
        rows = {one["Meeting"]: one for one in self.cells("meetings")}
        yard = rows["The Okonjo yard about the hull"]
        self.assertIn("Bram Okonjo", yard["Who comes"])
        self.assertIn("narrowboats", yard["Who comes"])
        self.assertNotIn("Lindqvist", yard["Who comes"])
        self.assertTrue(yard["Note"])
        with self.services.store.write() as session:
            row = session.query(tables.SheetRow).filter_by(sheet="meetings").order_by(tables.SheetRow.position).first()
            assert row is not None
            row.cells = {**row.cells, "Mine": "I go", "Place": "By the water"}
        self.once(id_)
        again = self.cells("meetings")
        self.assertEqual([one["Meeting"] for one in again], list(rows))
        self.assertEqual(again[0]["Mine"], "I go")
