"""Lists kept small, near repeats, nearness, and chapters."""

from __future__ import annotations

import random
import re
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from ulmus.core.gather.chapters import chapters
from ulmus.core.gather.cues import Cue
from ulmus.core.gather.lists import Shaping, shaped
from ulmus.core.gather.nearness import Nearness, near_repeats

NEWS = [
    {"title": "Marrowbank opens a seed library", "link": "a", "date": "2026-03-01"},
    {"title": "A boat without a plug", "link": "b", "date": "2026-03-03"},
    {"title": "Marrowbank has opened its seed library", "link": "c", "date": "2026-03-02"},
    {"title": "A boat without a plug", "link": "b", "date": "2026-03-03"},
]
SEEDS = "The beans were sown in dry soil and the seed was saved in jars. Each variety of bean is grown from seed by a gardener."
BOATS = "The lock gates were opened and the narrowboat passed along the canal. Boats on the canal wait below the lock for water."


def links(how: Shaping, seed: str = "") -> list[str]:
    return [one["link"] for one in shaped([dict(n) for n in NEWS], how, "link", "title", seed)]


def recording(*subjects: str, minutes: float = 6.0) -> list[Cue]:
    cues, at = [], 0.0
    for subject in subjects:
        sentences = re.split(r"(?<=\.) ", subject)
        until = at + minutes * 60
        n = 0
        while at < until:
            text = sentences[n % len(sentences)]
            cues.append(Cue(at, at + 8, "", text))
            at, n = at + 8, n + 1
    return cues


class Lists(unittest.TestCase):
    def test_as_wanted(self) -> None:
        self.assertEqual(links(Shaping()), ["a", "b", "c", "b"])
        self.assertEqual(links(Shaping(repeats="same")), ["a", "b", "c"])
        self.assertEqual(links(Shaping(repeats="near")), ["a", "b"])
        self.assertEqual(links(Shaping(by="date", down=True, repeats="same")), ["b", "c", "a"])
        self.assertEqual(links(Shaping(keep='title contains "boat"', repeats="same")), ["b"])
        self.assertEqual(links(Shaping(by="date", most=1)), ["a"])

    def test_a_random_pick_is_the_same_for_the_same_seed(self) -> None:
        how = Shaping(most=2, random=True, repeats="same")
        self.assertEqual(links(how, "one"), links(how, "one"))
        self.assertEqual(len(links(how, "one")), 2)
        self.assertGreater(len({tuple(links(how, str(n))) for n in range(20)}), 1)

    rows = st.lists(
        st.dictionaries(st.sampled_from(["title", "link", "n"]), st.one_of(st.text(max_size=8), st.integers()), min_size=1)
    )

    @given(rows, st.sampled_from(["keep", "same", "near"]), st.booleans(), st.one_of(st.none(), st.integers(1, 5)))
    @settings(deadline=None)
    def test_nothing_is_made_up(self, rows: list[dict[str, Any]], repeats: Any, random: bool, most: int | None) -> None:
        found = shaped(rows, Shaping(repeats=repeats, by="n", most=most, random=random), "link", "title", "s")
        self.assertTrue(all(one in rows for one in found))
        self.assertLessEqual(len(found), most or len(rows))
        if rows:
            self.assertTrue(found)


class Near(unittest.TestCase):
    def test_the_nearest_text_is_the_one_that_speaks_of_the_same(self) -> None:
        found = Nearness([SEEDS, BOATS, "Bread is baked at dawn."]).to("gardeners saving bean seeds")
        self.assertEqual(int(found.argmax()), 0)
        self.assertGreater(found[0], 2 * found[1])

    def test_nothing_is_near_to_nothing(self) -> None:
        self.assertEqual(list(Nearness(["", "?"]).to("bean")), [0.0, 0.0])
        self.assertEqual(near_repeats([]), [])

    @given(st.lists(st.text(max_size=30), max_size=8))
    @settings(deadline=None)
    def test_the_same_again_is_found_and_comes_after(self, texts: list[str]) -> None:
        for i, like in enumerate(near_repeats([*texts, SEEDS, BOATS, SEEDS])):
            self.assertLess(like, i)
        self.assertEqual(near_repeats([SEEDS, BOATS, SEEDS]), [-1, -1, 0])


class Chapters(unittest.TestCase):
    def test_a_chapter_begins_where_the_subject_changes(self) -> None:
        third = "Bread is baked at dawn in the village oven. The baker kneads flour and water and the loaves rise by the oven."
        found = chapters(recording(SEEDS, BOATS, third), "some")
        self.assertEqual(len(found), 3)
        for begun, expected in zip(found[1:], (360.0, 720.0), strict=True):
            self.assertLess(abs(begun.start - expected), 45)
        self.assertIn("seed", " ".join(found[0].words))
        self.assertTrue(set(found[2].words) & {"bread", "baker", "oven", "loaves"})

    def test_chapters_fit_the_length_of_the_recording(self) -> None:
        def spoken(minutes: int, subjects: int) -> list[Cue]:
            """Speech of so many subjects, a third of its words the subject's own."""
            dice = random.Random(minutes)
            common = [
                "people",
                "think",
                "really",
                "going",
                "little",
                "thing",
                "first",
                "other",
                "maybe",
                "great",
                "years",
                "about",
                "because",
                "there",
            ]
            cues, at = [], 0.0
            for n in range(subjects):
                own = ["".join(dice.choice("bcdfglmnprst") + dice.choice("aeiou") for _ in range(3)) for _ in range(14)]
                while at < (n + 1) * minutes * 60 / subjects:
                    words = (dice.choice(own if dice.random() < 0.35 else common) for _ in range(10))
                    cues.append(Cue(at, at + 4, "", " ".join(words)))
                    at += 4
            return cues

        for minutes, subjects, least, most in ((7, 3, 3, 4), (20, 6, 5, 8), (60, 14, 12, 17), (180, 30, 26, 34)):
            found = len(chapters(spoken(minutes, subjects)))
            self.assertTrue(least <= found <= most, (minutes, subjects, found))

    def test_finer_means_no_fewer(self) -> None:
        cues = recording(SEEDS, BOATS, SEEDS, BOATS, SEEDS, BOATS)
        few, some, many = (len(chapters(cues, fineness)) for fineness in ("few", "some", "many"))  # type: ignore[arg-type]
        self.assertLessEqual(few, some)
        self.assertLessEqual(some, many)
        self.assertGreater(many, 1)

    def test_one_subject_is_one_chapter_and_silence_none(self) -> None:
        self.assertEqual(chapters([], "many"), [])
        self.assertEqual(chapters([Cue(0, 1, "", " ")], "many"), [])
        self.assertEqual(len(chapters(recording(SEEDS, minutes=1), "many")), 1)

    @given(st.lists(st.tuples(st.floats(0, 9000), st.text(max_size=40)), max_size=60), st.sampled_from(["few", "some", "many"]))
    @settings(deadline=None)
    def test_chapters_hold_all_that_is_said_in_order(self, said: list[tuple[float, str]], fineness: Any) -> None:
        cues = [Cue(at, at + 2, "", text) for at, text in sorted(said)]
        found = chapters(cues, fineness)
        spoken = " ".join(cue.text.strip() for cue in cues if cue.text.strip())
        self.assertEqual(" ".join(one.text for one in found).split(), spoken.split())
        self.assertEqual([one.start for one in found], sorted(one.start for one in found))


if __name__ == "__main__":
    unittest.main()
