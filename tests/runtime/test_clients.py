"""One page for several clients: each its own channels, sheets, people and history; nothing of one through another's."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from tests.runtime.house import WHO, WithHouse, page
from ulmus.core.workflow import Workflow
from ulmus.protocols.errors import Misconfigured
from ulmus.readmodels.journals import Journals
from ulmus.runtime import clients, workflows
from ulmus.store import tables

INES = "ines@boats.example"


class Clients(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            pond = session.get_one(tables.Connection, "pond")
            session.add(tables.Connection(key="lock", kind="posting", name="Lockside", settings=pond.settings, sealed=pond.sealed))
            log = session.get_one(tables.Sheet, "log")
            session.add(tables.Sheet(key="boats_out", name="Boats out", columns=log.columns))
            session.add(tables.Brand(key="boats", name="Tillerby Boats", facts={"voice": "brisk"}))
        document = {**page(self.town.url), "brand": "marrowbank"}
        document["steps"][1]["settings"]["standing"] = "Voice: <<brand.voice>>"
        self.leading = self.made(document)

    def own(self, **more: dict[str, str]) -> dict[str, dict[str, str]]:
        return {
            "connection": {"pond": "lock", "mail": "mail"},
            "sheet": {"log": "boats_out"},
            "people": {WHO: INES},
            "address": {self.feed(): self.feed()},
            **more,
        }

    def feed(self) -> str:
        return str(page(self.town.url)["start"]["settings"]["url"])

    def followed(self, own: dict[str, dict[str, str]] | None = None) -> int:
        return clients.follow(self.engine, self.leading, "boats", self.own() if own is None else own, {}, WHO)

    def document(self, id_: int) -> Workflow:
        with self.services.store.read() as session:
            return Workflow.model_validate(session.get_one(tables.WorkflowRecord, id_).document)

    def settings(self, id_: int) -> dict[str, dict[str, Any]]:
        return {line.id: line.settings for line in self.document(id_).lines}

    def missing(self, id_: int) -> list[str]:
        with self.services.store.read() as session:
            return [one.message for one in clients.missing(session, session.get_one(tables.WorkflowRecord, id_))]

    def test_what_differs_is_told_channels_sheets_starts_and_people_and_a_model_is_everybodys(self) -> None:
        with self.services.store.read() as session:
            found = {(one.what, one.key): one.same for one in clients.differing(session, self.document(self.leading))}
        self.assertEqual(
            found,
            {
                ("connection", "pond"): False,
                ("connection", "mail"): False,
                ("connection", "model"): True,
                ("sheet", "log"): False,
                ("address", self.feed()): False,
                ("people", WHO): False,
            },
        )

    def test_each_has_its_own_and_goes_live_and_out_by_itself(self) -> None:
        id_ = self.followed()
        lines = self.settings(id_)
        self.assertEqual((lines["out"]["channel"], lines["log"]["sheet"], lines["editor"]["who"]), ("lock", "boats_out", INES))
        self.assertEqual(lines["post"]["model"], "model")
        self.assertEqual(self.document(id_).brand, "boats")
        self.assertEqual(self.missing(id_), [])
        workflows.go_live(self.engine, id_, WHO)
        run = self.new_item(id_)
        self.question(run)
        told = [str(getattr(event, "detail", "")) for event in Journals(self.services.store).of(run)]
        self.assertIn("Voice: brisk", "".join(told))
        self.answer(run)
        self.until(run, "done")
        with self.services.store.read() as session:
            sent = session.scalars(select(tables.Piece).where(tables.Piece.kind == "publish_post")).all()
            rows = session.scalars(select(tables.SheetRow)).all()
        self.assertEqual([one.connection for one in sent], ["lock"])
        self.assertEqual({row.sheet for row in rows}, {"boats_out"})

    def test_what_nothing_was_said_of_is_left_empty_and_never_anothers(self) -> None:
        id_ = self.followed({})
        lines = self.settings(id_)
        self.assertEqual((lines["out"]["channel"], lines["log"]["sheet"], lines["editor"]["who"]), ("", "", ""))
        self.assertEqual(self.document(id_).start.settings["url"], "")
        self.assertGreaterEqual(len(self.missing(id_)), 4)
        with self.assertRaises(workflows.NotReady):
            workflows.go_live(self.engine, id_, WHO)
        self.followed(self.own())
        self.assertEqual(self.missing(id_), [], "said later, it is complete")

    def test_a_change_reaches_the_others_when_it_goes_live_and_keeps_what_is_their_own(self) -> None:
        id_ = self.followed()
        workflows.go_live(self.engine, self.leading, WHO)
        workflows.go_live(self.engine, id_, WHO)
        changed = self.document(self.leading).model_dump(mode="json")
        changed["steps"][1]["settings"]["prompt"] += "\n\nName the month."
        with self.services.store.write() as session:
            record = session.get_one(tables.WorkflowRecord, self.leading)
            workflows.save(session, self.leading, Workflow.model_validate(changed), record.version, 1.0)
        self.assertNotIn("month", self.settings(id_)["post"]["prompt"], "not before it goes live")
        workflows.go_live(self.engine, self.leading, WHO)
        self.assertEqual([one.wrong for one in clients.renew(self.engine, self.leading, WHO)], [""])
        self.assertIn("month", self.settings(id_)["post"]["prompt"])
        self.assertEqual(self.settings(id_)["out"]["channel"], "lock")
        with self.services.store.read() as session:
            numbers = [
                session.get_one(tables.Revision, session.get_one(tables.WorkflowRecord, one).revision_id).number
                for one in (self.leading, id_)
            ]
        self.assertEqual(numbers, [2, 2])

    def test_one_that_is_no_longer_complete_stays_on_its_former_revision_and_says_why(self) -> None:
        id_ = self.followed()
        workflows.go_live(self.engine, id_, WHO)
        changed = self.document(self.leading).model_dump(mode="json")
        letter = {"server": "mail", "to": "team@marrowbank.example", "subject": "Out", "text": "<<post.text>>"}
        changed["steps"].append({"id": "letter", "kind": "send_letter", "settings": letter})
        with self.services.store.write() as session:
            record = session.get_one(tables.WorkflowRecord, self.leading)
            workflows.save(session, self.leading, Workflow.model_validate(changed), record.version, 1.0)
        workflows.go_live(self.engine, self.leading, WHO)
        (one,) = clients.renew(self.engine, self.leading, WHO)
        self.assertIn("not ready", one.wrong)
        self.assertEqual(self.settings(id_)["letter"]["to"], "", "the first client's team is not written to for the second")
        self.assertEqual(self.settings(id_)["letter"]["server"], "mail", "which was said to be the same")
        with self.services.store.read() as session:
            record = session.get_one(tables.WorkflowRecord, id_)
            self.assertEqual((record.state, session.get_one(tables.Revision, record.revision_id).number), ("live", 1))

    def change(self, step: str, **settings: Any) -> None:
        """The leading page is written on, and not live yet."""
        changed = self.document(self.leading).model_dump(mode="json")
        next(one for one in changed["steps"] if one["id"] == step)["settings"].update(settings)
        with self.services.store.write() as session:
            record = session.get_one(tables.WorkflowRecord, self.leading)
            workflows.save(session, self.leading, Workflow.model_validate(changed), record.version, 1.0)

    def test_what_is_written_and_not_live_yet_reaches_nobody_also_where_something_is_said_anew(self) -> None:
        id_ = self.followed()
        workflows.go_live(self.engine, self.leading, WHO)
        workflows.go_live(self.engine, id_, WHO)
        self.change("post", prompt="Half written <<page.text>>")
        self.followed(self.own(people={WHO: "tom@boats.example"}))
        lines = self.settings(id_)
        self.assertNotIn("Half written", lines["post"]["prompt"])
        self.assertEqual(lines["editor"]["who"], "tom@boats.example")

    def test_an_address_among_slots_is_anothers_too(self) -> None:
        named = f'<<page.author>>, Mara <mara@marrowbank.example>, <<feed.author | otherwise "{WHO}">>'
        self.change("editor", who=named)
        id_ = self.followed({"people": {WHO: INES}})
        who = self.settings(id_)["editor"]["who"]
        self.assertEqual(who, f'<<page.author>>, , <<feed.author | otherwise "{INES}">>')
        self.followed({"people": {"Mara <mara@marrowbank.example>": "tom@boats.example"}})
        self.assertEqual(
            self.settings(id_)["editor"]["who"], f'<<page.author>>, tom@boats.example, <<feed.author | otherwise "{INES}">>'
        )

    def test_where_drafts_are_told_of_and_what_is_read_is_anothers_too(self) -> None:
        with self.services.store.write() as session:
            session.add(tables.Connection(key="box", kind="mailbox", name="Marrowbank's letters", settings={}))
            session.add(tables.Connection(key="team", kind="room", name="Marrowbank's room", settings={}))
        self.change("editor", replies="box", room="team")
        lines = self.settings(self.followed())
        self.assertEqual((lines["editor"]["replies"], lines["editor"]["room"]), ("", ""))

    def test_what_is_everybodys_can_differ_and_be_the_same_again(self) -> None:
        with self.services.store.write() as session:
            model = session.get_one(tables.Connection, "model")
            session.add(tables.Connection(key="other", kind="model", name="Other", settings=model.settings, sealed=model.sealed))
        id_ = self.followed(self.own(connection={"pond": "lock", "mail": "mail", "model": "other"}))
        self.assertEqual(self.settings(id_)["post"]["model"], "other")
        self.followed(self.own(connection={"model": ""}))
        self.assertEqual(self.settings(id_)["post"]["model"], "model")
        self.assertEqual(self.settings(id_)["out"]["channel"], "lock", "what was not spoken of stays")

    def test_it_is_changed_where_it_leads_until_it_goes_its_own_way(self) -> None:
        id_ = self.followed()
        workflow = self.document(id_)
        with self.services.store.write() as session:
            with self.assertRaises(workflows.SaveRefused):
                workflows.save(session, id_, workflow, session.get_one(tables.WorkflowRecord, id_).version, 1.0)
            clients.part(session, id_, 1.0, WHO)
            workflows.save(session, id_, workflow, session.get_one(tables.WorkflowRecord, id_).version, 1.0)
        self.assertEqual(clients.renew(self.engine, self.leading, WHO), [])

    def test_what_does_not_fit_is_refused_and_nothing_is_kept(self) -> None:
        for wrong in (
            {"connection": {"pond": "model"}},
            {"connection": {"pond": "nowhere"}},
            {"sheet": {"log": "nowhere"}},
            {"people": {WHO: "nobody"}},
            {"address": {self.feed(): "javascript:alert(1)"}},
        ):
            with self.subTest(wrong), self.assertRaises(Misconfigured):
                self.followed(self.own(**wrong))
        for id_, brand in ((self.leading, "marrowbank"), (self.leading, "nobody"), (self.followed(), "marrowbank")):
            with self.assertRaises(Misconfigured):
                clients.follow(self.engine, id_, brand, {}, {}, WHO)
        with self.services.store.read() as session:
            self.assertEqual(len(clients.followers(session, self.leading)), 1)

    def test_pages_that_lead_to_each_other_do_so_for_the_same_client(self) -> None:
        first = self.made({**page(self.town.url), "name": "First", "brand": "marrowbank"})
        inner = clients.follow(self.engine, self.leading, "boats", self.own(), {}, WHO)
        document = self.document(first).model_dump(mode="json")
        document["steps"].append({"id": "next", "kind": "run_workflow", "settings": {"workflow": str(self.leading), "item": {}}})
        with self.services.store.write() as session:
            workflows.save(session, first, Workflow.model_validate(document), 1, 1.0)
        theirs = clients.follow(self.engine, first, "boats", {}, {}, WHO)
        self.assertEqual(self.settings(theirs)["next"]["workflow"], str(inner))
        self.assertEqual(self.settings(theirs)["out"]["channel"], "lock", "what was said once is known for the next page")
