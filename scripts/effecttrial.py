"""``make effecttrial``: the effect trial at length. Seeded and bounded; prints what was in flight, and what came of it."""

from __future__ import annotations

import logging
import sys
import unittest

from tests.runtime import effects


class LongOnAKindList(effects.OnAKindList):
    """200 kills with 70 pieces in flight."""

    kills = 200


class LongOnALateList(effects.OnALateList):
    kills = 40


class LongOfAllKinds(effects.OfAllKinds):
    kills = 20
    many = 150


class LongOfAMailing(effects.OfAMailing):
    """40 kills of one mailing."""

    kills = 40
    many = 2000


def main() -> None:
    """Run them; the exit status says whether every promise was kept."""
    logging.disable(logging.CRITICAL)
    loader = unittest.defaultTestLoader
    suite = unittest.TestSuite(
        loader.loadTestsFromTestCase(case) for case in (LongOnAKindList, LongOnALateList, LongOfAllKinds, LongOfAMailing)
    )
    result = unittest.TextTestRunner(verbosity=2).run(suite)
    sys.exit(0 if result.wasSuccessful() else 1)


if __name__ == "__main__":
    main()
