"""Workers as an owner sees them: who is there, what waits, keys made and taken away, and what is said where none is there."""

from __future__ import annotations

import threading
from typing import Any
from unittest import mock

from tests.api.visitor import WithApi
from tests.runtime.house import WHO
from tests.runtime.workers import HandedOn
from ulmus import __version__
from ulmus.readmodels.watching import measures
from ulmus.runtime import elsewhere, workflows
from ulmus.runtime.elsewhere import Elsewhere


class Workers(WithApi):
    def open_for_workers(self) -> None:
        self.broker = HandedOn()
        self.elsewhere = self.house.elsewhere = Elsewhere(self.services, self.broker, self.engine.writer, self.engine.executor)
        self.engine.handlers.carried_out(self.elsewhere)
        self.elsewhere.start()
        self.addCleanup(self.elsewhere.close)

    def asked(self, path: str, key: str, **body: Any) -> Any:
        head = {"Authorization": f"Bearer {key}", "X-Ulmus-Version": __version__}
        return self.app.test_client().post(f"/workers{path}", json=body, headers=head)

    def drafting(self) -> int:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Drafts",
            "start": {"id": "item", "kind": "by_hand", "settings": {"fields": []}},
            "steps": [{"id": "post", "kind": "draft", "settings": {"model": "model", "prompt": "Say what is new."}}],
        }
        made = self.made(document)
        workflows.go_live(self.engine, made, WHO)
        run = self.engine.runs.push(made, {})
        assert run is not None
        return run

    def test_a_house_that_carries_out_everything_itself_says_so(self) -> None:
        self.assertEqual(self.owner.get("/house/workers")["wanted"], False)
        self.assertFalse(self.owner.get("/house")["workers"])
        self.visitor("maker").get("/house/workers", 403)

    def test_keys_are_made_shown_once_and_taken_away(self) -> None:
        self.open_for_workers()
        self.visitor("maker").post("/house/workers/keys", {"name": "attic"}, 403)
        key = self.owner.post("/house/workers/keys", {"name": "attic"}, 201)["key"]
        self.owner.post("/house/workers/keys", {"name": "attic"}, 409)
        for name in ("  ", "..", "/"):
            self.owner.post("/house/workers/keys", {"name": name}, 422)
        self.owner.post("/house/workers/keys", {"name": "hut / 7"}, 201)
        self.owner.delete("/house/workers/keys/hut-7")
        told = self.owner.get("/house/workers")
        self.assertEqual(told["keys"], [{"name": "attic", "workers": []}])
        self.assertNotIn(key, str(told))
        run = self.drafting()
        task = self.broker.offers.get(timeout=20)
        self.assertEqual(self.asked(f"/{task}/begin", key, process="hut/7").status_code, 200)
        self.asked("/heard", key, tasks={task: ""}, process="hut/7", room=4)
        (one,) = self.owner.get("/house/workers")["keys"][0]["workers"]
        self.assertEqual((one["process"], one["at_work"], one["room"]), ("hut/7", 1, 4))
        self.assertEqual(self.owner.get("/house/workers")["begun"], 1)
        named = {one.name: dict(one.values) for one in measures(self.engine)}
        self.assertEqual(named["ulmus_steps_out"], {("waiting",): 0.0, ("offered",): 0.0, ("begun",): 1.0})
        self.assertEqual(named["ulmus_workers"], {(): 1.0})
        # Taken away, it is heard no more, and what it had is lost to it.
        self.owner.delete("/house/workers/keys/attic")
        self.assertEqual(self.asked("/heard", key, tasks={task: ""}).status_code, 401)
        self.until(run, "waiting", "failed", "stuck")
        self.assertEqual(self.owner.get("/house/workers")["keys"], [])
        trail = str(self.owner.get("/trail"))
        self.assertIn("made a worker's key", trail)
        self.assertIn("took a worker's key away", trail)

    def test_a_held_copy_has_no_workers_of_the_house_it_was_copied_from(self) -> None:
        self.open_for_workers()
        key = self.owner.post("/house/workers/keys", {"name": "attic"}, 201)["key"]
        self.assertEqual(self.asked("/hello", key).status_code, 200)
        with mock.patch.object(self.engine, "hold", mock.Mock(why="restored", since=1.0)):
            told = self.asked("/hello", key)
        self.assertEqual(told.status_code, 423)
        self.assertIn("held", told.json["message"])

    def test_that_the_broker_is_away_is_said_until_it_is_back(self) -> None:
        self.open_for_workers()
        publish, back = self.broker.publish, threading.Event()

        def away(task: str) -> None:
            if not back.is_set():
                raise elsewhere.BrokerAway("connection refused")
            publish(task)

        with mock.patch.object(self.broker, "publish", away):
            self.drafting()
            self.wait_for(lambda: bool(self.owner.get("/house")["troubles"]))
            self.assertIn("connection refused", self.owner.get("/house")["troubles"][0])
            back.set()
            self.wait_for(lambda: not self.owner.get("/house")["troubles"])
        self.assertEqual(len(self.broker.published), 1)

    def test_that_no_worker_is_there_is_said_while_something_waits_for_one(self) -> None:
        self.open_for_workers()
        with mock.patch.object(elsewhere, "AGAIN", 0.2):
            self.assertEqual(self.owner.get("/house")["troubles"], [])
            self.drafting()
            self.wait_for(lambda: bool(self.owner.get("/house")["troubles"]))
            self.assertIn("1 step waits for a worker, and none is there.", self.owner.get("/house")["troubles"][0])
            key = self.owner.post("/house/workers/keys", {"name": "attic"}, 201)["key"]
            with mock.patch.object(elsewhere, "AGAIN", 60.0):
                self.asked("/heard", key, tasks={}, process="hut/7", room=4)
                self.assertEqual(self.owner.get("/house")["troubles"], [])
