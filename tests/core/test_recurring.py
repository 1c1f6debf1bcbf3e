"""Items of feeds keep their names, whatever a feed changes of them at each fetch."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.gather.recurring import Item, names


def item(n: int, **more: str) -> Item:
    made = Item(f"id{n}", f"http://a.example/{n}", f"Title {n}", f"2026-01-{n:02}", f"Text {n}")
    return replace(made, **more)


class Names(unittest.TestCase):
    def looked(self, *fetches: list[Item]) -> list[list[str]]:
        memory: list[list[str]] = []
        out = []
        for fetch in fetches:
            found, memory = names(fetch, memory)
            out.append(found)
        return out

    def test_an_id_is_enough(self) -> None:
        a, b = self.looked(
            [item(1), item(2)], [item(3), replace(item(1), title="Corrected", link="x", text="y", date="z"), item(2)]
        )
        self.assertEqual((a, b), (["id1", "id2"], ["id3", "id1", "id2"]))

    def test_ids_that_change_at_each_fetch(self) -> None:
        fetches = [[item(n, id=f"{fetch}-{n}") for n in range(fetch, 0, -1)] for fetch in range(3, 8)]
        looked = self.looked(*fetches)
        known = [set(one) for one in looked]
        for before, after in itertools.pairwise(known):
            self.assertEqual(len(after - before), 1, "one is new, and one only")

    def test_links_that_change_at_each_fetch_where_there_are_no_ids(self) -> None:
        fetches = [[item(n, id="", link=f"http://a.example/{n}?s={fetch}") for n in range(fetch, 0, -1)] for fetch in range(3, 8)]
        known = [set(one) for one in self.looked(*fetches)]
        for before, after in itertools.pairwise(known):
            self.assertEqual(len(after - before), 1)

    def test_both_that_change_at_each_fetch(self) -> None:
        fetches = [[item(n, id=f"{f}-{n}", link=f"http://a.example/{n}?s={f}") for n in range(f, 0, -1)] for f in range(3, 8)]
        known = [set(one) for one in self.looked(*fetches)]
        for before, after in itertools.pairwise(known):
            self.assertEqual(len(after - before), 1)

    def test_a_corrected_headline_is_no_new_item(self) -> None:
        for bare in ({"id": ""}, {"id": "", "link": ""}):
            a, b = self.looked([item(1, **bare), item(2, **bare)], [item(1, **bare, title="Corrected"), item(2, **bare)])
            self.assertEqual(a, b, bare)

    def test_where_all_link_to_the_same_page_each_is_itself(self) -> None:
        fetches = [[item(n, link="http://a.example/") for n in range(f, 0, -1)] for f in range(2, 6)]
        known = [set(one) for one in self.looked(*fetches)]
        self.assertEqual([len(one) for one in known], [2, 3, 4, 5])

    def test_one_alone_at_the_same_address_is_the_next_of_its_kind(self) -> None:
        a, b = self.looked([item(1, link="http://a.example/daily")], [item(2, link="http://a.example/daily")])
        self.assertNotEqual(a, b)

    def test_a_site_that_moves_to_other_ids_starts_nothing_again(self) -> None:
        a, b, c = self.looked(
            [item(1), item(2), item(3)],
            [item(n, id=f"new{n}") for n in (1, 2, 3)],
            [item(4, id="new4"), *(item(n, id=f"new{n}") for n in (1, 2, 3))],
        )
        self.assertEqual(a, b)
        self.assertEqual(c, ["new4", *a])

    def test_all_new_is_all_new(self) -> None:
        a, b = self.looked([item(1), item(2)], [item(3), item(4)])
        self.assertFalse(set(a) & set(b))

    @given(st.lists(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 3), st.integers(0, 3)), max_size=8), max_size=5))
    def test_no_two_items_of_a_fetch_share_a_name_unless_they_are_the_same(self, fetches: list[list[tuple[int, int, int]]]) -> None:
        memory: list[list[str]] = []
        for fetch in fetches:
            made = [item(n % 28 + 1, id=f"{i}{n}" if i else "", link=f"l{k}") for n, i, k in fetch]
            found, memory = names(made, memory)
            self.assertEqual(len(found), len(made))
            self.assertTrue(all(found))
            self.assertLessEqual(len(set(found)), len(made))
