"""Tools from elsewhere: workflows that an assignment runs by name and fields, and tool servers (Model Context Protocol)."""

from __future__ import annotations

import contextlib
import io
import threading
import time
import unittest
from collections.abc import Iterator
from typing import Any
from unittest import mock

import uvicorn
from mcp.server import MCPServer

from tests.browser.place import free_port
from tests.runtime.house import WHO, WithHouse
from ulmus.core import flow
from ulmus.core.workflow import Workflow, check
from ulmus.protocols import toolserver
from ulmus.protocols.errors import BadAnswer, Misconfigured, NotFound, OutsideError, Refused, Unreachable
from ulmus.protocols.net import Web
from ulmus.runtime import execution, workflows
from ulmus.runtime.services import world
from ulmus.runtime.workspace import workspace
from ulmus.steps import kinds
from ulmus.steps.api import Context
from ulmus.store import tables


class Shop:
    """A tool server as the protocol's library makes it: it keeps what it was asked to do, and can be told to misbehave."""

    def __init__(self, stateless: bool = True) -> None:
        self.done: list[dict[str, Any]] = []
        self.mode = ""
        self.key = ""
        server = MCPServer("Shop", log_level="CRITICAL")

        @server.tool(description="Reserves a parcel of seed at the shop, by its number.")
        def reserve_parcel(number: int, gift: bool = False, words: str = "") -> str:
            self.done.append({"number": number, "gift": gift, "words": words})
            if self.mode == "slow":
                time.sleep(3)
            if self.mode == "refuse":
                raise ValueError("That parcel is gone.")
            return f"Parcel {number} is reserved{' as a gift' if gift else ''}."

        @server.tool()
        def stock() -> dict[str, Any]:
            return {"beans": 40, "peas": 12}

        app = server.streamable_http_app(json_response=False, stateless_http=stateless, host="127.0.0.1")
        self.port = free_port()

        async def guarded(scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] == "http":
                headers = dict(scope["headers"])
                if self.key and headers.get(b"authorization", b"").decode() != f"Bearer {self.key}":
                    await send({"type": "http.response.start", "status": 401, "headers": []})
                    await send({"type": "http.response.body", "body": b"no"})
                    return
                if self.mode == "garbled":
                    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"application/json")]})
                    await send({"type": "http.response.body", "body": b'{"jsonrpc": "2.0", "id'})
                    return
            await app(scope, receive, send)

        self.server = uvicorn.Server(uvicorn.Config(guarded, host="127.0.0.1", port=self.port, log_level="error", lifespan="on"))
        self.thread = threading.Thread(target=self.server.run, daemon=True)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/mcp"

    def __enter__(self) -> Shop:
        self.thread.start()
        while not self.server.started:
            time.sleep(0.02)
        return self

    def __exit__(self, *_: object) -> None:
        self.server.should_exit = True
        self.thread.join(5)


@contextlib.contextmanager
def shop(**more: Any) -> Iterator[tuple[Shop, Web]]:
    with contextlib.redirect_stderr(io.StringIO()), Shop(**more) as made:
        web = Web({f"127.0.0.1:{made.port}"})
        try:
            yield made, web
        finally:
            web.close()


class Talking(unittest.TestCase):
    def test_what_a_server_offers_is_read_and_used_in_both_ways_it_may_keep_a_line(self) -> None:
        for stateless in (True, False):
            with self.subTest(stateless=stateless), shop(stateless=stateless) as (made, web):
                reserve, stock = toolserver.look(web, made.url, {})
                self.assertEqual(reserve.about, "Reserves a parcel of seed at the shop, by its number.")
                told = [(one.name, one.type, one.needed) for one in reserve.wanted]
                self.assertEqual(told, [("number", "integer", True), ("gift", "boolean", False), ("words", "string", False)])
                given = toolserver.fitting(reserve, {"number": "7", "gift": "True", "words": ""})
                used = toolserver.use(web, made.url, {}, "reserve_parcel", given)
                self.assertEqual(
                    (used.text, made.done), ("Parcel 7 is reserved as a gift.", [{"number": 7, "gift": True, "words": ""}])
                )
                self.assertEqual(toolserver.use(web, made.url, {}, stock.name, {}).values, {"beans": 40, "peas": 12})

    def test_what_does_not_fit_is_said_before_anything_is_sent(self) -> None:
        tool = toolserver.Offered(
            "t", "", (toolserver.Wanted("n", "", "integer", True), toolserver.Wanted("l", "", "array", False))
        )
        for given in ({}, {"n": ""}, {"n": "seven"}, {"n": "true"}, {"n": "1.5"}, {"n": 1, "x": 2}, {"n": 1, "l": "no list"}):
            with self.subTest(given=given), self.assertRaises(Misconfigured):
                toolserver.fitting(tool, given)
        self.assertEqual(toolserver.fitting(tool, {"n": " 7 ", "l": "[1]"}), {"n": 7, "l": [1]})

    def test_a_server_that_misbehaves_is_told_of_in_words(self) -> None:
        with shop() as (made, web):
            made.key = "k"
            with self.assertRaises(OutsideError):
                toolserver.look(web, made.url, {})
            self.assertEqual(len(toolserver.look(web, made.url, {"Authorization": "Bearer k"})), 2)
            made.key, made.mode = "", "garbled"
            with self.assertRaises((BadAnswer, Unreachable)):
                toolserver.look(web, made.url, {})
            made.mode = "refuse"
            with self.assertRaises(Refused) as caught:
                toolserver.use(web, made.url, {}, "reserve_parcel", {"number": 1})
            self.assertFalse(caught.exception.ambiguous, "it said no")
            made.mode = "slow"
            with self.assertRaises(OutsideError) as lost:
                toolserver.use(web, made.url, {}, "reserve_parcel", {"number": 2}, seconds=1)
            self.assertTrue(lost.exception.ambiguous, "it may have been done")
            made.mode = ""
            with self.assertRaises((NotFound, BadAnswer)):
                toolserver.look(web, made.url.replace("/mcp", "/elsewhere"), {})
        with self.assertRaises(Refused):
            toolserver.look(Web(), made.url, {})  # a private address nobody allowed
        with self.assertRaises(OutsideError) as gone:
            toolserver.use(Web({f"127.0.0.1:{made.port}"}), made.url, {}, "reserve_parcel", {"number": 3})
        self.assertFalse(gone.exception.ambiguous, "it never was asked")


def assistant(goal: str, *tools: dict[str, Any], **settings: Any) -> dict[str, Any]:
    given = {"goal": goal, "model": "model", "who": WHO, "rounds": 10, **settings}
    return {
        "format": "ulmus-workflow",
        "version": 1,
        "name": "Assistant",
        "start": {"id": "start", "kind": "by_hand"},
        "steps": [{"id": "assistant", "kind": "assignment", "settings": given, "steps": list(tools)}],
    }


class WithTools(WithHouse):
    def begun(self, document: dict[str, Any]) -> int:
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        run = self.engine.runs.push(id_, {"title": "By hand"})
        assert run is not None
        return run

    def told(self, document: dict[str, Any]) -> list[Any]:
        """The tools of the page's assignment, as its model is told of them."""
        context = Context(self.services.web, self.services.connect, {}, workspace=workspace(self.services))
        return list(execution.tools_of(Workflow.model_validate(document).steps[0], context))


class AWorkflow(WithTools):
    def called(self, **more: Any) -> int:
        fields = [{"name": "topic", "label": "About what", "required": True}, {"name": "tone", "label": "How it sounds"}]
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Ideas for posts",
            "purpose": "Finds ideas for posts on a topic.",
            "start": {"id": "ask", "kind": "by_hand", "settings": {"fields": fields}},
            "steps": [{"id": "idea", "kind": "set_values", "settings": {"values": {"text": "Sow <<ask.topic>> now."}}}],
        } | more
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        return id_

    def test_it_is_known_by_its_name_purpose_and_fields(self) -> None:
        id_ = self.called()
        line = {"id": "ideas", "kind": "run_workflow", "settings": {"workflow": str(id_)}}
        (tool,) = self.told(assistant("x", line))
        self.assertEqual(tool.about, "Runs the workflow “Ideas for posts”. Finds ideas for posts on a topic.")
        self.assertEqual((tool.given, tool.besides), ((("topic", "About what"),), (("tone", "How it sounds"),)))
        line["settings"]["item"] = {"topic": "<<given.topic>>", "tone": "dry"}  # type: ignore[index]
        (tool,) = self.told(assistant("x", line))
        self.assertEqual((tool.given, tool.besides), ((("topic", "topic"),), ()), "what the line says itself is not asked for")

    def test_it_runs_with_what_the_model_gives_once_a_person_let_it(self) -> None:
        id_ = self.called()
        line = {"id": "ideas", "kind": "run_workflow", "settings": {"workflow": str(id_)}}
        run = self.begun(assistant("Run the workflow for ideas on posts about beans.", line))
        self.until(run, "asking")
        self.assertIn("topic:", self.question(run).text)
        self.answer(run)
        self.until(run, "done")
        with self.services.store.read() as session:
            other = session.query(tables.Run).filter_by(workflow_id=id_).one()
        self.assertEqual((other.state, other.parent_id), ("done", run))
        given = self.engine.live(other.id).state.values["ask"]
        self.assertTrue(given["topic"], given)
        (used,) = (e for e in self.events(run) if isinstance(e, flow.Done) and e.address.endswith("/ideas"))
        self.assertEqual(used.output["run"], other.id)

    def events(self, run: int) -> list[flow.Event]:
        return list(self.house_events(run))

    def house_events(self, run: int) -> Iterator[flow.Event]:
        with self.services.store.read() as session:
            for row in session.query(tables.JournalEntry).filter_by(run_id=run).order_by(tables.JournalEntry.seq):
                yield flow.load_event(row.event)

    def test_a_purpose_is_part_of_the_page_and_its_file(self) -> None:
        id_ = self.called(purpose="P" * 500)
        self.assertEqual(self.document(id_).purpose, "P" * 500)
        with self.assertRaises(ValueError):
            Workflow.model_validate(self.document(id_).model_dump() | {"purpose": "P" * 501})


class AServer(WithTools):
    def setUp(self) -> None:
        super().setUp()
        self.stack = contextlib.ExitStack()
        self.addCleanup(self.stack.close)
        self.shop, web = self.stack.enter_context(shop())
        web.close()
        self.services.web.allowed |= {f"127.0.0.1:{self.shop.port}"}
        sealed = self.services.sealer.seal({"key": "k"})
        with self.services.store.write() as session:
            session.add(
                tables.Connection(key="shop", kind="tool_server", name="The shop", settings={"url": self.shop.url}, sealed=sealed)
            )
        self.shop.key = "k"

    def line(self, **settings: Any) -> dict[str, Any]:
        given = {"server": "shop", "tool": "reserve_parcel", **settings}
        return {"id": "reserve", "kind": "use_tool", "settings": given, "on_failure": {"retries": 0}}

    def test_an_assignment_is_told_what_the_server_says_and_a_person_is_asked_first(self) -> None:
        (tool,) = self.told(assistant("x", self.line()))
        self.assertEqual(tool.about, "Reserves a parcel of seed at the shop, by its number.")
        self.assertEqual((tool.given, [name for name, _ in tool.besides]), ((("number", "Number (integer)"),), ["gift", "words"]))
        run = self.begun(assistant("Reserve parcel 7 of seed at the shop.", self.line()))
        self.until(run, "asking")
        self.assertEqual(self.shop.done, [], "nothing is done before a person said yes")
        self.assertIn("reserve_parcel", self.question(run).text)
        self.answer(run)
        self.until(run, "done")
        self.assertEqual([one["number"] for one in self.shop.done], [7])
        detail = str(self.engine.live(run).state.values["assistant"])
        self.assertIn("used", detail)

    def test_no_is_no(self) -> None:
        run = self.begun(assistant("Reserve parcel 7 of seed at the shop.", self.line()))
        self.until(run, "asking")
        self.answer(run, "back", note="Not this one.")
        self.until(run, "done", "asking")
        self.assertEqual(self.shop.done, [])

    def test_a_line_of_its_own_gives_what_it_says_and_its_answer_is_a_value(self) -> None:
        start = {"id": "topic", "kind": "by_hand"}
        words = {"id": "say", "kind": "set_values", "settings": {"values": {"text": "<<reserve.text>>"}}}
        line = self.line(give={"number": "12", "words": "for Ada"}, unasked=True)
        document = {"format": "ulmus-workflow", "version": 1, "name": "R", "start": start, "steps": [line, words]}
        run = self.begun(document)
        self.until(run, "done")
        self.assertEqual(self.shop.done, [{"number": 12, "gift": False, "words": "for Ada"}])
        self.assertEqual(self.engine.live(run).state.values["say"]["text"], "Parcel 12 is reserved.")

    def test_after_a_lost_answer_a_person_says_whether_it_happened(self) -> None:
        start = {"id": "topic", "kind": "by_hand"}
        line = self.line(give={"number": "12"}, unasked=True)
        self.shop.mode = "slow"
        with mock.patch.object(toolserver, "use", lambda *a, _use=toolserver.use: _use(*a, seconds=1)):
            run = self.begun({"format": "ulmus-workflow", "version": 1, "name": "R", "start": start, "steps": [line]})
            self.until(run, "unsure")
        self.assertEqual(len(self.shop.done), 1, "it is not done a second time")

    def test_nothing_goes_before_it_is_complete(self) -> None:
        for settings, place in (({"server": "nobody"}, "server"), ({"tool": ""}, "tool")):
            with self.services.store.read() as session:
                found = check(Workflow.model_validate(assistant("x", self.line(**settings))), kinds(), world(session))
            self.assertIn(place, {p.place[0] for p in found if p.severity == "error" and p.place}, found)
        asked = {"id": "r", "kind": "use_tool", "settings": {"server": "shop", "tool": "stock"}}
        start = {"id": "topic", "kind": "by_hand"}
        bare = {"format": "ulmus-workflow", "version": 1, "name": "R", "start": start, "steps": [asked]}
        with self.services.store.read() as session:
            found = check(Workflow.model_validate(bare), kinds(), world(session))
        self.assertTrue(any(p.severity == "error" for p in found), "an act of its own is approved first")
