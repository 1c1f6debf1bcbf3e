"""Kinds of other distributions: found by their entry points; what cannot be used is left out, told, and stops nothing."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any
from unittest import mock

from ulmus.steps import connection_kinds, kinds, registry


class Entry:
    """An entry point that gives what it is told to."""

    dist = None

    def __init__(self, name: str, gives: Any) -> None:
        self.name, self.gives = name, gives

    def load(self) -> Any:
        if isinstance(self.gives, BaseException):
            raise self.gives
        return self.gives


class Brought(unittest.TestCase):
    def setUp(self) -> None:
        self.addCleanup(registry.reload)
        self.own = len(kinds())

    def with_entries(self, group: str, *entries: Any) -> None:
        def brought(*, group: str) -> list[Any]:
            return list(entries) if group == wanted else []

        registry.reload()
        wanted = group
        patch = mock.patch.object(registry, "entry_points", brought)
        patch.start()
        self.addCleanup(patch.stop)

    def test_a_kind_of_step_and_one_of_connection_are_there(self) -> None:
        self.with_entries(registry.STEPS, Entry("new", replace(kinds()["search"], name="search_more")))
        self.assertIn("search_more", kinds())
        self.assertEqual(registry.troubles(), ())
        self.with_entries(registry.CONNECTIONS, Entry("new", replace(connection_kinds()["mail"], name="pigeons")))
        self.assertIn("pigeons", connection_kinds())

    def test_what_cannot_be_used_is_left_out_and_told(self) -> None:
        search = kinds()["search"]
        cases = {
            "a_taken_name": (search, "the name “search” is taken"),
            "an_older_contract": (replace(search, name="old", contract=0), "written for version 0"),
            "a_connection_among_steps": (connection_kinds()["mail"], "it is no KindSpec"),
            "nothing": (None, "it is no KindSpec"),
            "one_that_fails": (RuntimeError("not today"), "could not be loaded (RuntimeError: not today)"),
            "one_that_is_not_there": (ImportError("no module"), "could not be loaded"),
        }
        self.with_entries(registry.STEPS, *(Entry(name, gives) for name, (gives, _) in cases.items()))
        with mock.patch.object(registry.log, "warning") as logged:
            self.assertEqual(len(kinds()), self.own, "and all of the house's own are there")
        told = {one.name: one.why for one in registry.troubles()}
        self.assertEqual(set(told), set(cases))
        self.assertEqual(logged.call_count, len(cases))
        for name, (_, words) in cases.items():
            self.assertIn(words, told[name], name)

    def test_of_two_that_bring_one_name_the_first_stays(self) -> None:
        one = replace(kinds()["search"], name="twice", title="First")
        self.with_entries(registry.STEPS, Entry("b", replace(one, title="Second")), Entry("a", one))
        self.assertEqual(kinds()["twice"].title, "First")
        self.assertEqual([left.name for left in registry.troubles()], ["b"])
