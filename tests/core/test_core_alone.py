"""The core stands alone: it can be used with nothing of the web, the disk or the network loaded."""

from __future__ import annotations

import subprocess
import sys
import unittest

LOADED = """
import sys
import ulmus.core.flow, ulmus.core.slots, ulmus.core.workflow, ulmus.core.drafting, ulmus.core.diff, ulmus.core.cost
print(*[m for m in ("flask", "sqlalchemy", "httpx", "socketserver", "waitress", "lxml") if m in sys.modules])
"""


class Alone(unittest.TestCase):
    def test_nothing_of_the_outside_is_loaded(self) -> None:
        told = subprocess.run([sys.executable, "-c", LOADED], capture_output=True, text=True, check=True)
        self.assertEqual(told.stdout.strip(), "")
