"""``make crashtest``: the crash trial at length. Seeded and bounded; prints what was killed, and what came of it."""

from __future__ import annotations

import logging
import sys
import unittest

from tests.runtime import crash


class LongTrial(crash.CrashTrial):
    """200 kills while 100 runs go through, some at once after the start, some after a while."""

    runs, kills, longest = 100, 200, 0.9

    def kill(self) -> None:
        done = self.ended() if self.worker is not None else 0
        super().kill()
        self.count = getattr(self, "count", 0) + 1
        if self.count % 20 == 0:
            print(f"kill {self.count}: {done} of {self.runs} runs done", flush=True)


def main() -> None:
    """Run it; the exit status says whether every promise was kept."""
    logging.disable(logging.CRITICAL)
    suite = unittest.defaultTestLoader.loadTestsFromTestCase(LongTrial)
    result = unittest.TextTestRunner(verbosity=2).run(suite)
    sys.exit(0 if result.wasSuccessful() else 1)


if __name__ == "__main__":
    main()
