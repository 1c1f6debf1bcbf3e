"""What a worker keeps for a while of what is large."""

from __future__ import annotations

import hashlib
import unittest

from ulmus.protocols.errors import BadAnswer
from ulmus.workers.shelf import WHILE, Shelf


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


class Shelves(unittest.TestCase):
    def setUp(self) -> None:
        self.now, self.fetched = 0.0, list[bytes]()
        self.shelf = Shelf(100, lambda: self.now)

    def got(self, content: bytes) -> bytes:
        def fetch() -> bytes:
            self.fetched.append(content)
            return content

        return self.shelf.get(sha(content), fetch)

    def test_each_is_fetched_once_for_a_while(self) -> None:
        for _ in range(3):
            self.assertEqual(self.got(b"a"), b"a")
        self.assertEqual(self.fetched, [b"a"])
        self.now += WHILE / 2
        self.got(b"a")
        self.now += WHILE * 0.75
        self.got(b"a")
        self.assertEqual(self.fetched, [b"a"], "it was used meanwhile")
        self.now += WHILE + 1
        self.got(b"a")
        self.assertEqual(self.fetched, [b"a", b"a"])

    def test_what_was_used_longest_ago_goes_first(self) -> None:
        a, b, c, large = b"a" * 40, b"b" * 40, b"c" * 40, b"d" * 101
        for one in (a, b, a, c, a, b, large, large):
            self.assertEqual(self.got(one), one)
        self.assertEqual(self.fetched, [a, b, c, b, large, large])

    def test_what_is_something_else_is_not_taken(self) -> None:
        with self.assertRaises(BadAnswer):
            self.shelf.get(sha(b"a"), lambda: b"b")
        self.assertEqual(self.got(b"a"), b"a")


if __name__ == "__main__":
    unittest.main()
