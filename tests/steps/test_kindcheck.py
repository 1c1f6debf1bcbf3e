"""The check that no code outside a kind's module knows its name or its settings' keys finds what it looks for."""

import unittest

from scripts.kindcheck import in_python, in_typescript


class Finds(unittest.TestCase):
    def test_what_knows_a_single_kind_in_python(self) -> None:
        for line in (
            'if line.kind == "draft": pass',
            'found = line.kind in ("fork", "wait")',
            'kind = kinds()["form"]',
            'names = ["publish_post"]',
            'x = line.settings.get("draft")',
            'x = settings["cells"]',
            'x = getattr(settings, "quiet", "")',
        ):
            with self.subTest(line):
                self.assertTrue(list(in_python("x.py", line)))

    def test_what_only_looks_like_it(self) -> None:
        for line in (
            'state = "draft"',
            'if one.stage == "ask": pass',
            '"""Reads a feed_item, and line.kind == draft."""',
            'stored.get("draft")',
            '__all__ = ["read_file"]',
            "x = plan.draft",
        ):
            with self.subTest(line):
                self.assertEqual(list(in_python("x.py", line)), [])

    def test_the_same_in_typescript(self) -> None:
        for line in (
            'if (line.kind === "fork") x();',
            'const HOLDING = new Set(["for_each"]);',
            "doc.settings.prompt",
            'settings["cells"]',
        ):
            with self.subTest(line):
                self.assertTrue(list(in_typescript("x.tsx", line)))
        for line in ('line.kind === "lane"', 'stage === "draft"', "doc.settings[name]"):
            with self.subTest(line):
                self.assertEqual(list(in_typescript("x.tsx", line)), [])
