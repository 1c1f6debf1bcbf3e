"""A house's first hour: its first account, what is needed before the first piece, the practice town."""

from __future__ import annotations

import json
import socket
from unittest import mock

from sqlalchemy import delete

from tests.api.visitor import WithApi
from ulmus.runtime.practice import FACT, Practice
from ulmus.store import tables
from ulmus.store.db import set_fact

GOOD = {"key": "known to the keeper", "email": " Nora@Feld.example ", "name": "Nora Feld", "password": "two boats and a heron"}


class FirstAccount(WithApi):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            session.execute(delete(tables.WebSession))
            session.execute(delete(tables.User))
        self.house.first_key = GOOD["key"]
        self.stranger = self.visitor()

    def test_whoever_knows_the_key_becomes_the_owner_and_is_signed_in(self) -> None:
        self.assertTrue(self.stranger.get("/session")["empty"])
        made = self.stranger.post("/session/first", GOOD)
        self.assertEqual((made["email"], made["role"], made["signed_in"]), ("nora@feld.example", "owner", True))
        told = self.stranger.get("/session")
        self.assertEqual((told["signed_in"], told["empty"]), (True, False))
        self.assertFalse(self.visitor().get("/session")["empty"])

    def test_it_is_made_once_and_by_nobody_else(self) -> None:
        for wrong in ("", "known to the keepeR", "é"):
            told = self.stranger.post("/session/first", GOOD | {"key": wrong}, 403)
            self.assertIn("no longer right", told["message"])
        self.assertIn("at least", self.stranger.post("/session/first", GOOD | {"password": "short"}, 422)["message"])
        self.stranger.post("/session/first", GOOD)
        told = self.visitor().post("/session/first", GOOD | {"email": "other@feld.example"}, 409)
        self.assertIn("Sign in", told["message"])

    def test_a_house_that_has_people_takes_no_key(self) -> None:
        self.house.first_key = ""
        self.stranger.post("/session/first", GOOD | {"key": ""}, 403)
        self.assertFalse(self.stranger.get("/session")["empty"])

    def test_keys_cannot_be_tried_without_end(self) -> None:
        for _ in range(8):
            self.stranger.post("/session/first", GOOD | {"key": "guess"}, 403)
        self.stranger.post("/session/first", GOOD, 429)


class FirstSteps(WithApi):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            for table in (tables.WorkflowRecord, tables.Connection, tables.Brand):
                session.execute(delete(table))
        self.addCleanup(lambda: self.house.practice.stop())

    def steps(self) -> dict[str, object]:
        found: dict[str, object] = self.owner.get("/today")["first_steps"]
        return found

    def test_an_empty_house_lacks_everything_and_says_what_is_there(self) -> None:
        self.assertEqual({n: v for n, v in self.steps().items() if v}, {})
        body = {"kind": "model", "name": "Ours", "settings": {"base_url": "http://127.0.0.1:9/v1", "model": "m"}, "secrets": {}}
        self.owner.post("/connections", body, 201)
        self.owner.post("/brands", {"name": "Feld"}, 201)
        steps = self.steps()
        self.assertEqual(steps["model"], {"key": "ours", "name": "Ours", "ok": None, "says": ""})
        self.assertEqual(steps["brand"]["name"], "Feld")  # type: ignore[index]
        self.assertIsNone(steps["channel"])
        # What was tried and does not answer says so at its step.
        self.owner.post("/connections/ours/test", {})
        self.assertEqual(self.steps()["model"]["ok"], False)  # type: ignore[index]

    def test_they_can_be_put_away_by_an_owner(self) -> None:
        self.visitor("maker").delete("/house/first-steps", 403)
        self.owner.delete("/house/first-steps")
        self.assertIsNone(self.steps())

    def test_the_practice_town_opens_with_what_one_needs_and_moves_where_its_place_is_taken(self) -> None:
        self.visitor("maker").post("/house/practice", {}, 403)
        told = self.owner.post("/house/practice", {}, 201)
        self.assertEqual((told["model"]["name"], told["model"]["ok"]), ("Practice model", True))
        self.assertEqual((told["channel"]["name"], told["channel"]["ok"]), ("Practice network", True))
        self.assertEqual(self.owner.get("/session")["town_url"], told["town"])
        # Once more changes nothing.
        self.assertEqual(self.owner.post("/house/practice", {}, 201)["town"], told["town"])
        self.house.practice.stop()
        port = int(told["town"].rpartition(":")[2])
        with socket.socket() as squatter:
            squatter.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            squatter.bind(("127.0.0.1", port))
            squatter.listen()
            practice = self.house.practice = Practice(self.services)
            practice.open_again()
        self.assertNotIn(str(port), practice.url)
        # What listens there now is none of the house's.
        self.assertNotIn(f"127.0.0.1:{port}", self.services.web.allowed)
        self.assertIn(practice.url.removeprefix("http://"), self.services.web.allowed)
        self.assertTrue(self.owner.post("/connections/practice_network/test", {})["ok"])
        self.assertTrue(self.owner.post("/connections/practice_mail/test", {})["ok"])

    def test_a_connection_that_somebody_led_elsewhere_is_left_alone(self) -> None:
        self.owner.post("/house/practice", {}, 201)
        self.house.practice.stop()
        with self.services.store.write() as session:
            own = session.get_one(tables.Connection, "practice_model")
            own.settings = own.settings | {"base_url": "http://model.example/v1"}
            set_fact(session.connection(), FACT, json.dumps({"web": 1, "smtp": 2}))  # ports nobody may use
        practice = self.house.practice = Practice(self.services)
        practice.open_again()
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.Connection, "practice_model").settings["base_url"], "http://model.example/v1")

    def test_where_what_the_town_needs_is_not_installed_that_is_said(self) -> None:
        with mock.patch("importlib.util.find_spec", return_value=None):
            told = self.owner.post("/house/practice", {}, 409)
        self.assertIn("Install ulmus[demo]", told["message"])

    def test_a_town_whose_connections_are_gone_stays_closed(self) -> None:
        self.owner.post("/house/practice", {}, 201)
        self.house.practice.stop()
        with self.services.store.write() as session:
            session.execute(delete(tables.Connection))
        practice = Practice(self.services)
        practice.open_again()
        self.assertEqual(practice.url, "")
