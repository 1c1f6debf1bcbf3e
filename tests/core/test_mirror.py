"""A file and a sheet brought together: nothing is lost or doubled, whatever was changed on either side."""

from __future__ import annotations

import random
import unittest

from ulmus.core.mirror import Base, Merged, merge

NAMES = ["Name", "State"]


def row(name: str, state: str = "") -> dict[str, str]:
    return {"Name": name, "State": state}


def base(*rows: dict[str, str]) -> list[Base]:
    return [Base(n, cells, cells) for n, cells in enumerate(rows, start=1)]


def applied(
    merged: Merged, there: list[dict[str, str]], here: dict[int, dict[str, str]]
) -> tuple[list[dict[str, str]], list[dict[str, str]]]:
    """Both sides after what was said to be done."""
    ours = {n: {**cells, **merged.put.get(n, {})} for n, cells in here.items() if n not in merged.drop}
    for n, index in enumerate(merged.add):
        ours[1000 + n] = dict(there[index])
    theirs = [dict(cells) for cells in there]
    for index, name, text in merged.cells:
        theirs[index][name] = text
    theirs = [cells for n, cells in enumerate(theirs) if n not in merged.lines] + [dict(here[n]) for n in merged.append]
    return theirs, list(ours.values())


class Together(unittest.TestCase):
    def test_each_side_s_changes_reach_the_other(self) -> None:
        before = base(row("a"), row("b"), row("c"))
        there = [row("a", "there"), row("b"), row("new there"), row("c")]
        here = {1: row("a"), 2: row("b", "here"), 3: row("c"), 9: row("new here")}
        merged = merge(before, there, here, NAMES)
        self.assertEqual(merged.put, {1: {"State": "there"}})
        self.assertEqual((merged.cells, merged.add, merged.append), ([(1, "State", "here")], [2], [9]))
        self.assertEqual((merged.drop, merged.lines, merged.told), ([], [], []))

    def test_what_goes_on_one_side_goes_on_the_other_unless_it_was_changed_there(self) -> None:
        before = base(row("a"), row("b"), row("c"))
        merged = merge(before, [row("a"), row("c", "changed there")], {1: row("a"), 2: row("b", "mine")}, NAMES)
        self.assertEqual((merged.drop, merged.lines, merged.add), ([2], [], [1]))
        self.assertEqual(merged.told, [(2, "State", "mine")])
        self.assertEqual(merge(before, [one.there for one in before], {1: row("a"), 2: row("b")}, NAMES).lines, [2])

    def test_where_both_changed_a_cell_the_file_s_stays_and_ours_is_told(self) -> None:
        merged = merge(base(row("a")), [row("a", "theirs")], {1: row("a", "ours")}, NAMES)
        self.assertEqual((merged.put, merged.cells, merged.told), ({1: {"State": "theirs"}}, [], [(1, "State", "ours")]))
        self.assertEqual(merge(base(row("a")), [row("a", "same")], {1: row("a", "same")}, NAMES), Merged(pairs={0: 1}))

    def test_a_row_that_reached_the_file_before_a_break_is_not_sent_twice(self) -> None:
        before = base(row("a"))
        there, here = [row("a"), row("sent"), row("sent")], {1: row("a"), 5: row("sent"), 6: row("sent")}
        merged = merge(before, there, here, NAMES)
        self.assertEqual((merged.add, merged.append, merged.changes_file), ([], [], False))
        self.assertEqual(sorted(merged.pairs.values()), [1, 5, 6])

    def test_rows_that_were_sorted_or_moved_stay_the_same_rows(self) -> None:
        before = base(*(row(name) for name in "abcdef"))
        there = [row(name) for name in "fedcba"]
        merged = merge(before, there, {one.row: one.here for one in before}, NAMES)
        self.assertEqual((merged.add, merged.drop, merged.put), ([], [], {}))
        self.assertEqual({there[i]["Name"]: n for i, n in merged.pairs.items()}, {c: n for n, c in enumerate("abcdef", 1)})

    def test_a_row_put_between_others_that_changed_is_not_taken_for_them(self) -> None:
        before = base(row("a", "1"), row("b", "2"))
        merged = merge(before, [row("a", "x"), row("new", "9"), row("b", "y")], {one.row: one.here for one in before}, NAMES)
        self.assertEqual((merged.put, merged.add), ({1: {"State": "x"}, 2: {"State": "y"}}, [1]))

    def test_what_was_put_as_its_type_is_here_is_no_change(self) -> None:
        before = [Base(1, row("a", "28.11.2026"), row("a", "2026-11-28"))]
        merged = merge(before, [row("a", "28.11.2026")], {1: row("a", "2026-11-28")}, NAMES)
        self.assertFalse(merged.changes_file or merged.put or merged.told)

    def test_whatever_happens_both_say_the_same_afterwards(self) -> None:
        dice = random.Random(11)
        for trial in range(400):
            with self.subTest(trial=trial):
                before = base(*(row(f"n{n}", dice.choice(["", "x"])) for n in range(dice.randint(0, 7))))
                there = [dict(one.there) for one in before]
                here = {one.row: dict(one.here) for one in before}
                for _ in range(dice.randint(0, 4)):
                    what = dice.choice(["write", "add", "go", "mine", "my add", "my go"])
                    if what == "write" and there:
                        dice.choice(there)[dice.choice(NAMES)] = f"t{dice.random():.3f}"
                    elif what == "add":
                        there.insert(dice.randint(0, len(there)), row(f"t{dice.random():.3f}"))
                    elif what == "go" and there:
                        there.pop(dice.randrange(len(there)))
                    elif what == "mine" and here:
                        here[dice.choice(list(here))][dice.choice(NAMES)] = f"h{dice.random():.3f}"
                    elif what == "my add":
                        here[100 + len(here)] = row(f"h{dice.random():.3f}")
                    elif what == "my go" and here:
                        del here[dice.choice(list(here))]
                merged = merge(before, there, here, NAMES)
                theirs, ours = applied(merged, there, here)
                self.assertEqual(sorted(map(str, theirs)), sorted(map(str, ours)))
                # What is new on a side is there on both, and a second look finds nothing to do.
                for cells in here.values():
                    if cells["Name"].startswith("h") and cells["Name"] not in {told for _, _, told in merged.told}:
                        self.assertIn(cells["Name"], {one["Name"] for one in theirs})
                again = merge(base(*theirs), theirs, dict(enumerate(theirs, 1)), NAMES)
                self.assertFalse(again.changes_file or again.put or again.add or again.drop)
