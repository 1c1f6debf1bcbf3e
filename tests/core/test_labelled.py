"""The labelled drafts: how rightly rules and evidence are answered may not fall."""

from __future__ import annotations

import unittest
from collections import Counter

from scripts import fit, measure
from ulmus.core.evidence.judging import judge


class Labelled(unittest.TestCase):
    def test_rules_are_answered_rightly(self) -> None:
        told = measure.rules()
        for name, found in told.items():
            with self.subTest(rule=name):
                self.assertEqual(found["right"], found.total(), found)

    def test_evidence_finds_what_is_false_and_leaves_what_is_true(self) -> None:
        by_kind, by_tongue = measure.claims()
        whole = sum(by_tongue.values(), Counter[str]())
        self.assertGreaterEqual(whole["found"] / whole["flagged"], 0.9)
        self.assertGreaterEqual(whole["found"] / whole["false"], 0.75)
        self.assertLessEqual(whole["alarm"] / (whole["of"] - whole["false"]), 0.08)
        calls = [found for kind, found in by_kind.items() if kind[0] in "QC"]
        self.assertEqual(sum(found["flagged"] for found in calls), 0)

    def test_also_on_sources_it_was_not_fitted_to(self) -> None:
        everything = fit.cases()
        flags: list[tuple[bool, bool]] = []
        for group in sorted({case.group for case in everything}):
            model = fit.fit([case for case in everything if case.group != group])
            flags += [(judge(case.seen, model).flagged, bool(case.false)) for case in everything if case.group == group]
        found, flagged, false = sum(f and y for f, y in flags), sum(f for f, _ in flags), sum(y for _, y in flags)
        self.assertGreaterEqual(found / flagged, 0.88)
        self.assertGreaterEqual(found / false, 0.68)


if __name__ == "__main__":
    unittest.main()
