"""What is told of the lines of a block while it is made."""

from __future__ import annotations

import unittest

from ulmus.runtime.underway import Inside, UnderWay


class InsideABlock(unittest.TestCase):
    def setUp(self) -> None:
        self.heard: list[tuple[str, int, int, str]] = []
        self.inside = Inside(lambda step, now: self.heard.append((step, now.done, len(now.at), now.text)))

    def test_the_words_of_the_first_one_at_work_are_told_and_no_others(self) -> None:
        with self.inside.at_work("a", "all:1/a") as first:
            first("One")
            with self.inside.at_work("a", "all:2/a") as second:
                second("Two")
                first("One and")
            self.assertEqual(self.heard[-1], ("a", 1, 1, "One and"))
        self.assertEqual(
            [told[1:] for told in self.heard],
            [(0, 1, ""), (0, 1, "One"), (0, 2, "One"), (0, 2, "One and"), (1, 1, "One and"), (2, 0, "")],
        )

    def test_when_the_first_is_over_the_next_is_heard(self) -> None:
        first = self.inside.at_work("a", "all:1/a")
        second = self.inside.at_work("a", "all:2/a")
        first.__enter__()("One")
        say = second.__enter__()
        first.__exit__(None, None, None)
        self.assertEqual(self.heard[-1], ("a", 1, 1, ""))
        say("Two")
        self.assertEqual(self.heard[-1], ("a", 1, 1, "Two"))
        second.__exit__(None, None, None)
        self.assertEqual(self.inside.told["a"], UnderWay(done=2))

    def test_one_that_fails_is_over_too(self) -> None:
        with self.assertRaises(ValueError), self.inside.at_work("a", "all:1/a"):
            raise ValueError
        self.assertEqual(self.inside.told["a"], UnderWay(done=1))

    def test_what_was_known_counts_and_is_told_with_the_next(self) -> None:
        self.inside.known("a")
        self.assertEqual(self.heard, [])
        with self.inside.at_work("a", "all:2/a"):
            self.assertEqual(self.heard, [("a", 1, 1, "")])
