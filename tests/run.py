"""Runs all tests and ends with one line: how many passed and failed. ``python -m tests.run [name …]`` runs some.

Those that drive a browser mostly wait for it; all others run in processes beside them, several since many of them wait too. Each takes
class after class from all there are, and in the end browser classes from the end, which the first has not come to: it begins with those
that have most tests, so that none is begun last that takes long.
"""

from __future__ import annotations

import json
import logging
import os
import re
import shutil
import subprocess
import sys
import time
import unittest
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

SLOWEST = 15
BESIDE = 3
"""So many processes carry out what needs no browser."""
IN_A_BROWSER = "tests.browser"
CLAIMS = Path(".stamps/claims")
UNIT = ("tests.core", "tests.steps")


class Timed(unittest.TextTestResult):
    """Keeps how long each test took."""

    took: list[tuple[float, str]] = []
    of_class: Counter[str] = Counter()
    """By class, with what is set up for it."""
    worked: Counter[str] = Counter()
    """Of that, the processor's time of this process."""
    ended, spent = time.monotonic(), time.process_time()

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        name, now = unittest.TestCase.id(test), time.monotonic()
        self.took.append((now - self.began, name))
        of, spent = name.rpartition(".")[0], time.process_time()
        self.of_class[of] += now - self.ended
        self.worked[of] += spent - self.spent
        Timed.ended, Timed.spent = now, spent


def main() -> int:
    """Run; the exit status is 0 where all passed and there were some."""
    logging.disable(logging.CRITICAL)
    loader = unittest.TestLoader()
    wanted = sys.argv[1:]
    beside: list[subprocess.Popen[str]] = []
    if wanted[:1] == ["beside"]:
        os.nice(5)
        helps = wanted[1:] == ["helping"]
        rest = classes(t for t in every(loader) if not t.id().startswith(IN_A_BROWSER))
        inside = in_a_browser(loader)[::-1]
        suite = Shared([*rest, *inside]) if helps else unittest.TestSuite(t for tests in rest for t in tests)
    elif wanted[:1] == ["unit"]:
        # Two processes: this one carries out what the other does not.
        other = wanted[1:] == ["other"]
        suite = unittest.TestSuite(t for n, t in enumerate(t for t in every(loader) if t.id().startswith(UNIT)) if n % 2 == other)
        beside = [] if other else [again("unit", "other")]
    elif wanted:
        suite = loader.loadTestsFromNames(wanted)
    else:
        shutil.rmtree(CLAIMS, ignore_errors=True)
        suite = Shared(in_a_browser(loader))
        beside = [again("beside", "helping") for _ in range(BESIDE)]
    result = unittest.TextTestRunner(verbosity=1, resultclass=Timed).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    for process in beside:
        told = process.communicate()[0]
        print(told)
        found = re.findall(r"(\d+) passed, (\d+) failed", told)
        passed += int(found[-1][0]) if found else 0
        failed += int(found[-1][1]) if found else 1
    if not wanted:
        more, wrong = front_end()
        passed, failed = passed + more, failed + wrong
    if not wanted or wanted[:1] == ["beside"]:
        print("The slowest:", *(f"  {took:5.1f} s  {name}" for took, name in sorted(Timed.took)[: -SLOWEST - 1 : -1]), sep="\n")
        for said, of in (("The slowest classes:", Timed.of_class), ("Those that work most:", Timed.worked)):
            print(said, *(f"  {took:5.1f} s  {name}" for name, took in of.most_common(SLOWEST)), sep="\n")
    line = f"{passed} passed, {failed} failed"
    if wanted[:1] != ["beside"] and wanted[1:] != ["other"]:
        Path(".stamps").mkdir(exist_ok=True)
        Path(".stamps/result").write_text(line + "\n", "utf-8")
    print(line, flush=True)
    return 0 if passed and not failed else 1


class Shared(unittest.TestSuite):
    """Classes that several processes take from: each class is carried out by whoever claims it first."""

    def __init__(self, shared: list[list[unittest.TestCase]]) -> None:
        super().__init__()
        self._shared = shared
        self._cleanup = False  # what is carried out is not known before

    def __iter__(self) -> Iterator[unittest.TestCase]:
        for tests in self._shared:
            if claimed(tests[0]):
                yield from tests


def claimed(test: unittest.TestCase) -> bool:
    """Claim a test's class for this process; gives whether it was free."""
    CLAIMS.mkdir(parents=True, exist_ok=True)
    try:
        (CLAIMS / test.id().rpartition(".")[0]).touch(exist_ok=False)
    except FileExistsError:
        return False
    return True


def classes(tests: Iterator[unittest.TestCase]) -> list[list[unittest.TestCase]]:
    """Tests by class, in their order."""
    found: dict[str, list[unittest.TestCase]] = {}
    for test in tests:
        found.setdefault(test.id().rpartition(".")[0], []).append(test)
    return list(found.values())


def in_a_browser(loader: unittest.TestLoader) -> list[list[unittest.TestCase]]:
    """The classes that drive a browser, those with most tests first."""
    return sorted(classes(t for t in every(loader) if t.id().startswith(IN_A_BROWSER)), key=len, reverse=True)


def again(*words: str) -> subprocess.Popen[str]:
    """This program once more, for other tests, beside this one."""
    return subprocess.Popen(
        [sys.executable, "-m", "tests.run", *words], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )


def front_end() -> tuple[int, int]:
    """The tests of the front end's logic (Vitest): how many passed and failed."""
    done = subprocess.run(
        ["npm", "run", "-s", "test", "--", "--reporter=default", "--reporter=json", "--outputFile=../.stamps/vitest.json"],
        cwd="frontend",
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    try:
        told = json.loads(Path(".stamps/vitest.json").read_text("utf-8"))
    except (OSError, ValueError):
        print(done.stdout)
        return 0, 1
    if told["numFailedTests"] or done.returncode:
        print(done.stdout)
    return int(told["numPassedTests"]), max(int(told["numFailedTests"]), int(done.returncode != 0))


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
