"""One place on the page that leads to several destinations: each with its own text, muted, failing and in doubt by itself."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from tests.api.visitor import WithApi
from tests.runtime.house import WHO
from tests.runtime.test_acts import Acting, step
from ulmus.core import flow
from ulmus.core.workflow import Workflow, check, edits, finder
from ulmus.runtime import workflows
from ulmus.runtime.services import world
from ulmus.steps import kinds
from ulmus.store import tables

LONG = "The soil is warm. " + "Sow the beans two inches deep and water them well. " * 8 + "https://seed.example/sow"


class WithDestinations(Acting):
    def page(self, *steps: dict[str, Any]) -> dict[str, Any]:
        fields = [{"name": "text", "label": "Text"}]
        return {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Everywhere",
            "start": {"id": "topic", "kind": "by_hand", "settings": {"fields": fields}},
            "steps": list(steps),
        }

    def everywhere(self, **more: Any) -> list[dict[str, Any]]:
        """A network that cuts, a team's room, and the network once more, muted; then the row, and one for each."""
        places = [
            step("post", "publish_post", channel="pond", text="<<topic.text>>", too_long="cut"),
            step("room", "message_room", room="team", text="Out: <<topic.text | shorten 5 words>>", **more),
            step("again", "publish_post", channel="pond", text="Once more.") | {"muted": True},
        ]
        cells = {"Post": "<<post.text>>", "Link": "<<post.link>>", "By": "<<again.link>>|<<destinations.out>>"}
        each = step("log", "add_row", sheet="log", cells={"Post": "<<one.to>>", "Link": "<<one.link>>", "By": "<<one.state>>"})
        return [
            {"id": "destinations", "kind": "destinations", "steps": places},
            step("beside", "add_row", sheet="log", cells=cells),
            {
                "id": "all",
                "kind": "for_each",
                "settings": {"list": "<<destinations.results>>", "item": "one", "parallel": 1},
                "steps": [each],
            },
        ]

    def begin(self, text: str, steps: list[dict[str, Any]]) -> int:
        self.id = self.made(self.page(*steps))
        workflows.go_live(self.engine, self.id, WHO)
        run = self.engine.runs.push(self.id, {"text": text})
        assert run is not None
        return run

    def room(self, token: str) -> None:
        """Where the team's room is."""
        with self.services.store.write() as session:
            address = {"address": f"{self.town.url}/room/{token}"}
            session.get_one(tables.Connection, "team").sealed = self.services.sealer.seal(address)

    def unsure(self, run: int) -> list[tables.Piece]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Piece).where(tables.Piece.run_id == run, tables.Piece.state == "unsure")))


class Destinations(WithDestinations):
    def test_each_gets_its_own_text_and_each_is_written_down_by_its_own_link(self) -> None:
        run = self.begin(LONG, self.everywhere())
        self.until(run, "done", "failed")
        (post,) = self.posts()
        self.assertLessEqual(len(post), 300)
        self.assertTrue(post.endswith("well. https://seed.example/sow"), "whole sentences went, the link stayed")
        self.assertEqual([m["body"] for m in self.town.state.messages], ["Out: The soil is warm. Sow…"])
        beside, *each = self.rows()
        self.assertEqual((beside["Post"], beside["By"]), (post, "|2"))
        self.assertIn("/pondside/", beside["Link"])
        told = [(row["Post"], row["By"]) for row in each]
        self.assertEqual(told, [("Pondside", "out"), ("The team", "out"), ("Pondside", "muted")])

    def test_one_that_fails_leaves_the_others_and_is_taken_up_alone(self) -> None:
        self.room("elsewhere")
        run = self.begin("Sow.", self.everywhere())
        message = self.until(run, "failed").message
        self.assertIn("The team: ", message)
        self.assertIn("The rest went on.", message)
        self.assertEqual((self.posts(), len(self.rows())), (["Sow."], 4))
        self.room("room-b7f2")
        self.engine.record(run, flow.TakenUp(at=self.services.clock(), address="destinations:2/room", by="Ines"))
        self.until(run, "done")
        self.assertEqual(len(self.town.state.messages), 1)
        self.assertEqual((self.posts(), len(self.rows())), (["Sow."], 4), "nothing goes out or is written twice")

    def test_one_in_doubt_waits_for_a_person_while_the_others_go_out_and_after_a_restart(self) -> None:
        self.fault("room", "lost", 1)
        run = self.begin("Sow.", self.everywhere())
        self.wait_for(lambda: bool(self.unsure(run)), seconds=30)
        self.wait_for(lambda: self.posts() == ["Sow."])
        self.reopen()
        (piece,) = self.unsure(run)
        self.engine.outbox.decide(piece.id, "sent", "Ines")
        self.until(run, "done")
        self.assertEqual((self.posts(), len(self.town.state.messages)), (["Sow."], 1))

    def test_a_proof_shows_each_and_nothing_leaves(self) -> None:
        document = self.page(*self.everywhere())
        document["steps"][0]["steps"][1]["settings"]["room"] = "gone"
        id_ = self.made(document)
        with self.services.store.write() as session:
            sample = tables.Sample(workflow_id=id_, label="A", item={"text": LONG}, source="typed", shown=True, created_at=1.0)
            session.add(sample)
            session.flush()
        page = Workflow.model_validate(document)
        self.proofs.run(id_, page, [sample], None, False)
        self.wait_for(lambda: self.proofs.columns(page, [sample])[sample.id].cells["all"].state in ("fresh", "failed"))
        cells = self.proofs.columns(page, [sample])[sample.id].cells
        self.assertEqual(cells["destinations"].state, "fresh", "one that fails does not take the others with it")
        self.assertEqual(cells["beside"].state, "fresh")
        self.assertEqual((self.posts(), self.town.state.messages), ([], []))


class OnThePage(Acting):
    def test_a_line_is_put_among_destinations_and_another_offered_beside_it(self) -> None:
        page = Workflow.model_validate(
            WithDestinations.page(self, step("post", "publish_post", channel="pond", text="<<topic.text>>"))
        )  # type: ignore[arg-type]
        spread = edits.spread(page, "post", kinds())
        (block,) = spread.steps
        self.assertEqual([one.id for one in block.steps], ["post"])
        self.assertEqual(edits.spread(spread, "post", kinds()), spread, "it stands there already")
        with self.services.store.read() as session:
            around = world(session)
        offers = finder.find(spread, kinds(), "post", "", around)
        self.assertEqual({offer.stage for offer in offers}, {"publish"})
        self.assertNotEqual(offers[0].settings.get("channel"), "pond", "the same place once more is the last one wants")
        again = next(offer for offer in offers if offer.settings.get("channel") == "pond" and offer.kind == "publish_post")
        self.assertEqual(again.settings["text"], "<<topic.text>>", "it goes out alike until it is told otherwise")
        with self.assertRaises(edits.EditError):
            edits.spread(page, "topic", kinds())

    def test_what_lets_nothing_out_is_no_destination_and_what_fails_is_there_for_the_row(self) -> None:
        inside = [step("post", "publish_post", channel="pond", text="T"), step("log", "add_row", sheet="log", cells={})]
        steps = [
            {"id": "out", "kind": "destinations", "steps": inside},
            step("row", "add_row", sheet="log", cells={"Link": "<<post.link>>"}),
        ]
        page = Workflow.model_validate(WithDestinations.page(self, *steps))  # type: ignore[arg-type]
        problems = check(page, kinds())
        self.assertEqual([p.step for p in problems if "no destination" in p.message], ["log"])
        self.assertEqual([p for p in problems if p.step == "row"], [])


class AskedAgain(WithApi, WithDestinations):
    """What was approved for several destinations is changed: in all of them, or in none."""

    def begin_asked(self, **room: Any) -> int:
        places = [
            step("post", "publish_post", channel="pond", text="<<draft.text>>", goes="at", goes_at="2099-01-01 10:00"),
            step("room", "message_room", room="team", text="<<draft.text>>", **room),
        ]
        draft = step("draft", "draft", model="model", prompt="One sentence. The bean gave a full crop.", title="Post")
        ask = step("editor", "ask", draft="draft", who=WHO)
        run = self.begin("x", [draft, ask, {"id": "destinations", "kind": "destinations", "steps": places}])
        self.answer(run)
        self.wait_for(lambda: len(self.of(run)) == 2)
        return run

    def of(self, run: int) -> list[tables.Piece]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Piece).where(tables.Piece.run_id == run).order_by(tables.Piece.address)))

    def test_both_that_wait_are_taken_back_and_the_draft_is_asked_about_once_more(self) -> None:
        run = self.begin_asked(goes="at", goes_at="2099-01-02 10:00")
        self.owner.post(f"/pieces/{self.of(run)[0].id}/change")
        self.answer(run, text="Changed.")
        self.wait_for(lambda: len(self.of(run)) == 4)
        waiting = [one.content.get("text") for one in self.of(run) if one.state == "queued"]
        self.assertEqual(waiting, ["Changed.", "Changed."])
        self.assertEqual((self.posts(), self.town.state.messages), ([], []))

    def test_where_one_is_out_already_nothing_goes_out_twice(self) -> None:
        run = self.begin_asked()
        self.wait_for(lambda: len(self.town.state.messages) == 1)
        self.wait_for(lambda: {one.state for one in self.of(run)} == {"queued", "sent"})
        said = self.owner.post(f"/pieces/{self.of(run)[0].id}/change", None, 409)["message"]
        self.assertIn("It went out in other places already: The team", said)
        self.assertEqual(len(self.town.state.messages), 1)
        self.owner.post(f"/pieces/{self.of(run)[0].id}/back")
        self.assertIn("Pondside: ", self.until(run, "failed").message)
