"""What a tool of an assignment may read: sites the maker named, and what a search gave; nothing a model made up."""

from __future__ import annotations

import unittest
from typing import Any

from tests.runtime.house import WHO
from tests.runtime.test_blocks_live import Flowing, step
from ulmus.core import flow
from ulmus.protocols.errors import OutsideError
from ulmus.runtime.reach import Reach
from ulmus.steps.api import Result


class Addresses(unittest.TestCase):
    REACH = Reach(frozenset({"gov.example"}), frozenset({"https://news.example/a?id=1"}))

    def test_named_hosts_and_those_under_them(self) -> None:
        for address in ("https://gov.example/x?q=1", "https://www.gov.example/"):
            self.REACH.check(address)

    def test_what_a_search_gave_and_its_host_without_a_query_of_ones_own(self) -> None:
        self.REACH.check("https://news.example/a?id=1")
        self.REACH.check("https://news.example/about")
        for address in (
            "https://news.example/a?id=2",
            "https://news.example/?secret=all+the+material",
            "https://me@news.example/a",
        ):
            with self.subTest(address), self.assertRaises(OutsideError):
                self.REACH.check(address)

    def test_nothing_else(self) -> None:
        for address in (
            "https://evil.example/",
            "https://evilgov.example/",
            "https://gov.example.evil.example/",
            "no address",
            "",
            "http://127.0.0.1/",
        ):
            with self.subTest(address), self.assertRaisesRegex(OutsideError, "may not read"):
                self.REACH.check(address)


class Tools(Flowing):
    def used(self, *uses: tuple[str, dict[str, Any]], proof: bool = False, **settings: Any) -> list[flow.Event]:
        turns = [*uses, None]
        tools = [
            step("look", "search", service="s", query="<<given.words>>"),
            step("page", "read_page", url="<<given.url>>"),
        ]
        agent = step("agent", "assignment", model="model", goal="g", who=WHO, steps=tools, **settings)
        self.read: list[str] = []

        def does(name: str, context: Any) -> Result:
            if name == "look":
                return Result({"items": [{"title": "T", "link": "https://found.example/a"}], "count": 1, "found": 1, "text": ""})
            if name == "page":
                self.read.append(context.values["given"]["url"])
                return Result({"text": "Read."})
            use = turns[len(context.talk)]
            return Result({"text": "", flow.CALLS: [{"tool": use[0], "given": use[1]}]} if use else {"text": "done"})

        from ulmus.store import tables

        with self.services.store.write() as session:
            search = {"address": f"{self.town.url}/search?q={{words}}"}
            session.merge(tables.Connection(key="s", kind="search", name="Search", settings=search))
        run = self.run_page([agent], {"x": "1"}, does)
        self.until(run, "done")
        with self.services.store.read() as session:
            rows = session.connection().exec_driver_sql("SELECT event FROM journal WHERE run_id = ? ORDER BY seq", (run,))
            return [flow.read_event(text) for (text,) in rows]

    def failures(self, events: list[flow.Event]) -> list[str]:
        return [e.message for e in events if isinstance(e, flow.Failed)]

    def test_an_address_a_model_made_up_is_not_read(self) -> None:
        events = self.used(("page", {"url": "https://evil.example/?all=the+material"}))
        self.assertEqual(self.read, [])
        self.assertIn("may not read", self.failures(events)[0])

    def test_what_a_search_gave_is(self) -> None:
        self.used(
            ("look", {"words": "x"}), ("page", {"url": "https://found.example/a"}), ("page", {"url": "https://found.example/b"})
        )
        self.assertEqual(self.read, ["https://found.example/a", "https://found.example/b"])

    def test_what_the_maker_named_is(self) -> None:
        self.used(("page", {"url": "https://gov.example/x?y=1"}), sites="gov.example\nother.example")
        self.assertEqual(self.read, ["https://gov.example/x?y=1"])
