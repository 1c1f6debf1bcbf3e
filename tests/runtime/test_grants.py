"""OAuth 2: as a program and as a person, tokens made anew once however many wait, and what was withdrawn is told."""

from __future__ import annotations

import threading
import time
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx

from tests.runtime.house import WHO, WithHouse
from ulmus.protocols import oauth
from ulmus.protocols.errors import Misconfigured, OutsideError
from ulmus.runtime import workflows
from ulmus.store import tables


def query(address: str) -> dict[str, str]:
    return {name: values[0] for name, values in parse_qs(urlsplit(address).query).items()}


class Granting(WithHouse):
    def connection(self, how: str, **more: Any) -> None:
        settings = {
            "base_url": f"{self.town.url}/outreach/api",
            "oauth": how,
            "token_at": f"{self.town.url}/oauth/token",
            "authorize_at": f"{self.town.url}/oauth/agree",
            "client_id": "hedge-lane",
            "scope": "leads write",
        }
        sealed = self.services.sealer.seal({"client_secret": "lane-secret", **more})
        with self.services.store.write() as session:
            session.merge(tables.Connection(key="leads", kind="service", name="Leads", settings=settings, sealed=sealed))

    def came_back(self) -> dict[str, str]:
        """Do what a person does in the browser; gives what they are sent back with."""
        address = self.services.grants.begin("leads", WHO)
        return query(httpx.post(address.partition("?")[0], data=query(address)).headers["location"])

    def agree(self, by: str = WHO) -> str:
        came = self.came_back()
        return self.services.grants.end(came["state"], came["code"], by)

    def hand_over(self) -> tables.Run:
        step = {"service": "leads", "path": "/leads", "body": '{"email": "a@a.example"}', "unasked": True, "knows_key": True}
        start = {"id": "item", "kind": "call", "settings": {}}
        steps = [{"id": "act", "kind": "act_at_service", "settings": step, "on_failure": {"retries": 0}}]
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Out", "start": start, "steps": steps})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        return self.until(run, "done", "failed")

    @property
    def held(self) -> dict[str, Any]:
        return self.town.state.granted

    def test_as_a_program_a_token_is_asked_for_when_it_is_needed_and_kept(self) -> None:
        self.connection("client_credentials")
        self.assertEqual([self.hand_over().state for _ in range(2)], ["done", "done"])
        self.assertEqual(len(self.held["access"]), 1)
        self.reopen()
        self.assertEqual(self.hand_over().state, "done")
        self.assertEqual(len(self.held["access"]), 1, "it is kept over a restart")
        self.assertEqual(len(self.town.state.leads), 3)

    def test_as_a_person_who_agreed_and_made_anew_once_for_all_that_wait(self) -> None:
        self.connection("authorization_code")
        self.assertIn("Nobody has agreed to this yet", self.hand_over().message)
        self.assertEqual(self.agree(), "leads")
        self.assertEqual(self.hand_over().state, "done")
        self.services.clock = lambda: time.time() + 3600
        got: list[str] = []
        asking = [threading.Thread(target=lambda: got.append(self.services.grants.token("leads"))) for _ in range(8)]
        for thread in asking:
            thread.start()
        for thread in asking:
            thread.join()
        held = len(self.held["access"]), len(self.held["refresh"])
        self.assertEqual((len(got), len(set(got)), *held), (8, 1, 2, 1), "refresh tokens are good once")

    def test_what_was_withdrawn_is_told_on_the_run_and_the_connection(self) -> None:
        self.connection("authorization_code")
        self.agree()
        self.services.grants.forget("leads")
        self.fault("oauth", "withdrawn", 1)
        self.assertIn("is not granted any more", self.hand_over().message)
        with self.services.store.read() as session:
            record = session.get_one(tables.Connection, "leads")
        self.assertFalse(record.test_ok)
        self.assertIn("Connect again", record.test_says)
        self.assertIn("Nobody has agreed", self.hand_over().message)
        self.agree()
        self.assertEqual(self.hand_over().state, "done")

    def test_a_token_that_is_not_accepted_before_its_time_is_made_anew(self) -> None:
        self.connection("authorization_code")
        self.agree()
        self.held["access"].clear()
        self.assertIn("does not accept the key", self.hand_over().message)
        self.assertEqual(self.hand_over().state, "done")

    def test_nobody_else_ends_an_agreement_and_none_is_ended_twice(self) -> None:
        self.connection("authorization_code")
        with self.assertRaisesRegex(Misconfigured, "not begun here"):
            self.agree("somebody@else.example")
        came = self.came_back()
        self.services.grants.end(came["state"], came["code"], WHO)
        with self.assertRaisesRegex(Misconfigured, "not begun here"):
            self.services.grants.end(came["state"], came["code"], WHO)

    def test_a_code_without_its_verifier_is_worth_nothing(self) -> None:
        self.connection("authorization_code")
        app = oauth.App("hedge-lane", "lane-secret", f"{self.town.url}/oauth/token")
        with self.assertRaisesRegex(oauth.Withdrawn, "not good"):
            oauth.by_code(self.services.web, app, self.came_back()["code"], self.services.grants.redirect, oauth.verifier())

    def test_what_is_set_wrong_or_down_has_its_words(self) -> None:
        self.connection("client_credentials", client_secret="wrong")
        self.assertIn("secret is not accepted", self.hand_over().message)
        self.connection("client_credentials")
        self.fault("oauth", "down", 1)
        with self.assertRaisesRegex(OutsideError, "The place that gives tokens") as met:
            self.services.grants.token("leads")
        self.assertTrue(met.exception.retryable)
