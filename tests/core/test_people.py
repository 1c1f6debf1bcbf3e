"""Who is asked, as people write it."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.people import Asked, addresses, waited_for


class Addresses(unittest.TestCase):
    def test_as_people_write_them(self) -> None:
        for text, found in (
            ("ines@a.example", ["ines@a.example"]),
            ("Ines Varga <ines@a.example>, tom@b.example", ["ines@a.example", "tom@b.example"]),
            ("ines@a.example; Ines@A.example\nlea@c.example", ["ines@a.example", "lea@c.example"]),
            ('"Varga Ines" <ines@a.example>', ["ines@a.example"]),
            ("", []),
            (" , ;", []),
        ):
            self.assertEqual(addresses(text), (found, []), text)

    def test_names_of_colleagues_and_what_names_nobody(self) -> None:
        names = {"ines varga": "ines@a.example"}
        self.assertEqual(addresses("Ines Varga, nobody", names), (["ines@a.example"], ["nobody"]))


class Whose(unittest.TestCase):
    def test_one_all_and_in_order(self) -> None:
        a, b, c = Asked("a"), Asked("b"), Asked("c")
        yes = Asked("a", True)
        self.assertEqual(waited_for([a, b, c], "one"), ["a", "b", "c"])
        self.assertEqual(waited_for([yes, b, c], "one"), [])
        self.assertEqual(waited_for([yes, b, c], "all"), ["b", "c"])
        self.assertEqual(waited_for([a, b, c], "order"), ["a"])
        self.assertEqual(waited_for([yes, b, c], "order"), ["b"])

    @given(st.lists(st.booleans(), min_size=1, max_size=6), st.sampled_from(["one", "all", "order"]))
    def test_nobody_is_waited_for_exactly_when_enough_said_yes(self, yes: list[bool], needs: str) -> None:
        asked = [Asked(str(n), said) for n, said in enumerate(yes)]
        enough = any(yes) if needs == "one" else all(yes)
        self.assertEqual(waited_for(asked, needs) == [], enough)  # type: ignore[arg-type]
