"""Voice: the measured style of liked examples, and how far a draft is from it, in words."""

from __future__ import annotations

import re
import statistics
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from ..text import emoji, hashtags, sentences
from .typical import Typical, typical_of

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")
UNLIKE, FAR = -1.8, -3.0
"""In spreads of how like the liked pieces are to one another: from where on a draft has other turns, and is of another voice."""
_PERSON = {
    "we": frozenset(("we", "us", "our", "ours")),
    "I": frozenset(("i", "me", "my", "mine")),
    "you": frozenset(("you", "your", "yours")),
}
#: What is measured: name, what it is called, unit, the least difference that is felt, and the words for more and for less.
MEASURES = (
    ("words", "length", "words", 12.0, "longer", "shorter"),
    ("sentence_words", "sentences", "words a sentence", 3.0, "longer sentences", "shorter sentences"),
    ("long_words", "long words", "per 100 words", 6.0, "more long words", "fewer long words"),
    ("hashtags", "hashtags", "a piece", 0.75, "more hashtags", "fewer hashtags"),
    ("emoji", "emoji", "a piece", 0.75, "more emoji", "fewer emoji"),
    ("questions", "questions", "a piece", 0.75, "more questions", "fewer questions"),
    ("exclamations", "exclamation marks", "a piece", 0.75, "more exclamation marks", "fewer exclamation marks"),
    ("figures", "figures", "per 100 words", 2.5, "more figures", "fewer figures"),
    ("lines", "lines", "a piece", 1.5, "more lines", "fewer lines"),
)


TURNS = "turns"


@dataclass(frozen=True)
class Style:
    """The style of one or several pieces: a middle value and a spread for each measure, who speaks, how they begin."""

    pieces: int
    middle: dict[str, float]
    spread: dict[str, float]
    person: str
    opening: str
    typical: Typical | None = field(default=None, repr=False, compare=False)


@dataclass(frozen=True)
class Difference:
    """One measure in which a draft is away from the style: the draft's value, the examples', and words for it."""

    measure: str
    draft: float
    examples: float
    says: str


def style_of(examples: Sequence[str]) -> Style:
    """The style of liked examples. Raises `ValueError` where there are none."""
    pieces = [text.strip() for text in examples if _WORD.search(text)]
    if not pieces:
        raise ValueError("There are no examples to measure.")
    found = [measures_of(text) for text in pieces]
    names = [name for name, *_ in MEASURES]
    middle = {name: round(statistics.median(one[name] for one in found), 2) for name in names}
    spread = {name: round(statistics.pstdev([one[name] for one in found]), 2) for name in names}
    person = Counter(map(_person, pieces)).most_common(1)[0][0]
    opening = Counter(map(_opening, pieces)).most_common(1)[0][0]
    return Style(len(pieces), middle, spread, person, opening, typical_of(pieces))


def measures_of(text: str) -> dict[str, float]:
    """Every measure of one piece."""
    bare = re.sub(r"https?://\S+", "", text)
    words = _WORD.findall(re.sub(r"[#@]\w+", "", bare))
    found = [s.text for s in sentences(bare) if len(_WORD.findall(s.text)) > 1]
    count = max(1, len(words))
    return {
        "words": float(len(words)),
        "sentence_words": len(words) / max(1, len(found)),
        "long_words": 100 * sum(len(w) > 7 for w in words) / count,
        "hashtags": float(len(hashtags(bare))),
        "emoji": float(len(emoji(bare))),
        "questions": float(bare.count("?")),
        "exclamations": float(bare.count("!")),
        "figures": 100 * sum(any(c.isdigit() for c in w) for w in words) / count,
        "lines": float(sum(bool(line.strip()) for line in text.splitlines())),
    }


def table_of(style: Style) -> list[tuple[str, str, str, float]]:
    """What was measured: name, what it is called, its unit, and the middle value of the examples."""
    return [(name, title, unit, style.middle[name]) for name, title, unit, *_ in MEASURES]


def told_of(style: Style) -> list[str]:
    """What was measured, a line each, as a model is told."""
    told = [f"- {title}: {_number(value)} {unit}" for _, title, unit, value in table_of(style)]
    return [*told, f"- speaks as: {style.person}", f"- begins with: {style.opening}"]


def differences(draft: str, style: Style) -> list[Difference]:
    """Where `draft` is away from `style`, the furthest first; empty where it is of the same voice.

    A measure counts as away when it differs by more than twice the spread of the examples, and by so much as is felt.
    """
    out: list[tuple[float, Difference]] = []
    found = measures_of(draft)
    for name, _, unit, felt, more, less in MEASURES:
        here, usual = found[name], style.middle[name]
        reach = max(felt, usual * 0.3, 2 * style.spread[name])
        if abs(here - usual) <= reach:
            continue
        says = f"{more if here > usual else less}: {_number(here)} {unit}, the examples {_number(usual)}"
        out.append((abs(here - usual) / reach, Difference(name, round(here, 2), usual, says)))
    for name, here_, usual_ in (("person", _person(draft), style.person), ("opening", _opening(draft), style.opening)):
        if here_ != usual_ and style.pieces > 2:
            words = (
                f"{_speaks(here_)}, the examples {_speaks(usual_, many=True)}"
                if name == "person"
                else f"begins with {here_}, the examples with {usual_}"
            )
            out.append((1.0, Difference(name, 0, 0, words)))
    if style.typical is not None and (like := style.typical.likeness(draft)) < UNLIKE:
        out.append((-like, Difference(TURNS, round(like, 2), 0, "other turns and habits than the examples have")))
    return [one for _, one in sorted(out, key=lambda pair: -pair[0])]


def verdict(found: Sequence[Difference]) -> str:
    """How far a draft is from a voice, in words. One with other turns than the examples is never near, however alike its surface."""
    step = (len(found) + 1) // 2
    turns = next((one.draft for one in found if one.measure == TURNS), 0.0)
    step = max(step, 3 if turns < FAR else 2 if turns < UNLIKE else 0)
    return ("in this voice", "near to this voice", "away from this voice", "in another voice")[min(3, step)]


def _speaks(person: str, many: bool = False) -> str:
    if person == "nobody":
        return "speak for nobody" if many else "speaks for nobody"
    return f"{'say' if many else 'says'} “{person}”"


def _person(text: str) -> str:
    words = [w.lower() for w in _WORD.findall(text)]
    counts = {name: sum(w in forms for w in words) for name, forms in _PERSON.items()}
    best = max(counts, key=lambda name: counts[name])
    return best if counts[best] else "nobody"


def _opening(text: str) -> str:
    first = next((s.text for s in sentences(text)), "")
    if re.search(r"\?[!?]*$", first):
        return "a question"
    if first[:1] in '“"«':
        return "a quotation"
    if re.match(r"\W*\d", first):
        return "a figure"
    return "a short sentence" if len(_WORD.findall(first)) <= 8 else "a full sentence"


def _number(value: float) -> str:
    return f"{value:.0f}" if value >= 10 or float(value).is_integer() else f"{value:.1f}"
