"""Acts at a service and messages to a room: done once, found out about where that can be, and left to a person where it cannot."""

from __future__ import annotations

from typing import Any

from tests.runtime.house import WHO, WithHouse
from ulmus.core.workflow import check
from ulmus.runtime import workflows
from ulmus.runtime.services import world
from ulmus.steps import kinds
from ulmus.store import tables

LEAD = {"email": "ottoline@varley.example", "name": "Ottoline Varley", "id": "C-1041"}
QUICK = {"retries": 2, "wait": 0.05}


def step(id_: str, kind: str, **settings: Any) -> dict[str, Any]:
    return {"id": id_, "kind": kind, "settings": settings, "on_failure": QUICK}


class Acting(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        seal = self.services.sealer.seal
        with self.services.store.write() as session:
            for key, base in (("outreach", "/outreach/api"), ("customers", "/customers/api")):
                settings = {"base_url": self.town.url + base, "shows_within": 0.1}
                session.add(
                    tables.Connection(key=key, kind="service", name=key, settings=settings, sealed=seal({"key": "contacts-key"}))
                )
            room = {"shape": '{"message": {"body": <<message>>}}', "limit": 100}
            sealed = seal({"address": f"{self.town.url}/room/room-b7f2"})
            session.add(tables.Connection(key="team", kind="room", name="The team", settings=room, sealed=sealed))

    def page(self, *steps: dict[str, Any]) -> dict[str, Any]:
        start = {"id": "item", "kind": "call", "settings": {}}
        return {"format": "ulmus-workflow", "version": 1, "name": "Acts", "start": start, "steps": list(steps)}

    def run_on(self, *steps: dict[str, Any], item: dict[str, Any] = LEAD) -> int:
        id_ = self.made(self.page(*steps))
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "Acts", "body": item})
        assert run is not None
        return run

    def hand_over(self, **more: Any) -> dict[str, Any]:
        told = {
            "service": "outreach",
            "path": "/leads",
            "body": '{"email": <<item.body.email>>, "name": <<item.body.name>>, "line": "Seed & \\"beans\\""}',
            "unasked": True,
        }
        return step("act", "act_at_service", **{**told, **more})

    def wait_unsure(self, run: int) -> tables.Piece:
        self.wait_for(lambda: self.piece(run).state == "unsure", lambda: self.piece(run).state, 30)
        return self.piece(run)


class Acts(Acting):
    def test_a_lead_is_handed_over_and_a_record_changed_each_once(self) -> None:
        change = step(
            "change",
            "act_at_service",
            service="customers",
            method="PATCH",
            path="/<<item.body.id>>",
            body='{"lead": <<act.value.id>>, "state": "handed over"}',
            unasked=True,
        )
        run = self.run_on(self.hand_over(), change)
        self.until(run, "done")
        (lead,) = self.town.state.leads
        self.assertEqual((lead["email"], lead["line"]), ("ottoline@varley.example", 'Seed & "beans"'))
        self.assertEqual([c["given"] for c in self.town.state.changes], [{"lead": 1, "state": "handed over"}])
        self.assertTrue(self.engine.live(run).state.values["act"]["link"].endswith("/outreach/api/leads/1"))

    def test_a_lost_answer_with_a_key_is_sent_again_and_is_one(self) -> None:
        self.fault("outreach", "lost", 1)
        self.until(self.run_on(self.hand_over(knows_key=True)), "done", seconds=30)
        self.assertEqual(len(self.town.state.leads), 1)

    def test_a_lost_answer_is_found_out_about_by_asking(self) -> None:
        self.fault("outreach", "lost", 1)
        seen = {"seen_at": "/leads?email=<<item.body.email>>", "seen_in": "$.leads[*].email", "seen_is": "<<item.body.email>>"}
        self.until(self.run_on(self.hand_over(**seen)), "done", seconds=30)
        self.assertEqual(len(self.town.state.leads), 1, "the service keeps doubles: it was not handed over again")

    def test_one_that_never_came_is_seen_not_to_be_there_and_sent_again(self) -> None:
        self.fault("outreach", "down", 1)
        seen = {"seen_at": "/leads?email=<<item.body.email>>", "seen_in": "$.leads[*].email", "seen_is": "<<item.body.email>>"}
        self.until(self.run_on(self.hand_over(**seen)), "done", seconds=30)
        self.assertEqual(len(self.town.state.leads), 1)

    def test_where_nobody_can_tell_a_person_decides(self) -> None:
        self.fault("outreach", "lost", 1)
        run = self.run_on(self.hand_over())
        piece = self.wait_unsure(run)
        self.assertIn("does not say how to find out", piece.message)
        self.engine.outbox.decide(piece.id, "sent", "Mara")
        self.until(run, "done")
        self.assertEqual(len(self.town.state.leads), 1)

    def test_a_change_in_its_place_is_made_again(self) -> None:
        self.fault("contacts", "lost", 1)
        put = step("act", "act_at_service", service="customers", method="PUT", path="/C-1041", body='{"a": 1}', unasked=True)
        self.until(self.run_on(put), "done", seconds=30)
        self.assertEqual([c["given"] for c in self.town.state.changes], [{"a": 1}] * 2, "twice the same, in the same place")

    def test_what_the_service_says_against_it_is_told_and_a_proof_sends_nothing(self) -> None:
        run = self.run_on(self.hand_over(body='{"name": "Nobody"}'))
        self.assertIn("A lead needs an email", self.until(run, "failed").message)
        self.assertEqual(self.town.state.leads, [])

    def test_it_acts_unasked_only_where_that_is_said(self) -> None:
        def problems(*steps: dict[str, Any]) -> list[str]:
            with self.services.store.read() as session:
                around = world(session)
            found = check(self.document(self.made(self.page(*steps))), kinds(), around)
            return [p.message for p in found if p.severity == "error"]

        self.assertEqual(problems(self.hand_over()), [])
        (words,) = problems(self.hand_over(unasked=False))
        self.assertIn("nobody asked", words)
        question = step("ask", "ask_question", who="ines@a.example", question="May it?", mail="")
        self.assertEqual(problems(question, self.hand_over(unasked=False)), [])


class Messages(Acting):
    def message(self, text: str, **more: Any) -> dict[str, Any]:
        return step("say", "message_room", room="team", text=text, **more)

    @property
    def said(self) -> list[str]:
        return [m["body"] for m in self.town.state.messages]

    def test_it_is_said_as_the_room_wants_it(self) -> None:
        self.until(self.run_on(self.message("For <<item.body.name>>:\n“seed”")), "done")
        self.assertEqual(self.said, ["For Ottoline Varley:\n“seed”"])

    def test_a_long_one_goes_in_parts_at_the_ends_of_sentences(self) -> None:
        text = "The first sentence says one thing. " * 6
        run = self.run_on(self.message(text))
        self.until(run, "done")
        self.assertEqual([part.count(".") for part in self.said], [2, 2, 2])
        self.assertEqual(self.engine.live(run).state.values["say"]["parts"], 3)

    def test_or_not_at_all(self) -> None:
        run = self.run_on(self.message("x" * 101, long="refuse"))
        self.assertIn("at most 100 characters", self.until(run, "failed").message)
        self.assertEqual(self.said, [])

    def test_broken_off_between_parts_nothing_is_said_twice(self) -> None:
        self.town.state.set_fault("room", "busy", 1)
        self.until(self.run_on(self.message("Busy first.")), "done", seconds=30)
        self.assertEqual(self.said, ["Busy first."], "what was refused unread is said again")
        self.fault("room", "lost", 1)
        run = self.run_on(self.message("The first sentence says one thing. " * 6))
        self.assertIn("cannot be asked", self.wait_unsure(run).message)
        self.assertEqual(len(self.said), 2)
        self.reopen()
        self.engine.outbox.tick(self.services.clock() + 3600)
        self.assertEqual(len(self.said), 2, "it waits for a person")
