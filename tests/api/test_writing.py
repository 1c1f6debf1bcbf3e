"""Writing through the API: finder, changes, takes, revisions, forecast, files from elsewhere, others on the page."""

from __future__ import annotations

import json
from typing import Any
from unittest import mock

from sqlalchemy import func, select

from tests.api.visitor import WithApi
from tests.runtime.house import WHO, page
from ulmus.runtime import workflows
from ulmus.store import tables


class Writing(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made(page(self.town.url))

    def change(self, what: str, status: int = 200, **more: Any) -> Any:
        version = self.owner.get(f"/workflows/{self.id_}/bench")["version"]
        return self.owner.post(f"/workflows/{self.id_}/edits", {"version": version, "what": what, **more}, status)

    def steps(self) -> list[str]:
        return [line["id"] for line in self.owner.get(f"/workflows/{self.id_}/bench")["lines"]]

    def test_an_offer_becomes_a_line(self) -> None:
        (offer, *_) = self.owner.get(f"/workflows/{self.id_}/offers", line="page", words="draft")
        made = self.change("add", line="page", kind=offer["kind"], settings=offer["settings"])
        self.assertEqual(made["line"], "draft")
        self.assertEqual(self.steps()[2], "draft")
        self.change("remove", line="draft")
        self.assertNotIn("draft", self.steps())

    def test_every_change_by_name(self) -> None:
        self.change("duplicate", line="page")
        self.change("down", line="page_2")
        self.change("rename", line="page_2", name="second")
        self.change("move", line="second", parent="", index=0)
        self.assertEqual(self.steps()[:3], ["feed", "second", "page"])
        fork = self.change("add", line="log", kind="fork")["line"]
        self.change("add_lane", line=fork)
        lanes = [line for line in self.owner.get(f"/workflows/{self.id_}/bench")["lines"] if line["kind"] == "lane"]
        self.assertEqual(len(lanes), 3, "lanes without steps are shown too")
        self.change("in", line=self.change("add", line=fork, kind="stop")["line"])
        self.change("remove_lane", line=lanes[0]["id"])
        self.change("start", kind="by_hand")
        self.assertEqual(self.steps()[0], "start")

    def test_quiet_hours_that_cannot_be_read_leave_the_forecast_without_a_number(self) -> None:
        self.change("start", kind="schedule", settings={"rule": "FREQ=DAILY", "quiet": "at night"})
        self.assertIsNone(self.owner.get(f"/workflows/{self.id_}/forecast")["runs"])

    def test_pasted_lines_come_in_by_names_of_their_own(self) -> None:
        line = {"id": "page", "kind": "read_page", "settings": {"url": "<<feed.link>>"}}
        made = self.change("paste", line="log", lines={"format": "ulmus-lines", "version": 1, "lines": [line]})
        self.assertEqual(made["line"], "page_2")
        self.assertIn("no copied lines", self.change("paste", 422, line="log", lines={"a": 1})["message"])

    def test_what_cannot_be_done_is_said_and_nothing_is_overwritten(self) -> None:
        before = self.steps()
        self.assertIn("no block", self.change("in", 422, line="post")["message"])
        self.assertIn("does not know", self.change("add", 422, line="page", kind="nonsense")["message"])
        self.owner.post(f"/workflows/{self.id_}/edits", {"version": 999, "what": "remove", "line": "page"}, 409)
        self.assertEqual(self.steps(), before)

    def test_others_hear_who_is_where(self) -> None:
        with self.services.bus.listen() as heard:
            self.owner.post(f"/workflows/{self.id_}/here", {"line": "post"})
            news = heard.get(timeout=2)
        self.assertEqual((news["topic"], news["id"], news["line"], news["leaving"]), ("here", self.id_, "post", False))

    def test_a_typed_sample_leads_where_it_is_told_to(self) -> None:
        path = f"/workflows/{self.id_}/samples"
        for title in ("One", "Two"):
            self.owner.post(path, {"item": {"title": title, "link": "http://a.example"}})
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        self.assertIn("link", bench["start_fields"])
        second = bench["samples"][1]["id"]
        self.owner.patch(f"{path}/{second}", {"lead": True})
        self.assertEqual(self.owner.get(f"/workflows/{self.id_}/bench")["samples"][0]["id"], second)


class Revisions(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made(page(self.town.url))
        workflows.go_live(self.engine, self.id_, WHO)

    def edit(self, prompt: str) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        document = bench["document"]
        document["steps"][1]["settings"]["prompt"] = prompt
        self.owner.put(f"/workflows/{self.id_}", {"document": document, "version": bench["version"]})

    def test_two_are_set_against_each_other_and_one_is_given_back(self) -> None:
        self.edit("Something else about <<page.text>>")
        (change,) = self.owner.get(f"/workflows/{self.id_}/compare", before=1, after=0)
        self.assertEqual((change["what"], change["step"], change["settings"][0]["title"]), ("changed", "post", "Prompt"))
        self.assertIn("added", {c["what"] for c in change["settings"][0]["changes"]})
        self.owner.post(f"/workflows/{self.id_}/live")
        listed = self.owner.get(f"/workflows/{self.id_}/revisions")
        self.assertEqual([(r["number"], r["live"]) for r in listed], [(2, True), (1, False)])
        old = self.owner.get(f"/workflows/{self.id_}/revisions/1")["document"]
        self.assertIn("One post", old["steps"][1]["settings"]["prompt"])
        self.owner.get(f"/workflows/{self.id_}/revisions/9", 404)

    def test_a_forecast_from_proofs_and_schedule(self) -> None:
        told = self.owner.get(f"/workflows/{self.id_}/forecast")
        self.assertEqual((told["runs"], told["unproofed"]), (None, ["post"]))
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        document = bench["document"]
        document["start"] = {
            "id": "feed",
            "kind": "schedule",
            "settings": {"rule": "FREQ=DAILY;BYHOUR=8;BYMINUTE=0", "zone": "UTC"},
        }
        document["limits"]["month_money"] = 5
        self.owner.put(f"/workflows/{self.id_}", {"document": document, "version": bench["version"]})
        self.owner.post(f"/workflows/{self.id_}/samples", {"item": {"title": "x", "link": f"{self.town.url}/sites/furrow-letter/"}})
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.owner.post(f"/workflows/{self.id_}/proofs", {})
        told = self.owner.get(f"/workflows/{self.id_}/forecast")
        self.assertEqual(told["runs"], 30)
        self.assertEqual((told["month_money"], told["how"]), (5, "by its schedule"))
        self.assertGreater(told["calls"], 0)
        self.assertEqual(told["unproofed"], [])


class Takes(WithApi):
    def setUp(self) -> None:
        super().setUp()
        takes = [{"name": "Plain", "prompt": "Tell it plainly.\n<<page.text>>"}]
        self.id_ = self.made(page(self.town.url, post={"takes": takes}))
        workflows.capture(self.engine, self.id_, 2)
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.owner.post(f"/workflows/{self.id_}/proofs", {})

    def test_takes_are_proofed_beside_the_draft_and_nothing_follows_from_them(self) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        rows = [line["id"] for line in bench["lines"]]
        self.assertEqual(rows[rows.index("post") + 1], "post~2")
        cells = {(c["step"], c["sample"]): c for c in bench["cells"]}
        sample = bench["samples"][0]["id"]
        self.assertEqual(cells["post~2", sample]["state"], "fresh")
        self.assertEqual(cells["out", sample]["brief"], cells["post", sample]["brief"])
        full = self.owner.get(f"/workflows/{self.id_}/cells/{sample}/post~2")
        own = self.owner.get(f"/workflows/{self.id_}/cells/{sample}/post")
        self.assertEqual(["Tell it plainly" in json.dumps(one["messages"]) for one in (full, own)], [True, False])
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(tables.Piece)), 0)

    def test_a_choice_is_tallied_and_begins_anew_with_an_edit(self) -> None:
        path = f"/workflows/{self.id_}/takes/post"
        for sample in self.owner.get(path)["samples"]:
            self.owner.post(f"{path}/choices", {"sample": sample["sample"], "take": "post~2"})
            self.owner.post(f"{path}/choices", {"sample": sample["sample"], "take": "post~2"})
        told = self.owner.get(path)
        self.assertTrue(all(s["judged"] for s in told["samples"]))
        self.assertEqual([(t["name"], t["preferred"], t["compared"]) for t in told["tallies"]], [("Take 1", 0, 2), ("Plain", 2, 2)])
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        bench["document"]["steps"][1]["settings"]["takes"][0]["prompt"] = "Otherwise.\n<<page.text>>"
        self.owner.put(f"/workflows/{self.id_}", {"document": bench["document"], "version": bench["version"]})
        told = self.owner.get(path)
        self.assertEqual(told["tallies"][1]["compared"], 0)
        self.assertIn(
            "Run the row",
            self.owner.post(f"{path}/choices", {"sample": told["samples"][0]["sample"], "take": "post~2"}, 409)["message"],
        )

    def change_draft(self, **settings: Any) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        bench["document"]["steps"][1]["settings"].update(settings)
        self.owner.put(f"/workflows/{self.id_}", {"document": bench["document"], "version": bench["version"]})

    def live(self) -> list[dict[str, Any]]:
        return [t["live"] for t in self.owner.get(f"/workflows/{self.id_}/takes/post")["tallies"]]

    def test_live_runs_are_shared_by_lot_and_what_passed_unedited_is_counted(self) -> None:
        self.assertEqual(self.live(), [None, None])
        before = {c["state"] for c in self.owner.get(f"/workflows/{self.id_}/bench")["cells"]}
        self.change_draft(shared=True)
        self.assertEqual({c["state"] for c in self.owner.get(f"/workflows/{self.id_}/bench")["cells"]}, before, "proofs stand")
        self.assertEqual([t["decided"] for t in self.live()], [0, 0])
        told = self.owner.get(f"/workflows/{self.id_}/takes/post")["tallies"]
        forecast = self.owner.get(f"/workflows/{self.id_}/forecast")
        self.assertAlmostEqual(forecast["cost"], sum(t["cost"] for t in told) / 2, msg="a run costs what its takes do on average")
        workflows.go_live(self.engine, self.id_, WHO)
        sample = self.owner.get(f"/workflows/{self.id_}/bench")["samples"][0]["id"]
        plain: dict[bool, list[bool]] = {True: [], False: []}
        for n in range(8):
            run = self.owner.post(f"/workflows/{self.id_}/start", {"sample": sample}, 201)["run"]
            asked = self.question(run)
            (done,) = [e for e in self.events(run, "done") if e["address"] == "post"]
            by_plain = done["detail"]["take"] == "Plain"
            self.assertEqual("Tell it plainly" in json.dumps(done["detail"]["messages"]), by_plain)
            plain[by_plain].append(n % 3 == 0)
            if n % 3 == 1:
                self.answer(run, "back", note="Shorter, please.")
                again = self.question(run)
                self.assertNotEqual(again.id, asked.id)
                (_, second) = [e for e in self.events(run, "done") if e["address"].endswith("post")]
                self.assertEqual(second["detail"]["take"], done["detail"]["take"], "every round is written by the same take")
            self.answer(run, text=None if n % 3 == 0 else "Another text altogether.", despite=True)
        self.assertTrue(plain[True] and plain[False], "both had their turn")
        first, second = self.live()
        self.assertEqual((first["decided"], first["unedited"]), (len(plain[False]), sum(plain[False])))
        self.assertEqual((second["decided"], second["unedited"]), (len(plain[True]), sum(plain[True])))
        self.assertIn("or, by lot: ", json.dumps(self.owner.get(f"/workflows/{self.id_}/bench")["lines"]))
        self.change_draft(takes=[{"name": "Plain", "prompt": "Otherwise.\n<<page.text>>"}])
        first, second = self.live()
        self.assertEqual((first["decided"], second["decided"]), (len(plain[False]), 0), "a changed take begins anew")

    def events(self, run: int, what: str) -> list[dict[str, Any]]:
        with self.services.store.read() as session:
            rows = select(tables.JournalEntry).where(tables.JournalEntry.run_id == run).order_by(tables.JournalEntry.seq)
            return [entry.event for entry in session.scalars(rows) if entry.event["event"] == what]

    def test_the_draft_itself_stays_fresh_when_a_take_is_edited(self) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        bench["document"]["steps"][1]["settings"]["takes"] = []
        self.owner.put(f"/workflows/{self.id_}", {"document": bench["document"], "version": bench["version"]})
        after = self.owner.get(f"/workflows/{self.id_}/bench")
        self.assertEqual({c["state"] for c in after["cells"]}, {"fresh"})
        self.owner.get(f"/workflows/{self.id_}/takes/post", 404)


class TakesInABlock(WithApi):
    def setUp(self) -> None:
        super().setUp()
        draft = {"model": "model", "prompt": "One line about <<it>>. The bean gave a full crop.", "takes": [{"name": "Plain"}]}
        draft["takes"][0]["prompt"] = "Plainly, about <<it>> of <<start.title>>. The pea stood two dry summers."
        inside = [{"id": "line", "kind": "draft", "settings": draft}]
        block = {"id": "all", "kind": "for_each", "settings": {"list": "<<start.names>>", "item": "it"}, "steps": inside}
        start = {"id": "start", "kind": "by_hand", "settings": {"fields": [{"name": "names", "label": "Names", "type": "long"}]}}
        self.id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Each", "start": start, "steps": [block]})
        with self.services.store.write() as session:
            workflows.add_sample(session, self.id_, {"title": "Two", "names": "bean\npea"}, "typed", 1.0)
        self.run_proofs()

    def run_proofs(self, **more: Any) -> None:
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.owner.post(f"/workflows/{self.id_}/proofs", more)

    def test_each_item_has_a_draft_of_each_take_and_they_are_judged_item_by_item(self) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        self.assertEqual(
            [(one["id"], one["depth"]) for one in bench["lines"]], [("start", 0), ("all", 0), ("line", 1), ("line~2", 2)]
        )
        cells = {c["step"]: c for c in bench["cells"]}
        self.assertEqual([cells[name]["counts"] for name in ("line", "line~2")], [{"fresh": 2}, {"fresh": 2}])
        sample = bench["samples"][0]["id"]
        full = self.owner.get(f"/workflows/{self.id_}/cells/{sample}/line~2", place="all:2/line~2")
        self.assertIn("about pea of Two", json.dumps(full["messages"]))
        path = f"/workflows/{self.id_}/takes/line"
        told = self.owner.get(path)["samples"]
        self.assertEqual([s["place"] for s in told], ["all:1/line", "all:2/line"])
        self.assertIn("1. bean", told[0]["label"])
        for one, take in zip(told, ("line~2", "line"), strict=True):
            for _ in range(2):
                self.owner.post(f"{path}/choices", {"sample": sample, "place": one["place"], "take": take})
        told = self.owner.get(path)
        self.assertEqual([s["judged"] for s in told["samples"]], [True, True])
        self.assertEqual([(t["preferred"], t["compared"]) for t in told["tallies"]], [(1, 2), (1, 2)])

    def test_how_far_the_lines_inside_are_is_told_while_they_are_made(self) -> None:
        self.town.state.habits["pace"] = 12
        seen: list[dict[str, Any]] = []
        publish = self.services.bus.publish

        def look(topic: str, **news: Any) -> None:
            publish(topic, **news)
            if topic == "proof" and news["step"] == "line~2" and news.get("text"):
                seen.extend(c for c in self.owner.get(f"/workflows/{self.id_}/bench")["cells"] if c["step"] == "line~2")

        with self.services.bus.listen() as news, mock.patch.object(self.services.bus, "publish", look):
            self.run_proofs(steps=["line~2"], again=True)
            heard = [m for m in list(news.queue) if m["topic"] == "proof" and m["step"] == "line~2"]
        self.assertIn((1, 1), {(m["done"], m["at_work"]) for m in heard[:-1]}, "one is done while the other is written")
        self.assertEqual(heard[-1]["state"], "made")
        growing = [c for c in seen if c["partial"]]
        self.assertEqual({c["state"] for c in growing}, {"running"})
        self.assertTrue(growing, "its words come in as they are written")
        self.assertEqual({sum(c["counts"].values()) for c in growing} - {1, 2}, set())

    def test_a_muted_block_is_passed_over_with_all_that_is_in_it(self) -> None:
        bench = self.owner.get(f"/workflows/{self.id_}/bench")
        bench["document"]["steps"][0]["muted"] = True
        self.owner.put(f"/workflows/{self.id_}", {"document": bench["document"], "version": bench["version"]})
        cells = self.owner.get(f"/workflows/{self.id_}/bench")["cells"]
        self.assertEqual(
            {c["step"]: c["state"] for c in cells if c["step"] != "start"}, dict.fromkeys(("all", "line", "line~2"), "muted")
        )

    def test_what_a_take_alone_reads_puts_the_block_out_of_date(self) -> None:
        with self.services.store.write() as session:
            sample = session.scalars(select(tables.Sample).where(tables.Sample.workflow_id == self.id_)).one()
            sample.item = {**sample.item, "title": "Three"}
        cells = {c["step"]: c["state"] for c in self.owner.get(f"/workflows/{self.id_}/bench")["cells"]}
        self.assertEqual((cells["line"], cells["line~2"]), ("stale", "stale"))

    def test_asking_again_asks_inside_the_block_too(self) -> None:
        before = self.town.state.counts["model"]
        self.run_proofs()
        self.assertEqual(self.town.state.counts["model"], before, "what is known is not asked")
        for asked, more in ((["line"], 2), (["line~2"], 2), (["all"], 4)):
            before = self.town.state.counts["model"]
            self.run_proofs(steps=asked, again=True)
            self.assertEqual(self.town.state.counts["model"], before + more, f"two items each, of {asked}")


class PlayedNotes(WithApi):
    def test_a_note_is_played_through_and_what_follows_has_the_rewrite(self) -> None:
        id_ = self.made(page(self.town.url, editor={"played": "Shorter, please."}))
        workflows.capture(self.engine, id_, 1)
        with mock.patch.object(self.proofs.executor, "submit", lambda job, *a: job(*a)):
            self.owner.post(f"/workflows/{id_}/proofs", {})
        bench = self.owner.get(f"/workflows/{id_}/bench")
        sample = bench["samples"][0]["id"]
        given = {s: self.owner.get(f"/workflows/{id_}/cells/{sample}/{s}")["output"].get("text") for s in ("post", "editor", "out")}
        self.assertNotEqual(given["editor"], given["post"])
        self.assertEqual(given["out"], given["editor"])
        with self.services.store.read() as session:
            self.assertEqual(session.scalar(select(func.count()).select_from(tables.Approval)), 0)


class FilesFromElsewhere(WithApi):
    def test_what_a_page_points_at_is_found_here_or_said(self) -> None:
        id_ = self.made(page(self.town.url))
        data = self.owner.get(f"/workflows/{id_}/file")
        self.assertEqual(data["needs"]["connections"]["pond"], {"kind": "posting", "name": "Pondside"})
        self.assertEqual(data["needs"]["sheets"]["log"]["columns"], ["Post", "Link", "By"])
        self.assertNotIn("pond-token", json.dumps(data))
        text = (
            json.dumps(data).replace('"pond"', '"elsewhere"').replace('"log"', '"their_log"').replace('"marrowbank"', '"newbrand"')
        )
        moved = json.loads(text.replace('"mail": "mail"', '"mail": "their_mail"'))
        moved["needs"]["connections"].pop("mail")
        moved["needs"]["sheets"]["their_log"] = {"name": "Other name", "columns": ["Post", "Link", "By"]}
        made = self.owner.post("/workflows", {"document": moved}, 201)
        notes = " ".join(made["notes"])
        self.assertIn("uses “Posts out”", notes)
        self.assertIn("brand", notes)
        bench = self.owner.get(f"/workflows/{made['id']}/bench")
        self.assertEqual([p["message"] for p in bench["problems"] if p["severity"] == "error"], [])
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.Brand, "newbrand").facts, {"voice": "plain"})

    def test_nonsense_about_needs_is_passed_over(self) -> None:
        needs = {"connections": {"pond": "x"}, "sheets": {"log": {"columns": 7}}, "brand": {"facts": "y"}}
        data = {**page(self.town.url), "brand": "unknown_here", "needs": needs}
        self.owner.post("/workflows", {"document": data}, 201)
        self.owner.post("/workflows", {"document": {**data, "needs": ["z"]}}, 201)

    def test_what_is_not_here_is_a_gap_on_its_line(self) -> None:
        data = page(self.town.url)
        data["steps"][3]["settings"]["channel"] = "far_network"
        with self.services.store.write() as session:
            session.add(tables.Connection(key="second", kind="posting", name="Second", settings={"endpoint": "http://a.example"}))
        made = self.owner.post("/workflows", {"document": data}, 201)
        self.assertIn("“far_network” is not here", made["notes"][0])
        bench = self.owner.get(f"/workflows/{made['id']}/bench")
        self.assertEqual([p["step"] for p in bench["problems"] if p["severity"] == "error"], ["out"])
        self.assertEqual(self.owner.post(f"/workflows/{made['id']}/live", status=409)["problems"][0]["where"], "out")
