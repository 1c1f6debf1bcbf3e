"""Templates carried out in a house with the practice town around it, to what then stands outside and in the sheets."""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse
from ulmus.core.workflow import Workflow, check, read_file
from ulmus.places import DEMO
from ulmus.runtime import asking, sheets, workflows
from ulmus.runtime.services import world
from ulmus.runtime.sharing import settle, templates
from ulmus.steps import kinds
from ulmus.store import tables

ARTICLE = "/sites/furrow-letter/seed-prices-rise-by-a"


class FromATemplate(WithHouse):
    connections: tuple[str, ...] = ()

    def setUp(self) -> None:
        super().setUp()
        self.services.public_url = "https://ulmus.example"
        text = (DEMO / "world.json").read_text("utf-8").replace("{town}", self.town.url)
        world = json.loads(text.replace('"{smtp}"', "1").replace('"{imap}"', "1"))
        with self.services.store.write() as session:
            for one in world["connections"]:
                if one["key"] in self.connections:
                    sealed = self.services.sealer.seal(one.pop("secrets"))
                    session.add(tables.Connection(**one, sealed=sealed))

    def sheet(self, key: str, name: str, *rows: dict[str, str]) -> None:
        with self.services.store.write() as session:
            columns = [{"name": column, "type": "text"} for column in rows[0]]
            session.add(tables.Sheet(key=key, name=name, columns=columns))
            session.flush()
            sheets.add_rows(session, session.get_one(tables.Sheet, key), [row for row in rows if any(row.values())])

    def rows(self, key: str) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            found = select(tables.SheetRow).where(tables.SheetRow.sheet == key).order_by(tables.SheetRow.position)
            return [row.cells for row in session.scalars(found)]

    def page_of(self, key: str, gaps: dict[str, str]) -> Workflow:
        """A template as it comes into this house, its gaps filled and everybody who is asked named."""
        text = json.dumps(templates()[key][1], ensure_ascii=False)
        for gap, words in gaps.items():
            self.assertIn(gap, text)
            text = text.replace(gap, words)
        document = json.loads(text)
        needs = document.pop("needs", {})
        with self.services.store.write() as session:
            page, _ = settle(session, read_file(document), needs)
        for line in page.every_step:
            if line.kind in ("ask", "ask_choice"):
                line.settings["who"] = WHO
        return page

    def begin(self, key: str, item: dict[str, Any], gaps: dict[str, str] | None = None) -> int:
        """A run of a template, set off by hand with what its start would give."""
        document = self.page_of(key, gaps or {}).model_dump(mode="json", exclude_none=True)
        fields = [{"name": name, "label": name} for name in item if name.islower()]
        document["start"] = {"id": document["start"]["id"], "kind": "by_hand", "settings": {"fields": fields}}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, item)
        assert run is not None
        return run

    def ends(self, run: int, *states: str) -> dict[str, Any]:
        self.until(run, *(states or ("done",)), "failed", "stuck", seconds=40)
        self.assertIn(self.run_of(run).state, states or ("done",), self.run_of(run).message)
        return self.engine.live(run).state.values

    def mails(self) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            sent = select(tables.Piece).where(tables.Piece.kind == "send_letter", tables.Piece.state == "sent")
            return [piece.content for piece in session.scalars(sent)]


class Triage(FromATemplate):
    connections = ("team_room",)

    def item(self, organisations: str, interests: str = "Seed: whatever is new about seed") -> int:
        gaps = {
            "<<? the organisations you follow, one on each line>>": organisations,
            "<<? what you follow of them, one on each line, such as Prices: what our buyers will pay>>": interests,
        }
        told = {
            "title": "Seed prices rise by a fifth",
            "link": self.town.url + ARTICLE,
            "summary": "The Ostrey market office says so.",
        }
        return self.begin("news-triage", told, gaps)

    def test_about_none_of_ours_it_stops_and_tells_nobody(self) -> None:
        values = self.ends(self.item("Brindle Quarry Works"), "skipped", "done")
        self.assertNotIn("verdicts", values)
        self.assertEqual(self.town.state.messages, [])

    def test_about_one_of_ours_the_room_hears_of_it_with_a_verdict_for_each_interest(self) -> None:
        self.ends(
            self.item("Ostrey market office\\nTillerby Boats", "Seed: its prices\\nBoats: hire and moorings"), "skipped", "done"
        )
        self.wait_for(lambda: bool(self.town.state.messages))
        said = "\n".join(one["body"] for one in self.town.state.messages)
        head, *rest = said.splitlines()
        self.assertEqual(head, "Ostrey market office: Seed prices rise by a fifth")
        verdicts = [line.partition(".")[0] for line in rest if line.startswith(("Seed: ", "Boats: "))]
        self.assertEqual(verdicts, ["Seed: much", "Boats: not at all"])
        self.assertTrue(rest[-1].endswith(ARTICLE))

    def test_what_matters_for_no_interest_is_told_to_nobody(self) -> None:
        run = self.item("Ostrey market office", "Boats: hire and moorings")
        self.ends(run, "skipped", "done")
        self.assertIn("none of our interests", self.run_of(run).message)
        self.assertEqual(self.town.state.messages, [])


class Film(FromATemplate):
    connections = ("contacts", "films")

    def greeting(self, company: str) -> int:
        self.sheet("films", "Films", {"Name": "", "Mail": "", "Company": "", "Film": "", "Subject": "", "Date": ""})
        return self.begin(
            "personal-film", {"company": company, "reason": "The winter lettuce seed is in, and your order can be fetched."}
        )

    def test_the_surest_is_taken_and_a_mail_with_the_film_goes_out(self) -> None:
        run = self.greeting("Varley Kitchen Gardens")
        self.answer(run)
        values = self.ends(run)
        self.assertEqual((values["whom"]["name"], values["whom"]["mail"]), ("Ottoline Varley", "ottoline@varley.example"))
        (letter,) = self.mails()
        self.assertIn("ottoline@varley.example", letter["to"][0])
        self.assertIn("/render/films/", letter["html"])
        self.assertEqual(len(letter["files"]), 0)
        (row,) = self.rows("films")
        self.assertEqual((row["Name"], row["Subject"]), ("Ottoline Varley", letter["subject"]))
        self.assertRegex(letter["subject"], "^(Thirty seconds for you, Ottoline Varley|A greeting to Varley Kitchen Gardens)$")

    def test_where_nobody_is_sure_enough_a_person_says_who_is_meant(self) -> None:
        run = self.greeting("Okonjo & Daughters")
        asked = self.question(run)
        self.assertEqual([one["name"] for one in asked.asks["options"]], ["Bram Okonjo", "Ama Okonjo"])
        asking.answer(self.services, self.engine.writer, asked.id, "approve", WHO, given={"number": 2}, person=WHO)
        self.wait_for(lambda: self.question(run).id != asked.id)
        self.answer(run)
        self.assertEqual(self.ends(run)["whom"]["mail"], "ama@okonjo.example")

    def test_a_company_nobody_knows_is_told_plainly(self) -> None:
        run = self.greeting("Nobody & Sons")
        self.until(run, "failed", "stuck", "asking")
        self.assertIn("nothing to choose from", self.run_of(run).message)


class Lead(FromATemplate):
    connections = ("web_search",)

    def test_a_brief_stands_beside_the_lead(self) -> None:
        empty = dict.fromkeys(("Overview", "News", "Offer", "Why", "Subject", "Mail", "Message"), "")
        lead = {"Company": "Varley Kitchen Gardens", "Person": "Ottoline Varley", "Site": f"{self.town.url}/companies/varley"}
        self.sheet("leads", "Leads", {**dict.fromkeys(lead, ""), **empty})
        self.sheet("offers", "What we offer", {"Offer": "Tomato box", "About": "Twelve old tomato sorts for kitchen gardens"})
        self.sheet("successes", "What went well", {"Customer": "The Lock House", "Story": "Their kitchen garden grew our beans"})
        id_ = self.made(self.page_of("lead-brief", {}).model_dump(mode="json", exclude_none=True))
        workflows.go_live(self.engine, id_, WHO)
        with self.services.store.write() as session:
            sheets.add_rows(session, session.get_one(tables.Sheet, "leads"), [lead])
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: bool(self.rows("leads")[0].get("Mail")), lambda: str(self.rows("leads")), 40)
        brief = self.rows("leads")[0]
        self.assertEqual(brief["Offer"], "Tomato box")
        self.assertTrue(all(brief[name] for name in empty), brief)


class Ideas(FromATemplate):
    def test_each_story_becomes_a_row_once_and_one_mail_tells_of_all(self) -> None:
        self.sheet("ideas", "Ideas", dict.fromkeys(("Title", "Hook", "Angle", "Keywords", "Link", "Date"), ""))
        gaps = {
            "<<? the addresses of your feeds, one on each line>>": f"{self.town.url}/sites/furrow-letter/feed.rss",
            "<<? the team’s mail address>>": "team@a.example",
        }
        document = templates()["feeds-to-ideas"][1]
        self.assertEqual(document["steps"][0]["settings"]["days"], 1)
        gaps |= {'"days": 1': '"days": 60', '"most": 10': '"most": 3'}
        self.ends(self.begin("feeds-to-ideas", {"title": "Today"}, gaps))
        rows = self.rows("ideas")
        self.assertEqual(len(rows), 3)
        self.assertTrue(all(row["Title"] and row["Hook"] and row["Link"] for row in rows), rows)
        (letter,) = self.mails()
        self.assertTrue(letter["subject"].startswith("3 new ideas"), letter["subject"])
        for row in rows:
            self.assertIn(row["Link"], letter["text"])


class UnderItsPost(FromATemplate):
    def test_a_comment_goes_under_the_post_that_stands_beside_it_once(self) -> None:
        empty = dict.fromkeys(("Story", "Link", "Main text", "Comment", "Date", "Used", "Post", "Commented"), "")
        self.sheet("texts", "Texts", {**empty, "Story": "Beans", "Comment": "Soak them overnight."})
        id_ = self.made(self.page_of("comment-under-its-post", {}).model_dump(mode="json", exclude_none=True))
        workflows.go_live(self.engine, id_, WHO)
        with self.services.store.write() as session:
            row = session.scalars(select(tables.SheetRow).where(tables.SheetRow.sheet == "texts")).one()
            row.cells = {**row.cells, "Post": f"{self.town.url}/pondside/posts/1", "Used": "yes"}
        self.engine.polling.look_at(id_)
        self.wait_for(lambda: bool(self.rows("texts")[0]["Commented"]))
        self.engine.polling.look_at(id_)
        self.assertEqual(self.posts(), ["Soak them overnight."])


class Answers(FromATemplate):
    def test_an_answer_is_passed_and_goes_out_under_the_post(self) -> None:
        theirs = {
            "title": "The beans are in",
            "summary": "Our brown runner beans came up after nine days in cold ground.",
            "link": f"{self.town.url}/pondside/posts/7",
        }
        run = self.begin("answers-to-posts", theirs, {"<<? the feed of the people you follow>>": "https://a.example/feed.xml"})
        self.answer(run, text="Did you soak them first?")
        self.ends(run)
        with self.services.store.read() as session:
            (post,) = session.scalars(select(tables.Piece).where(tables.Piece.kind == "publish_post"))
        self.assertEqual((post.state, post.content["answers"]), ("sent", theirs["link"]))


class WithoutSheets(FromATemplate):
    """A template that needs sheets comes into a house that has none of them, or one that lacks columns."""

    def settled(self, key: str) -> tuple[Workflow, list[str]]:
        document = json.loads(json.dumps(templates()[key][1]))
        needs = document.pop("needs")
        with self.services.store.write() as session:
            return settle(session, read_file(document), needs)

    def test_they_are_made_with_their_columns_typed_and_told(self) -> None:
        page, notes = self.settled("story-to-texts")
        with self.services.store.read() as session:
            made = {s.name: s for s in session.scalars(select(tables.Sheet))}
        self.assertLessEqual({"Stories", "Liked examples", "Texts"}, made.keys())
        self.assertIn({"name": "Used", "type": "yes_no"}, made["Texts"].columns)
        self.assertEqual(page.start.settings["sheet"], made["Stories"].key)
        self.assertTrue(any("“Texts” was made" in note and "Commented" in note for note in notes), notes)
        with self.services.store.read() as session:
            problems = check(page, kinds(), world(session))
        self.assertFalse([p.message for p in problems if "sheet" in p.message])

    def test_a_second_time_the_same_are_used(self) -> None:
        first, _ = self.settled("stories-to-rows")
        second, notes = self.settled("stories-to-rows")
        self.assertEqual(first.steps[-1].settings["sheet"], second.steps[-1].settings["sheet"])
        self.assertFalse([note for note in notes if "was made" in note])

    def test_one_that_lacks_columns_says_so_once_with_what_one_press_adds(self) -> None:
        self.sheet("leads", "Leads", {"Company": "Varley", "Site": ""})
        page, _ = self.settled("two-personal-lines")
        with self.services.store.read() as session:
            (told,) = [p for p in check(page, kinds(), world(session)) if p.widens]
        self.assertEqual((told.widens, told.columns, told.mend), ("leads", ("Opening", "PS"), "Add the 2 columns"))

    def test_what_a_file_says_of_sheets_may_be_of_any_shape(self) -> None:
        document = json.loads(json.dumps(templates()["stories-to-rows"][1]))
        needs = document.pop("needs")
        for columns in (7, "Title", [None, 3, {"name": ""}, {"name": ["x"]}], [{"name": "Title", "type": "colour"}], ["A", "A"]):
            needs["sheets"]["stories"]["columns"] = columns
            with self.subTest(columns=columns), self.services.store.write() as session:
                _, notes = settle(session, read_file(dict(document)), needs)
                self.assertTrue(notes)
                session.rollback()


class WithoutMail(FromATemplate):
    def test_where_there_is_no_mail_server_nobody_need_choose_one(self) -> None:
        with self.services.store.write() as session:
            session.delete(session.get_one(tables.Connection, "mail"))
        page = self.page_of("answers-to-posts", {})
        self.assertEqual([line.settings["mail"] for line in page.every_step if line.kind == "ask"], [""])


class OfAnotherClient(FromATemplate):
    def test_a_client_s_page_never_takes_another_client_s_sheet(self) -> None:
        """Not by its key, not by its name, not by its columns."""
        columns = [{"name": name, "type": "text"} for name in ("Title", "Link", "Summary", "Found")]
        with self.services.store.write() as session:
            for key in ("theirs", "ours"):
                session.add(tables.Brand(key=key, name=key.title(), facts={}))
            session.flush()
            session.add(tables.Sheet(key="stories", name="Stories", columns=columns, brand="theirs"))
            session.add(tables.Sheet(key="heap", name="A heap", columns=columns, brand="theirs"))
        for brand, finds in (("ours", "stories_2"), ("theirs", "stories"), (None, "stories")):
            document = {**json.loads(json.dumps(templates()["stories-to-rows"][1])), "brand": brand}
            needs = document.pop("needs")
            with self.services.store.write() as session:
                page, _ = settle(session, read_file(document), needs)
                rows = page.line("rows")
                assert rows is not None
                self.assertEqual(rows.settings["sheet"], finds)
                own = session.get_one(tables.Sheet, finds)
                self.assertIn(own.brand, (brand, "theirs") if brand is None else (brand,))
