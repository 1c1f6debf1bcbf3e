"""OAuth 2: as a program and as a person, tokens made anew once however many wait, and what was withdrawn is told."""

from __future__ import annotations

import base64
import threading
import time
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from tests.peers.servers import needs
from tests.protocols.mailserver import SERVER, MailServer, free_port
from tests.runtime.house import WHO, WithHouse
from ulmus.protocols import oauth
from ulmus.protocols.errors import Misconfigured, OutsideError
from ulmus.runtime import workflows
from ulmus.steps import connection_kinds
from ulmus.steps.api import Connection
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


class ByToken(WithHouse):
    """Mail, mailboxes and file stores that let one in by a token."""

    def granted(self, key: str, kind: str, **settings: Any) -> Connection:
        told = {"oauth": "client_credentials", "token_at": f"{self.town.url}/oauth/token", "client_id": "hedge-lane"}
        sealed = self.services.sealer.seal({"client_secret": "lane-secret"})
        with self.services.store.write() as session:
            session.merge(tables.Connection(key=key, kind=kind, name=key, settings={**settings, **told}, sealed=sealed))
        return self.services.connect(key, kind)

    def test_a_file_store(self) -> None:
        store = self.granted("store", "files", url=f"{self.town.url}/files/")
        self.assertIn("folders", connection_kinds()["files"].probe(self.services.web, store))
        self.town.state.granted["access"].clear()
        self.town.state.set_fault("oauth", "withdrawn", None)
        with self.assertRaises(OutsideError):
            connection_kinds()["files"].probe(self.services.web, store)

    def test_a_mail_server(self) -> None:
        town = self.town.state

        class Takes:
            """Signs people in by a token of the town (RFC 7628)."""

            got: list[Any] = []

            async def auth_OAUTHBEARER(self, server: Any, args: list[str]) -> Any:
                told = base64.b64decode(args[1]).decode() if len(args) > 1 else ""
                token = told.partition("auth=Bearer ")[2].rstrip("\x01")
                good = told.startswith("n,a=office,\x01") and token in town.granted["access"]
                return AuthResult(success=good, handled=False, auth_data=b"office")

            async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
                self.got.append(envelope)
                return "250 Taken"

        taker = Takes()
        server = Controller(taker, hostname="127.0.0.1", port=free_port(), auth_required=True, auth_require_tls=False)
        server.start()
        self.addCleanup(server.stop)
        self.reach(server.port)
        settings = {"host": "127.0.0.1", "port": server.port, "starttls": False, "user": "office", "sender": "office@a.example"}
        sender = self.granted("post", "mail", **settings)
        self.assertIn("is ready", connection_kinds()["mail"].probe(self.services.web, sender))
        step = {"server": "post", "to": "a@b.example", "subject": "S", "text": "T"}
        steps = [{"id": "out", "kind": "send_letter", "settings": step, "on_failure": {"retries": 0}}]
        start = {"id": "item", "kind": "call", "settings": {}}
        id_ = self.made({"format": "ulmus-workflow", "version": 1, "name": "Out", "start": start, "steps": steps})
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "x"})
        assert run is not None
        self.assertEqual(self.until(run, "done", "failed").state, "done", self.run_of(run).message)
        self.assertEqual([one.rcpt_tos for one in taker.got], [["a@b.example"]])
        # One that knows passwords only says so.
        plain = self.granted("plain", "mail", **{**settings, "port": self.town.smtp_port})
        with self.assertRaises(Misconfigured) as refused:
            connection_kinds()["mail"].probe(self.services.web, plain)
        self.assertIn("by a token", str(refused.exception))

    @needs(SERVER)
    def test_a_mailbox_on_a_real_server(self) -> None:
        server = MailServer(introspect=f"{self.town.url}/oauth/introspect")
        self.addCleanup(server.stop)
        self.reach(server.port)
        box = self.granted("box", "mailbox", host="127.0.0.1", port=server.port, tls=False, user="office")
        server.deliver("Hello", "Text")
        self.assertIn("can be read", connection_kinds()["mailbox"].probe(self.services.web, box))
        self.town.state.granted["access"].clear()
        with self.assertRaises(OutsideError):
            connection_kinds()["mailbox"].probe(self.services.web, box)
