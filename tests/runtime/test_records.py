"""Rows as lines change them: beside the row a run came from, found by columns, from a list, moved and removed; once only, kept with what
stood there, and taken back."""

from __future__ import annotations

import threading
from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.core.workflow import Workflow, check, finder
from ulmus.runtime import readiness, records, workflows
from ulmus.runtime.services import world
from ulmus.steps import kinds
from ulmus.store import tables


class WithLeads(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            names = ("Company", "Site", "Line", "Notes", "Views")
            session.add(tables.Sheet(key="leads", name="Leads", columns=[{"name": n, "type": "text"} for n in names]))
            session.add(tables.Sheet(key="done", name="Done", columns=[{"name": "Company", "type": "text"}]))
            session.flush()
            for n, company in enumerate(("Varley Gardens", "Okonjo & Daughters", "Lock House"), start=1):
                cells = {"Company": company, "Site": f"https://{n}.example", "Notes": "first note" if n == 1 else ""}
                session.add(tables.SheetRow(sheet="leads", position=n, cells=cells))

    def page(self, *steps: dict[str, Any], start: dict[str, Any] | None = None) -> dict[str, Any]:
        start = start or {"id": "lead", "kind": "new_row", "settings": {"sheet": "leads"}}
        return {"format": "ulmus-workflow", "version": 1, "name": "Leads", "start": start, "steps": list(steps)}

    def step(self, kind: str, **settings: Any) -> dict[str, Any]:
        return {"id": kind, "kind": kind, "settings": {"sheet": "leads", **settings}, "on_failure": {"retries": 0}}

    def by_hand(self, *steps: dict[str, Any], **item: Any) -> int:
        fields = [{"name": name, "label": name, "type": "long"} for name in item]
        start = {"id": "item", "kind": "by_hand", "settings": {"fields": fields}}
        self.id = self.made(self.page(*steps, start=start))
        workflows.go_live(self.engine, self.id, WHO)
        run = self.engine.runs.push(self.id, item)
        assert run is not None
        return run

    def leads(self, sheet: str = "leads") -> list[dict[str, Any]]:
        row = tables.SheetRow
        with self.services.store.read() as session:
            found = session.execute(select(row.cells).where(row.sheet == sheet).order_by(row.position))
            return [dict(cells) for (cells,) in found]

    def take_back(self, run: int) -> list[str]:
        with self.services.store.write() as session:
            by = records.By(self.services.clock(), who="Ines")
            return records.undo(session, records.changes_of_run(session, run), by)[1]

    def problems(self, document: dict[str, Any]) -> list[str]:
        with self.services.store.read() as session:
            return [p.message for p in check(Workflow.model_validate(document), kinds(), world(session))]


class IntoTheRow(WithLeads):
    def test_beside_the_row_the_run_came_from_and_the_rest_stays(self) -> None:
        step = self.step(
            "write_row",
            cells={"Line": "About <<lead.Company>>."},
            below={"Notes": "Seen by <<lead.title>>"},
            dated=False,
            counted={"Views": ""},
        )
        id_ = self.made(self.page(step))
        workflows.go_live(self.engine, id_, WHO)
        self.engine.polling.look_at(id_)
        with self.services.store.write() as session:
            session.add(tables.SheetRow(sheet="leads", position=4, cells={"Company": "New Lead", "Notes": "came by mail"}))
        self.engine.polling.look_at(id_)
        with self.services.store.read() as session:
            run = session.scalar(select(tables.Run.id).order_by(tables.Run.id.desc()))
        assert run is not None
        self.until(run, "done", "failed")
        new = {"Company": "New Lead", "Notes": "came by mail\nSeen by New Lead", "Line": "About New Lead.", "Views": "1"}
        self.assertEqual(self.leads()[3], new)
        self.assertEqual(self.leads()[0]["Notes"], "first note")
        output = self.engine.live(run).state.values["write_row"]
        self.assertEqual((output["found"], output["before"]["Notes"], output["after"]["Views"]), ("yes", "came by mail", "1"))

    def test_the_row_found_by_a_column_added_where_missing_or_said(self) -> None:
        step = self.step("write_row", which="by", by={"Company": "<<item.who>>"}, cells={"Line": "<<item.line>>"}, missing="add")
        self.until(self.by_hand(step, who="OKONJO  & daughters", line="Good boats."), "done")
        self.assertEqual(self.leads()[1]["Line"], "Good boats.")
        self.assertEqual(len(self.leads()), 3)
        self.until(self.by_hand(step, who="Nobody yet", line="Hello."), "done")
        self.assertEqual(self.leads()[3], {"Company": "Nobody yet", "Line": "Hello."})
        step["settings"]["missing"] = "fail"
        self.assertIn(
            "“Somebody else” is not in “Leads”", self.until(self.by_hand(step, who="Somebody else", line="x"), "failed").message
        )
        step["settings"]["missing"] = "pass"
        run = self.by_hand(step, who="Somebody else", line="x")
        self.until(run, "done")
        self.assertEqual(self.engine.live(run).state.values["write_row"]["found"], "no")

    def test_what_cannot_be_counted_fails_with_words_and_changes_nothing(self) -> None:
        step = self.step("write_row", which="by", by={"Company": "Lock House"}, cells={"Line": "new"}, counted={"Site": "1"})
        self.assertIn("no number to count on", self.until(self.by_hand(step, x="y"), "failed").message)
        self.assertNotIn("Line", self.leads()[2])

    def test_many_runs_that_count_at_once_lose_none(self) -> None:
        step = self.step("write_row", which="by", by={"Company": "Lock House"}, counted={"Views": "2"})
        runs = [self.by_hand(step, x="0")]
        runs += [run for _ in range(19) if (run := self.engine.runs.push(self.id, {"x": "1"})) is not None]
        for run in runs:
            self.until(run, "done", seconds=30)
        self.assertEqual(self.leads()[2]["Views"], "40")

    def test_two_writers_are_told_of_each_other(self) -> None:
        step = self.step("write_row", which="by", by={"Company": "Lock House"}, cells={"Line": "<<item.line>>"})
        first = self.by_hand(step, line="one")
        self.until(first, "done")
        second = self.by_hand(step, line="two")
        self.until(second, "done")
        with self.services.store.read() as session:
            rows = session.query(tables.JournalEntry).filter(tables.JournalEntry.run_id == second)
            (done,) = [one.event for one in rows if one.event["event"] == "done"]
        self.assertEqual(done["detail"]["changed_by"], f"run {first}")
        self.assertEqual(done["detail"]["before"], {"Line": "one"})


class FromAList(WithLeads):
    LINES = "https://A.example/x?utm_source=q\nhttps://b.example\n\nhttps://a.example/x/\nhttps://3.example/"

    def test_a_row_for_each_once_by_its_key_also_beside_those_that_are_there(self) -> None:
        step = self.step(
            "add_rows",
            list="<<item.links>>",
            cells={"Site": "<<item>>", "Company": "of <<item.title | otherwise 'x'>>"},
            once="Site",
        )
        step["settings"]["cells"] = {"Site": "<<item>>"}
        run = self.by_hand(step, links=self.LINES)
        self.until(run, "done", "failed")
        self.assertEqual([row["Site"] for row in self.leads()[3:]], ["https://A.example/x?utm_source=q", "https://b.example"])
        output = self.engine.live(run).state.values["add_rows"]
        self.assertEqual((output["added"], output["there"]), (2, 2))
        again = self.by_hand(step, links=self.LINES)
        self.until(again, "done")
        self.assertEqual(self.engine.live(again).state.values["add_rows"]["added"], 0)

    def test_runs_at_the_same_moment_add_nothing_twice(self) -> None:
        step = self.step("add_rows", list="<<item.links>>", cells={"Site": "<<item>>"}, once="Site")
        self.by_hand(step, links="https://c.example")
        barrier = threading.Barrier(6)

        def push() -> None:
            barrier.wait()
            self.engine.runs.push(self.id, {"links": "https://c.example\nhttps://d.example"})

        threads = [threading.Thread(target=push) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        with self.services.store.read() as session:
            runs = list(session.scalars(select(tables.Run.id).where(tables.Run.workflow_id == self.id)))
        for run in runs:
            self.until(run, "done", seconds=30)
        self.assertEqual(sorted(row["Site"] for row in self.leads()[3:]), ["https://c.example", "https://d.example"])

    def test_what_is_nearly_there_is_left_out_where_wanted(self) -> None:
        step = self.step("add_rows", list="<<item.lines>>", cells={"Company": "<<item>>"}, once="Company", near=True)
        self.until(self.by_hand(step, lines="The Varley Gardens\nVarley Gardens\nAnother House"), "done")
        self.assertEqual([row["Company"] for row in self.leads()[3:]], ["The Varley Gardens", "Another House"])


class MovedAndRemoved(WithLeads):
    def test_a_row_goes_to_another_sheet_with_all_its_cells_and_back(self) -> None:
        step = self.step("move_row", which="by", by={"Company": "Lock House"}, to="sheet", other="done")
        run = self.by_hand(step, x="y")
        self.until(run, "done", "failed")
        self.assertEqual([row["Company"] for row in self.leads()], ["Varley Gardens", "Okonjo & Daughters"])
        self.assertEqual(self.leads("done"), [{"Company": "Lock House", "Site": "https://3.example", "Notes": ""}])
        self.take_back(run)
        self.assertEqual((len(self.leads()), self.leads("done")), (3, []))

    def test_a_removed_row_can_be_brought_back_for_thirty_days(self) -> None:
        step = self.step("move_row", which="by", by={"Company": "Lock House"}, to="away")
        run = self.by_hand(step, x="y")
        self.until(run, "done")
        self.assertEqual(len(self.leads()), 2)
        now = self.services.clock()
        with self.services.store.write() as session:
            self.assertEqual([one.before["Company"] for one in records.removed(session, "leads", now)], ["Lock House"])
            self.assertEqual(records.removed(session, "leads", now + 31 * 86_400), [])
        self.take_back(run)
        self.assertEqual(self.leads()[2]["Company"], "Lock House")


class TakenBack(WithLeads):
    def test_what_a_run_wrote_and_added_goes_and_what_somebody_changed_since_stays(self) -> None:
        write = self.step("write_row", which="by", by={"Company": "Lock House"}, cells={"Line": "<<item.x>>", "Notes": "n"})
        add = self.step("add_row", cells={"Company": "<<item.x>>"})
        run = self.by_hand(write, add, x="new")
        self.until(run, "done")
        before = self.leads()
        self.assertEqual((before[2]["Line"], len(before)), ("new", 4))
        self.assertEqual(self.take_back(run), [])
        self.assertEqual((self.leads()[2].get("Line"), len(self.leads())), ("", 3))
        self.assertEqual(self.take_back(run), [], "what was taken back is not taken back again")
        run = self.by_hand(write, x="newer")
        self.until(run, "done")
        with self.services.store.write() as session:
            row = session.scalar(select(tables.SheetRow).where(tables.SheetRow.position == 3, tables.SheetRow.sheet == "leads"))
            assert row is not None
            row.cells = {**row.cells, "Line": "by hand"}
        (words,) = self.take_back(run)
        self.assertIn("changed since: Line", words)
        self.assertEqual(self.leads()[2]["Line"], "by hand")

    def test_a_row_whose_sheet_went_or_that_moved_on_since_is_left_with_words(self) -> None:
        moved = self.by_hand(self.step("move_row", which="by", by={"Company": "Varley Gardens"}, to="sheet", other="done"), x="y")
        self.until(moved, "done")
        self.in_sheet("other", "Varley Gardens")
        (words,) = self.take_back(moved)
        self.assertIn("went to another sheet since", words)
        self.in_sheet("done", "Varley Gardens")
        with self.services.store.write() as session:
            session.delete(session.get(tables.Sheet, "leads"))
        (words,) = self.take_back(moved)
        self.assertIn("“leads” this row stood in is no longer here", words)
        self.assertEqual([row["Company"] for row in self.leads("done")], ["Varley Gardens"])

    def in_sheet(self, sheet: str, company: str) -> None:
        """A person puts a row into another sheet."""
        with self.services.store.write() as session:
            if session.get(tables.Sheet, sheet) is None:
                session.add(tables.Sheet(key=sheet, name=sheet, columns=[{"name": "Company", "type": "text"}]))
                session.flush()
            row = next(one for one in session.scalars(select(tables.SheetRow)) if one.cells.get("Company") == company)
            row.sheet = sheet


class OnThePage(WithLeads):
    def test_what_is_not_said_is_a_fault_of_the_line(self) -> None:
        self.assertIn("Say what goes into which column.", self.problems(self.page(self.step("write_row"))))
        self.assertIn("Say what goes into which column.", self.problems(self.page(self.step("add_row"))))
        said = self.problems(self.page(self.step("write_row", which="by", cells={"Line": "x"})))
        self.assertIn("Say which column tells the row, and what it says.", said)
        said = self.problems(self.page(self.step("add_rows", list="<<lead.title>>", cells={"Site": "<<item>>"}, once="Company")))
        self.assertIn("Nothing goes into “Company”.", said)

    def test_an_item_s_own_values_are_checked_and_a_new_line_begins_with_them(self) -> None:
        search = {"id": "search", "kind": "search", "settings": {"service": "s", "query": "q"}}
        add = self.step("add_rows", list="<<search.items>>", cells={"Site": "<<item.link>>", "Line": "<<item.headline>>"})
        said = [words for words in self.problems(self.page(search, add)) if "item" in words.lower()]
        self.assertEqual(said, ["An item has no “headline”."])
        with self.services.store.read() as session:
            offers = finder.find(Workflow.model_validate(self.page(search)), kinds(), "search", "rows list", world(session))
        offered = next(offer for offer in offers if offer.kind == "add_rows" and offer.settings.get("sheet") == "leads")
        self.assertEqual(offered.settings["list"], "<<search.items>>")
        self.assertEqual(offered.settings["cells"]["Site"], "<<item.link>>")

    def test_a_run_that_would_set_itself_off_is_found(self) -> None:
        changed = {"id": "lead", "kind": "new_row", "settings": {"sheet": "leads", "which": "changed"}}
        write = self.step("write_row", cells={"Line": "x"})
        for start, found in ((None, 0), (changed, 1)):
            document = self.page(write, start=start)
            id_ = self.made(document)
            with self.services.store.read() as session:
                said = readiness.from_circles(session, id_, Workflow.model_validate(document))
            self.assertEqual(len(said), found, "writing into a row makes no new one")

    def test_a_proof_shows_what_stood_there_and_what_would_and_writes_nothing(self) -> None:
        document = self.page(self.step("write_row", cells={"Notes": "About <<lead.Company>>"}))
        id_ = self.made(document)
        page = Workflow.model_validate(document)
        with self.services.store.write() as session:
            item = {**self.leads()[0], "row": 1, "title": "Varley Gardens"}
            sample = workflows.add_sample(session, id_, item, "typed", 1.0)
        self.proofs.run(id_, page, [sample], None, False)
        self.wait_for(lambda: self.proofs.columns(page, [sample])[sample.id].cells["write_row"].state in ("fresh", "failed"))
        result = self.proofs.columns(page, [sample])[sample.id].cells["write_row"].result
        assert result is not None
        self.assertEqual(
            (result.output["before"], result.output["after"]), ({"Notes": "first note"}, {"Notes": "About Varley Gardens"})
        )
        self.assertEqual(self.leads()[0]["Notes"], "first note")


class AtOnce(WithLeads):
    def test_two_people_and_runs_write_the_same_row_and_nothing_is_lost(self) -> None:
        with self.services.store.read() as session:
            number = session.scalars(select(tables.SheetRow.id).where(tables.SheetRow.position == 1)).first()
        assert number is not None
        step = self.step(
            "write_row", which="number", number=str(number), counted={"Views": "1"}, below={"Notes": "run"}, dated=False
        )
        first = self.by_hand(step, title="x")

        def person(column: str, who: str) -> None:
            for n in range(12):
                with self.services.store.write() as session:
                    sheet = session.get_one(tables.Sheet, "leads")
                    by = records.By(self.services.clock(), who=who)
                    records.put_cells(session, sheet, [(number, {column: f"{who} {n}"})], by)

        people = [threading.Thread(target=person, args=one) for one in (("Line", "Ines"), ("Site", "Mara"))]
        for thread in people:
            thread.start()
        runs = [first, *(self.engine.runs.push(self.id, {"title": "x"}) for _ in range(9))]
        for thread in people:
            thread.join()
        for run in runs:
            assert run is not None
            self.until(run, "done")
        cells = self.leads()[0]
        self.assertEqual((cells["Views"], cells["Line"], cells["Site"]), ("10", "Ines 11", "Mara 11"))
        self.assertEqual(cells["Notes"], "first note" + "\nrun" * 10)
        with self.services.store.read() as session:
            history = records.history(session, number)[::-1]
        self.assertEqual(len(history), 34)
        stood = {"Notes": "first note", "Site": "https://1.example"}
        for change in history:
            # Each was told what stood there when it wrote.
            self.assertEqual(change.before, {name: stood.get(name, "") for name in change.after})
            stood |= change.after
