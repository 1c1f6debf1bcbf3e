"""Short cuts of long trials. Where all tests run, a share of the cases is tried; WHOLE=1 asks for all of them (`make whole`)."""

from __future__ import annotations

import os
import unittest
from collections.abc import Iterable
from typing import TypeVar

from hypothesis import settings

Case = TypeVar("Case")

WHOLE = os.environ.get("WHOLE") == "1"
long = unittest.skipUnless(WHOLE, "left to make whole")
"""A test that is left out where all tests run."""


def examples(count: int) -> settings:
    """How many examples a property is tried on: a fifth where all tests run, and with no deadline of its own."""
    return settings(max_examples=count if WHOLE else max(20, count // 5), deadline=None)


def some(cases: Iterable[Case], one_of: int) -> list[Case]:
    """Every `one_of`-th of the cases, and the last; all of them where the whole is asked for."""
    found = list(cases)
    return found if WHOLE or not found else [*found[:-1:one_of], found[-1]]
