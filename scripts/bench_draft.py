"""Drafting: evidence, rules and prompt assembly, in figures of one run."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

from practice_town.companies import companies
from practice_town.world import SITES, articles
from scripts.tell import tell
from ulmus.core.drafting import Known, assemble, measure
from ulmus.core.drafting.repeats import Published
from ulmus.core.drafting.rules import (
    Contains,
    Easy,
    Hashtags,
    InLanguage,
    Lacks,
    Length,
    Links,
    NoQuotes,
    OnlyThePiece,
    Sentences,
    Unlike,
    Words,
)
from ulmus.core.evidence import evidence
from ulmus.core.slots import parse, render

ROUNDS = 9


def main() -> None:
    """Run everything."""
    text = "\n".join(p for site in SITES for a in articles(site) for p in a.paragraphs)
    text += "\n".join(p for c in companies().values() for page in c.pages for p in page.paragraphs)
    words = text.split()
    sources = {f"source_{n}": text for n in range(50_000 // len(words) + 1)}
    draft = " ".join(words[:1000])
    count = sum(len(s.split()) for s in sources.values())
    tell(f"evidence for 1,000 words in {count:,} words of sources", _milliseconds(lambda: evidence(draft, sources)), "ms", 150)
    short = " ".join(words[:500])
    rules = [
        Length(most=5000),
        Words(most=600),
        Sentences(most=60),
        Hashtags(most=2),
        Links(most=3),
        NoQuotes(),
        OnlyThePiece(),
        Contains(text="seed"),
        Lacks(words=["amazing", "unbelievable", "game changer"]),
        Easy(least=30),
        InLanguage(code="en"),
    ]
    tell("all rules on a draft of 500 words", _milliseconds(lambda: measure(short, rules)), "ms", 6)
    pieces = [" ".join(words[(n * 37) % (len(words) - 60) :][:45]) + f" {n}" for n in range(10_000)]
    published = Published(pieces)
    rule, known = Unlike(most=60), Known(published=lambda: published)
    fresh = " ".join(words[500:550])
    tell("repeats against 10,000 published pieces", _milliseconds(lambda: measure(fresh, [rule], known)), "ms", 100)
    material = (text * (200_000 // len(text) + 1))[:200_000]
    values = {"page": {"text": material}, "feed": {"title": "News"}}
    prompt = "Sum this up: <<feed.title>>\n<<page.text>>"
    spent = _milliseconds(lambda: assemble("You write.", prompt, values, frozenset(["page", "feed"]), rules))
    tell("a prompt with 200,000 characters of material", spent, "ms", 50)
    _growth()


def _growth() -> None:
    """What ten times the text takes, against the text: ten where time is in proportion."""
    blocks = '<<each l as r>><<if r is "high">><<r>><<otherwise>>-<<end>><<end>> and more\n'
    for piece in (blocks, "<<feed.title>>", "<<a", '<<a."', "<<a.b | x ", "plain words "):
        what = f"ten times the text of “{piece[:12].strip()} …”, read and filled in"
        _grown(what, lambda n, piece=piece: _filled(piece * (n // len(piece))), 100_000)
    rules = [Length(most=5), Hashtags(most=1), NoQuotes(), OnlyThePiece(), Easy(least=30), Lacks(words=["amazing"])]
    _grown("ten times the draft of nothing but marks, measured", lambda n: measure('#“" ' * n, rules), 20_000)


def _filled(text: str) -> None:
    render(parse.__wrapped__(text), {"feed": {"title": "News"}, "l": ["high", "low", "high"]})


def _grown(what: str, work: Callable[[int], Any], size: int) -> None:
    tell(what, _milliseconds(lambda: work(10 * size)) / _milliseconds(lambda: work(size)), "×", 15)


def _milliseconds(work: Callable[[], Any]) -> float:
    work()
    times = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        work()
        times.append((time.perf_counter() - began) * 1000)
    return statistics.median(times)


if __name__ == "__main__":
    main()
