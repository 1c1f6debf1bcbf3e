"""Runs all tests and ends with one line: how many passed and failed. ``python -m tests.run [name …]`` runs some.

Those that drive a browser mostly wait for it; all others run in a process of their own beside them.
"""

from __future__ import annotations

import logging
import os
import re
import subprocess
import sys
import time
import unittest
from collections.abc import Iterator
from pathlib import Path

SLOWEST = 12
IN_A_BROWSER = "tests.browser"


class Timed(unittest.TextTestResult):
    """Keeps how long each test took."""

    took: list[tuple[float, str]] = []

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.took.append((time.monotonic() - self.began, unittest.TestCase.id(test)))


def main() -> int:
    """Run; the exit status is 0 where all passed and there were some."""
    logging.disable(logging.CRITICAL)
    loader = unittest.TestLoader()
    beside = None
    if sys.argv[1:] == ["beside"]:
        os.nice(5)
        suite = unittest.TestSuite(t for t in every(loader) if not t.id().startswith(IN_A_BROWSER))
    elif sys.argv[1:]:
        suite = loader.loadTestsFromNames(sys.argv[1:])
    else:
        suite = unittest.TestSuite(t for t in every(loader) if t.id().startswith(IN_A_BROWSER))
        beside = subprocess.Popen(
            [sys.executable, "-m", "tests.run", "beside"], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
    result = unittest.TextTestRunner(verbosity=1, resultclass=Timed).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    if beside is not None:
        told = beside.communicate()[0]
        print(told)
        found = re.findall(r"(\d+) passed, (\d+) failed", told)
        passed += int(found[-1][0]) if found else 0
        failed += int(found[-1][1]) if found else 1
    if beside is not None or sys.argv[1:] == ["beside"]:
        print("The slowest:", *(f"  {took:5.1f} s  {name}" for took, name in sorted(Timed.took)[: -SLOWEST - 1 : -1]), sep="\n")
    line = f"{passed} passed, {failed} failed"
    if sys.argv[1:] != ["beside"]:
        Path(".stamps").mkdir(exist_ok=True)
        Path(".stamps/result").write_text(line + "\n", "utf-8")
    print(line, flush=True)
    return 0 if passed and not failed else 1


def every(loader: unittest.TestLoader) -> Iterator[unittest.TestCase]:
    """All tests, one by one; those of a class stay together."""

    def inside(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
        for test in suite:
            if isinstance(test, unittest.TestSuite):
                yield from inside(test)
            else:
                yield test

    return inside(loader.discover("tests", top_level_dir="."))


if __name__ == "__main__":
    raise SystemExit(main())
