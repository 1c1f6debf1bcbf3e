"""Runs all tests and ends with one line: how many passed and failed. ``python -m tests.run [name …]`` runs some."""

from __future__ import annotations

import logging
import sys
import unittest
from pathlib import Path


def main() -> int:
    """Run; the exit status is 0 where all passed and there were some."""
    logging.disable(logging.CRITICAL)
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(sys.argv[1:]) if sys.argv[1:] else loader.discover("tests", top_level_dir=".")
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    line = f"{result.testsRun - failed - len(result.skipped)} passed, {failed} failed"
    Path(".stamps").mkdir(exist_ok=True)
    Path(".stamps/result").write_text(line + "\n", "utf-8")
    print(line, flush=True)
    return 0 if result.testsRun and not failed else 1


if __name__ == "__main__":
    raise SystemExit(main())
