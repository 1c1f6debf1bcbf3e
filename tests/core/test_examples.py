"""The examples in public docstrings give what they say."""

from __future__ import annotations

import doctest
import unittest
from importlib import import_module

MODULES = (
    "diff",
    "flow.address",
    "pieces.lengths",
    "pieces.parting",
    "recurrence",
    "slots.evaluate",
    "slots.rename",
    "slots.render",
    "values",
)


class Examples(unittest.TestCase):
    def test_each_gives_what_it_says(self) -> None:
        for module in MODULES:
            with self.subTest(module):
                told = doctest.testmod(import_module(f"ulmus.core.{module}"))
                self.assertEqual(told.failed, 0)
                self.assertGreater(told.attempted, 0, "it has one")
