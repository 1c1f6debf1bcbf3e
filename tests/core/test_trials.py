"""Two versions of a page held against each other: pairs, bounds, tests of prompts."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.drafting.trials import Outcome, Pair, PromptTest, counted, difference, failed_tests, test_faults

GOOD, BAD = Outcome("a"), Outcome("b", broken=("401 of 300 characters",))


class Pairs(unittest.TestCase):
    def test_what_a_change_mends_and_breaks(self) -> None:
        told = difference([(True, True)] * 10 + [(False, True)] * 8 + [(True, False)] * 1 + [(False, False)] * 1)
        self.assertEqual((told.of, told.before, told.after, told.mended, told.broke), (20, 11, 18, 8, 1))
        self.assertTrue(0 < told.low < 0.35 < told.high < 0.7)
        self.assertTrue(told.before_low < 0.55 < told.before_high)

    def test_few_pairs_say_little(self) -> None:
        told = difference([(False, True)])
        self.assertTrue(told.low < 0 < told.high)
        nothing = difference([])
        self.assertEqual((nothing.of, nothing.low, nothing.high), (0, -1.0, 1.0))

    @given(st.lists(st.tuples(st.booleans(), st.booleans()), min_size=1, max_size=60))
    def test_bounds_hold_the_difference_turned_round_they_turn_round(self, pairs: list[tuple[bool, bool]]) -> None:
        told, turned = difference(pairs), difference([(b, a) for a, b in pairs])
        self.assertAlmostEqual(told.low, -turned.high)
        self.assertTrue(-1 <= told.low <= told.high <= 1)
        self.assertEqual(told.after - told.before, told.mended - told.broke)

    def test_how_a_pair_came_out(self) -> None:
        other = Outcome("c")
        for before, after, came in (
            (GOOD, BAD, "broke"),
            (BAD, GOOD, "mended"),
            (GOOD, other, "other"),
            (GOOD, GOOD, "same"),
            (BAD, Outcome("b", tests=('choice is "high"',)), "other"),
            (GOOD, Outcome(failed="The model is down."), "broke"),
            (GOOD, Outcome("a", unsourced=("It has grown.",)), "broke"),
        ):
            self.assertEqual(Pair("x", "post", "", before, after).came, came)

    def test_lines_are_counted_each_by_itself(self) -> None:
        pairs = [
            Pair("x", "post", "", BAD, GOOD),
            Pair("x", "title", "", GOOD, Outcome("t", tests=("no",), cost=0.02, calls=2)),
            Pair("y", "post", "", Outcome(failed="down"), GOOD),
        ]
        post, title = counted(pairs)
        self.assertEqual((post.step, post.passes.mended, post.rules.mended, post.tests.mended), ("post", 2, 2, 1))
        self.assertEqual((title.tests.broke, title.rules.broke, title.sources.broke), (1, 0, 0))
        self.assertEqual((title.cost, title.calls), ((0.0, 0.02), (0.0, 2.0)))


class Tests(unittest.TestCase):
    TESTS = (
        PromptTest('choice is "high"', "Flood at the lock"),
        PromptTest("characters < 300"),
        PromptTest('text contains "Tillerby" or text contains "Marrow"'),
    )

    def test_they_hold_for_their_item_or_for_all(self) -> None:
        output = {"choice": "some", "characters": 120, "text": "At Tillerby."}
        self.assertEqual(failed_tests(self.TESTS, "Another", output, {}), ())
        self.assertEqual(failed_tests(self.TESTS, "Flood at the lock", output, {}), ('choice is "high", for “Flood at the lock”',))

    def test_values_of_the_run_can_be_named(self) -> None:
        test = (PromptTest("text contains feed.title"),)
        self.assertEqual(failed_tests(test, "a", {"text": "The flood came."}, {"feed": {"title": "flood"}}), ())
        self.assertEqual(len(failed_tests(test, "a", {"text": "Dry."}, {"feed": {"title": "flood"}})), 1)

    def test_what_cannot_hold_is_told_before(self) -> None:
        known = {"text": "any", "characters": "any"}
        self.assertEqual(test_faults([PromptTest("characters < 300")], known), [])
        for wrong in ("characters <", "colour is red", ""):
            self.assertEqual(len(test_faults([PromptTest(wrong)], known)), 1, wrong)
