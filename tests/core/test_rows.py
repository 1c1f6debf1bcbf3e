"""What becomes of cells and rows, as data: put, added below, counted up; the same row however it is written, and nearly the same."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.rows import NotThis, Put, is_near, key_of, put, same, written

TEXT = st.text(max_size=40)


class Cells(unittest.TestCase):
    def test_each_way_to_put_something(self) -> None:
        self.assertEqual(put("A", "old", Put("new")), "new")
        self.assertEqual(put("A", "old", Put("new", "append")), "old\nnew")
        self.assertEqual(put("A", " ", Put("new", "append")), "new")
        self.assertEqual(put("A", "old", Put("", "append")), "old")
        self.assertEqual(
            [put("N", before, Put("", "count")) for before in ("", None, "4", "1,204", 2)], ["1", "1", "5", "1205", "3"]
        )
        self.assertEqual(put("N", "1.5", Put("-2", "count")), "-0.5")

    def test_what_is_no_number_is_not_counted_on_and_nothing_is_lost(self) -> None:
        for before, more in (("many", "1"), ("3", "some"), ("nan", "1"), ("1e999", "1")):
            with self.subTest(before), self.assertRaises(NotThis):
                put("Views", before, Put(more, "count"))

    def test_only_what_changes_is_written(self) -> None:
        puts = {"A": Put("x"), "B": Put("y"), "C": Put("")}
        self.assertEqual(written({"A": "x", "B": 1, "D": "stays"}, puts), {"B": "y"})

    @given(st.dictionaries(TEXT, TEXT, max_size=4), st.dictionaries(TEXT, TEXT, max_size=4))
    def test_what_was_written_once_is_not_written_again(self, cells: dict[str, str], new: dict[str, str]) -> None:
        puts = {column: Put(text) for column, text in new.items()}
        after = {**cells, **written(cells, puts)}
        self.assertEqual(written(after, puts), {})
        self.assertTrue(same(after, new))


class Keys(unittest.TestCase):
    def test_case_spaces_and_how_a_link_is_written_make_no_difference(self) -> None:
        one = {"Link": "https://www.Seed.example/sow/?utm_source=x&id=2#top", "Title": "Sow  now"}
        other = {"Link": "http://seed.example/sow?id=2", "Title": " sow NOW "}
        self.assertEqual(key_of(one, ("Link", "Title")), key_of(other, ("Link", "Title")))
        self.assertNotEqual(key_of(one, ("Link",)), key_of({"Link": "http://seed.example/sow?id=3"}, ("Link",)))

    def test_nearly_the_same_is_near_and_another_story_is_not(self) -> None:
        near = ("night market for seeds draws six hundred to ostrey",), ("night market for seeds draws 600 to ostrey",)
        self.assertFalse(is_near(*near), "another figure is another claim")
        self.assertTrue(is_near(("a night market for seeds draws six hundred to ostrey",), near[0]))
        self.assertFalse(is_near(("the bean gave a full crop",), ("the pea gave a poor crop",)))
        self.assertFalse(is_near(("",), ("a",)))
