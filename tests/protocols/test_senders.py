"""Whose mail it is: addresses are compared whole."""

from __future__ import annotations

import unittest

from ulmus.protocols.mailbox import is_from


class Senders(unittest.TestCase):
    def test_addresses_are_compared_whole(self) -> None:
        for sender, wanted, fits in (
            ("ines@marrowbank.example", "ines@marrowbank.example", True),
            ("Ines@Marrowbank.example", "ines@marrowbank.example", True),
            ("ines@marrowbank.example", "Ines Varga <ines@marrowbank.example>", True),
            ("xines@marrowbank.example", "ines@marrowbank.example", False),
            ("ines@marrowbank.example.evil.example", "ines@marrowbank.example", False),
            ("xines@marrowbank.example.evil.example", "ines@marrowbank.example", False),
            ("ines@marrowbank.example", "@marrowbank.example", True),
            ("ines@marrowbank.example", "marrowbank.example", True),
            ("ines@evilmarrowbank.example", "marrowbank.example", False),
            ("ines@marrowbank.example.evil.example", "marrowbank.example", False),
            ("ines@marrowbank.example", "ines", True),
            ("xines@marrowbank.example", "ines", False),
            ("dory@b.example", "ines@a.example, dory@b.example", True),
            ("anybody@a.example", "", True),
        ):
            with self.subTest(sender=sender, wanted=wanted):
                self.assertEqual(is_from(sender, wanted), fits)


if __name__ == "__main__":
    unittest.main()
