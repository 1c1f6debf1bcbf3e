"""Pages from a sentence: the twenty jobs in three wordings each, and how many repairs the page needs that comes of it.

A repair is a line too many, too few or of another kind, and each setting that is not what was said. What was not said (the address of
a feed, say) is a gap of the page and no repair.
"""

from __future__ import annotations

import json
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

from practice_town import describing
from tests.short import some
from ulmus.core.workflow import Line, Workflow, World, sketch
from ulmus.core.workflow.world import Known
from ulmus.places import DEMO
from ulmus.steps import kinds

SAID = json.loads(Path(__file__).with_name("sentences.json").read_text("utf-8"))
WHO = "mara@hedgelane.example"
MOST = 3


@cache
def demo_world() -> World:
    """The demonstration’s house as a page sees it."""
    told = json.loads((DEMO / "world.json").read_text("utf-8"))
    return World(
        {c["key"]: Known(c["kind"], c["name"]) for c in told["connections"]},
        {s["key"]: (s["name"], tuple(c["name"] for c in s["columns"])) for s in told["sheets"]},
        {b["key"]: b["name"] for b in told["brands"]},
        people={u["email"]: u["name"] for u in told["users"]},
    )


def drawn(words: str) -> Workflow:
    """The page the practice model’s answer stands for."""
    world = demo_world()
    messages = sketch.messages(words, kinds(), world)
    schema = sketch.answer_schema(kinds())
    answer = describing.plan("\n".join(m["content"] for m in messages), schema)
    assert answer is not None
    return sketch.page_of(answer, sketch.blank_page("", "marrowbank", kinds()), kinds(), world, WHO, words).workflow


def flat(lines: list[Line]) -> Iterator[Line]:
    """The lines in reading order, without destinations around them."""
    for line in lines:
        if line.kind != "destinations":
            yield line
        yield from flat(line.steps)
        for lane in line.lanes:
            yield from flat(lane.steps)


def repairs(page: Workflow, wanted: dict[str, Any]) -> list[str]:
    """What is to be mended on a page, in words."""
    out = wrong(page.start, wanted["start"])
    have, want = list(flat(page.steps)), [(one[0].split("|"), one[1] if len(one) > 1 else {}) for one in wanted["lines"]]
    # The shortest way from one list of lines to the other (Levenshtein), with what is wrong in those that stay.
    rows: list[list[list[str]]] = [[[f"+ {'|'.join(names)}" for names, _ in want[:n]] for n in range(len(want) + 1)]]
    for line in have:
        above, row = rows[-1], [[*rows[-1][0], f"- {line.kind}"]]
        for n, (names, settings) in enumerate(want, start=1):
            told = [f"{line.kind}→{'|'.join(names)}"] if line.kind not in names else wrong(line, [line.kind, settings])
            ways = ([*above[n - 1], *told], [*above[n], f"- {line.kind}"], [*row[n - 1], f"+ {'|'.join(names)}"])
            row.append(min(ways, key=len))
        rows.append(row)
    return [*out, *rows[-1][-1]]


def wrong(line: Line, wanted: list[Any]) -> list[str]:
    settings = wanted[1] if len(wanted) > 1 else {}
    kind = [f"{line.kind}→{wanted[0]}"] if line.kind != wanted[0] else []
    return kind + [f"{line.kind}.{n}={line.settings.get(n)!r}≠{v!r}" for n, v in settings.items() if line.settings.get(n) != v]


class Sixty(unittest.TestCase):
    def test_each_of_the_sixty_needs_few_repairs(self) -> None:
        for job in SAID:
            for n, words in enumerate(job["said"], start=1):
                with self.subTest(job=job["job"], wording=n):
                    told = repairs(drawn(words), job)
                    self.assertLessEqual(len(told), MOST, f"{words}\n{told}")

    def test_of_a_hundred_more_wordings_at_most_two_need_more(self) -> None:
        told = [(words, repairs(drawn(words), job)) for job in SAID for words in some(job["also"], 4)]
        self.assertLessEqual(len(many := [(words, found) for words, found in told if len(found) > MOST]), len(told) * 0.02, many)


if __name__ == "__main__":
    for one in SAID:
        for said in [*one["said"], *one["also"]]:
            found = repairs(drawn(said), one)
            print(one["job"], len(found), found, "" if len(found) <= MOST else said)
