"""Workflows offered to assistants outside over the Model Context Protocol: by our own client, by the bare protocol, and by strangers."""

from __future__ import annotations

import threading
from typing import Any
from unittest import mock

from werkzeug.serving import WSGIRequestHandler, make_server

from tests.api.visitor import WithApi
from tests.runtime.house import WHO
from ulmus.api.public import assistants
from ulmus.protocols import toolserver
from ulmus.protocols.errors import OutsideError, Refused
from ulmus.protocols.net import Web
from ulmus.runtime import workflows
from ulmus.store import tables

FIELDS = [
    {"name": "topic", "label": "About what", "required": True, "help": "In a few words."},
    {"name": "tone", "label": "How it sounds", "type": "choice", "choices": ["dry", "warm"]},
    {"name": "count", "label": "How many", "type": "number"},
]


class Quiet(WSGIRequestHandler):
    def log_request(self, *_: object) -> None:
        """Say nothing."""


class Offered(WithApi):
    def setUp(self) -> None:
        super().setUp()
        with self.services.store.write() as session:
            session.add(tables.Brand(key="other", name="Other", facts={}))

    def offer(self, name: str = "Ideas for posts", brand: str | None = "marrowbank", **more: Any) -> int:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": name,
            "brand": brand,
            "purpose": "Finds ideas for posts on a topic.",
            "offered": True,
            "start": {"id": "ask", "kind": "by_hand", "settings": {"fields": FIELDS}},
            "steps": [
                {
                    "id": "idea",
                    "kind": "draft",
                    "settings": {"model": "model", "prompt": "One idea.\n<<ask.topic>> grows well in <<ask.tone>> soil."},
                }
            ],
        } | more
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def key(self, brand: str = "") -> str:
        return str(self.owner.post("/assistants/keys", {"name": "Hedge", "brand": brand}, 201)["token"])

    def ask(self, token: str, method: str, params: dict[str, Any] | None = None, status: int = 200) -> Any:
        headers = {
            "Accept": "application/json, text/event-stream",
            "MCP-Protocol-Version": "2025-06-18",
            **({"Authorization": f"Bearer {token}"} if token else {}),
        }
        body = {"jsonrpc": "2.0", "id": 1, "method": method, "params": params or {}}
        answer = self.app.test_client().post("/assistants", json=body, headers=headers)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json

    def names(self, token: str) -> list[str]:
        return [one["name"] for one in self.ask(token, "tools/list")["result"]["tools"]]

    def use(self, token: str, tool: str, **given: Any) -> dict[str, Any]:
        return dict(self.ask(token, "tools/call", {"name": tool, "arguments": given})["result"])

    def test_what_is_offered_is_a_tool_with_its_fields_and_gives_its_result(self) -> None:
        id_ = self.offer()
        token = self.key()
        started = self.ask(
            token, "initialize", {"protocolVersion": "2025-06-18", "capabilities": {}, "clientInfo": {"name": "x", "version": "1"}}
        )
        self.assertEqual(started["result"]["serverInfo"]["name"], "Ulmus")
        (ideas, result) = self.ask(token, "tools/list")["result"]["tools"]
        self.assertEqual((ideas["name"], ideas["description"]), ("ideas_for_posts", "Finds ideas for posts on a topic."))
        parts = ideas["inputSchema"]["properties"]
        self.assertEqual(
            (ideas["inputSchema"]["required"], parts["tone"]["enum"], parts["count"]["type"]),
            (["topic"], ["dry", "warm"], "number"),
        )
        told = self.use(token, "ideas_for_posts", topic="The brown runner bean", tone="dry")
        self.assertFalse(told.get("isError"), told)
        values = told["structuredContent"]
        self.assertEqual(values["state"], "done")
        wrote = self.engine.live(values["run"]).state.values["idea"]["text"]
        self.assertEqual((told["content"][0]["text"], bool(wrote)), (wrote, True))
        self.assertEqual(self.run_of(values["run"]).workflow_id, id_)
        again = self.use(token, result["name"], run=values["run"])
        self.assertEqual(again["structuredContent"]["text"], values["text"])
        self.assertTrue(self.use(self.key(), result["name"], run=values["run"])["isError"], "another of the same name began none")
        used = min(self.owner.get("/assistants")["keys"], key=lambda one: one["made_at"])
        self.assertEqual((used["name"], used["token"], used["used_at"] is not None), ("Hedge", "", True))

    def test_what_waits_for_a_person_is_told_and_asked_for_later(self) -> None:
        ask = {"id": "editor", "kind": "ask", "settings": {"draft": "idea", "who": WHO}}
        draft = {"id": "idea", "kind": "draft", "settings": {"model": "model", "prompt": "One idea.\n<<ask.topic>> grows well."}}
        self.offer(steps=[draft, ask])
        token = self.key()
        with mock.patch.object(assistants, "WAIT", 2.0):
            told = self.use(token, "ideas_for_posts", topic="The brown runner bean")
        self.assertIn("waits for a person", told["content"][0]["text"])
        run = told["structuredContent"]["run"]
        self.answer(run)
        self.until(run, "done")
        self.assertEqual(self.use(token, assistants.RESULT, run=run)["structuredContent"]["state"], "done")

    def test_fields_that_do_not_fit_are_told_and_nothing_begins(self) -> None:
        id_ = self.offer()
        token = self.key()
        for given in (
            {},
            {"topic": " "},
            {"topic": "x", "tone": "loud"},
            {"topic": "x", "count": "many"},
            {"topic": "x", "who": "me"},
        ):
            with self.subTest(given=given):
                answer = self.ask(token, "tools/call", {"name": "ideas_for_posts", "arguments": given})
                told = answer.get("result", {})
                self.assertTrue(told.get("isError") or "error" in answer, answer)
        with self.services.store.read() as session:
            self.assertEqual(session.query(tables.Run).filter_by(workflow_id=id_).count(), 0)

    def test_only_who_has_a_key_and_only_what_is_offered(self) -> None:
        id_ = self.offer()
        self.offer("Not for them", offered=False)
        paused = self.offer("Not now")
        workflows.pause(self.engine, paused, WHO)
        self.offer(
            "By a feed",
            start={"id": "ask", "kind": "schedule", "settings": {}},
            steps=[{"id": "s", "kind": "set_values", "settings": {"values": {"a": "b"}}}],
        )
        for token in ("", "x" * 43, "  "):
            self.ask(token, "tools/list", status=401)
        token = self.key()
        self.assertEqual(self.names(token), ["ideas_for_posts", assistants.RESULT])
        for tool in ("not_for_them", "not_now", "by_a_feed", "nothing"):
            self.assertTrue(self.use(token, tool, topic="x")["isError"], tool)
        run = self.engine.runs.push(id_, {"topic": "mine", "title": "By me"})
        assert run is not None
        for number in (run, 999, 0, -1, 2**70, "x", None, 1.5):
            with self.subTest(number=number):
                self.assertTrue(self.use(token, assistants.RESULT, run=number)["isError"])
        workflows.pause(self.engine, id_, WHO)
        self.assertEqual(self.names(token), [])
        self.visitor("maker").get("/assistants", 403)
        mine = self.owner.get("/assistants")["keys"][0]["id"]
        self.owner.delete(f"/assistants/keys/{mine}")
        self.ask(token, "tools/list", status=401)
        self.owner.delete(f"/assistants/keys/{mine}", 404)

    def test_a_key_for_one_client_sees_nothing_of_another(self) -> None:
        self.offer("Ours")
        self.offer("Theirs", "other")
        self.assertEqual(self.names(self.key()), ["ours", "theirs", assistants.RESULT])
        token = self.key("other")
        self.assertEqual(self.names(token), ["theirs", assistants.RESULT])
        self.assertTrue(self.use(token, "ours", topic="x")["isError"])
        self.owner.post("/assistants/keys", {"name": "x", "brand": "nobody"}, 422)

    def test_two_of_one_name_are_two_tools(self) -> None:
        self.offer("Ideas!")
        second = self.offer("ideas?")
        self.offer("…")
        self.assertEqual(self.names(self.key()), ["ideas", f"ideas_{second}", "workflow", assistants.RESULT])

    def test_what_is_no_call_of_the_protocol_is_no_fault_of_ours(self) -> None:
        self.offer()
        token = self.key()
        head = {"Authorization": f"Bearer {token}", "Accept": "application/json, text/event-stream"}
        client = self.app.test_client()
        for data in (
            b"",
            b"{",
            b"[]",
            b"null",
            b'{"jsonrpc": "2.0"}',
            b'{"jsonrpc": "2.0", "id": 1, "method": "nothing"}',
            b"\xff",
            b"[" * 5000,
        ):
            with self.subTest(data=data[:40]):
                answer = client.post("/assistants", data=data, headers={**head, "Content-Type": "application/json"})
                self.assertLess(answer.status_code, 500, answer.text)
        self.assertEqual(client.get("/assistants", headers=head).status_code, 405)
        self.assertEqual(client.post("/assistants", data=b"{" + b" " * 2_000_000, headers=head).status_code, 413)
        with mock.patch.object(assistants, "A_MINUTE", 3):
            for _ in range(5):
                last = client.post("/assistants", data=b"{}", headers=head).status_code
        self.assertEqual(last, 429)
        with mock.patch.object(assistants, "_library", return_value=None):
            self.assertIn("pip install", self.ask(token, "tools/list", status=501)["message"])

    def test_our_own_client_speaks_with_it(self) -> None:
        self.offer()
        server = make_server("127.0.0.1", 0, self.app, threaded=True, request_handler=Quiet)
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 5)
        self.addCleanup(server.shutdown)
        web = Web({f"127.0.0.1:{server.port}"})
        self.addCleanup(web.close)
        url, head = f"http://127.0.0.1:{server.port}/assistants", {"Authorization": f"Bearer {self.key()}"}
        tool = toolserver.look(web, url, head)[0]
        self.assertEqual((tool.name, [one.name for one in tool.wanted]), ("ideas_for_posts", ["topic", "tone", "count"]))
        used = toolserver.use(web, url, head, tool.name, toolserver.fitting(tool, {"topic": "The brown runner bean", "count": "2"}))
        self.assertEqual((used.values["state"], used.text == used.values["text"] != ""), ("done", True))
        with self.assertRaises(Refused):
            toolserver.use(web, url, head, tool.name, {})
        with self.assertRaises(OutsideError):
            toolserver.look(web, url, {})
