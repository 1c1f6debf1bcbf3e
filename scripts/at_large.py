"""Writes how texts at large are: in how many paragraphs of the practice town's articles a turn stands, and how habits are spread.

``python -m scripts.at_large``; a voice is told from that (`ulmus/core/drafting/typical.py`).
"""

from __future__ import annotations

import statistics
import textwrap
from collections import Counter
from pathlib import Path

from practice_town.world import SITES, articles
from ulmus.core.drafting.typical import habits_of, turns_of
from ulmus.core.languages import language
from ulmus.core.text import sentences

PAGE = Path("ulmus/core/drafting/at_large.py")
SELDOM = 3
AT_ONCE = 3
"""So many sentences are as long as a piece."""


def main() -> int:
    english = language("en")
    held: Counter[str] = Counter()
    habits: list[dict[str, float]] = []
    paragraphs = [p for site in SITES for article in articles(site) for p in article.paragraphs]
    for paragraph in paragraphs:
        held.update(turns_of(paragraph, english).keys())
        found = sentences(paragraph)
        for n in range(0, len(found) - AT_ONCE + 1, AT_ONCE):
            habits.append(habits_of(paragraph[found[n].start : found[n + AT_ONCE - 1].end], english))
    spread = {
        name: (statistics.mean(h[name] for h in habits), statistics.pstdev([h[name] for h in habits]) or 0.1) for name in habits[0]
    }
    told = " | ".join(f"{turn} {n}" for turn, n in sorted(held.items()) if n >= SELDOM)
    lines = "\n".join(
        textwrap.wrap(told, 118, initial_indent="    ", subsequent_indent="    ", break_long_words=False, break_on_hyphens=False)
    )
    PAGE.write_text(
        '"""How English texts at large are, written by ``make fit``: in how many of so many paragraphs a turn stands (those in fewer than'
        f' {SELDOM}\nare left out), and the middle and spread of habits."""\n\n'
        f"PARAGRAPHS = {len(paragraphs)}\n"
        "HABITS = {\n" + "".join(f'    "{name}": ({a:.3f}, {b:.3f}),\n' for name, (a, b) in spread.items()) + "}\n"
        f'_TURNS = """\n{lines}\n"""\n'
        'TURNS = {turn: int(n) for part in _TURNS.split("|") for turn, _, n in [" ".join(part.split()).rpartition(" ")]}\n',
        "utf-8",
    )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
