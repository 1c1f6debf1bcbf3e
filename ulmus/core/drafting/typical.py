"""Typical: how like a draft is to a brand's liked pieces in its turns, beside what is measured of its surface.

Two parts, added up. The turns: small words, how they follow each other and the marks between, endings, first and last words of
sentences and their length, each the heavier the seldomer texts at large have it. And the habits (how long sentences are, who is
spoken to, commands, figures, commas …): whether they are likelier of the brand's pieces than of texts at large. What a piece is about
counts for neither.
"""

from __future__ import annotations

import itertools
import math
import re
import statistics
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ..languages import Language, language
from ..text import sentences, tongue_of
from .at_large import HABITS, PARAGRAPHS, TURNS

FEWEST = 4
"""From so many liked pieces on a draft is set against them."""
NEAREST = 4
TURNS_COUNT = 4.0
_PRIOR, _CLIPPED = 3, 2.0
_TOKEN = re.compile(r"[^\W_]+(?:['’][^\W_]+)?|[.,;:!?…—–]")
_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
_BARE = re.compile(r"https?://\S+|[#@]\w+")
_SPEAKERS = {
    "en": ("we us our ours i my me we'll i'm we're", "you your yours you'll you're"),
    "de": ("wir uns unser unsere unseren ich mich mir mein meine", "du dich dir dein deine ihr euch euer sie ihnen ihre"),
    "fr": ("nous notre nos je j mon ma mes", "vous votre vos tu toi ton ta tes"),
    "es": ("nosotros nuestra nuestro nuestras nuestros nos yo mi mis", "tú tu tus usted ustedes vosotros os te"),
    "it": ("noi nostra nostro nostri nostre io mio mia ci", "tu tuo tua voi vostro vostra vi ti"),
    "pt": ("nós nossa nosso nossas nossos eu meu minha", "você vocês teu tua te"),
    "nl": ("wij we ons onze ik mijn mij", "je jij jou jouw u uw jullie"),
}


@dataclass(frozen=True)
class Typical:
    """The liked pieces of a brand as they are compared with: the turns and habits of each, and how like they are to one another."""

    turns: tuple[Mapping[str, float], ...]
    habits: tuple[Mapping[str, float], ...]
    tongue: str
    middle: float = 0.0
    spread: float = field(default=0.0)

    def likeness(self, draft: str) -> float:
        """How like a draft is to them, in spreads of how like they are to one another: 0 is as like as they are, -2 is far."""
        known = language(self.tongue)
        return (_like(turns_of(draft, known), habits_of(draft, known), self.turns, self.habits) - self.middle) / self.spread


def typical_of(examples: Sequence[str]) -> Typical | None:
    """What is typical of liked pieces; ``None`` where there are too few."""
    pieces = [text for text in examples if _WORD.search(text)]
    if len(pieces) < FEWEST:
        return None
    tongue = tongue_of(" ".join(pieces)) or "en"
    known = language(tongue)
    turns, habits = tuple(turns_of(text, known) for text in pieces), tuple(habits_of(text, known) for text in pieces)
    own = [_like(turns[n], habits[n], turns[:n] + turns[n + 1 :], habits[:n] + habits[n + 1 :]) for n in range(len(pieces))]
    return Typical(turns, habits, tongue, statistics.mean(own), max(0.15, statistics.pstdev(own)))


def turns_of(text: str, known: Language) -> dict[str, float]:
    """The turns of a text, weighed, as a vector of length one."""
    bare = _BARE.sub(" ", text)
    small = known.small | known.refusing
    tokens = [word.lower() for word in _TOKEN.findall(bare)]
    plain = [w if w in small or not w[0].isalnum() else "9" if w[0].isdigit() else "X" for w in tokens]
    found: Counter[str] = Counter(f"s:{w}" for w in tokens if w in small)
    found.update(f"b:{a} {b}" for a, b in itertools.pairwise(plain))
    for word in tokens:
        if word.isalpha() and word not in small:
            found[f"e:{word[-2:]}"] += 0.5  # type: ignore[assignment]
    for sentence in sentences(bare):
        words = [w.lower() for w in _TOKEN.findall(sentence.text)]
        if words:
            found[f"o:{words[0] if words[0] in small else 'X' + words[0][-2:]}"] += 1
            found[f"c:{words[-1]}"] += 1
            found[f"l:{min(6, len(words) // 3)}"] += 1
    at_large = TURNS if known.code == "en" else {}
    weighed = {
        turn: math.sqrt(n) * math.log((PARAGRAPHS + 2) / (at_large.get(turn, 0 if at_large else 9) + 1))
        for turn, n in found.items()
    }
    length = math.sqrt(sum(value * value for value in weighed.values())) or 1.0
    return {turn: value / length for turn, value in weighed.items()}


def habits_of(text: str, known: Language) -> dict[str, float]:
    """The habits of a text; shares as their square roots, which makes their spreads alike."""
    bare = _BARE.sub(" ", text)
    small = known.small | known.refusing
    words = [w.lower().replace("’", "'") for w in _WORD.findall(bare)]
    found = [s.text for s in sentences(bare)]
    count, lines = max(1, len(words)), max(1, len(found))
    starts = [w[0].lower() for s in found if (w := _WORD.findall(s))]
    lengths = [len(_WORD.findall(s)) for s in found]
    ours, yours = (frozenset(one.split()) for one in _SPEAKERS.get(known.code, _SPEAKERS["en"]))

    def share(n: int, of: int) -> float:
        return math.sqrt(n / of)

    return {
        "sentence": math.log(max(1, len(words)) / lines),
        "uneven": (statistics.pstdev(lengths) if len(lengths) > 1 else 0.0) / (count / lines),
        "ours": share(sum(w in ours for w in words), count),
        "yours": share(sum(w in yours for w in words), count),
        "bare start": share(
            sum(s not in small and not s.endswith(("ed", "s", "ing", "y")) and not s[0].isdigit() for s in starts), lines
        ),
        "question": share(bare.count("?"), lines),
        "figure": share(sum(w[0].isdigit() for w in words), count),
        "short form": share(sum("'" in w for w in words), count),
        "comma": share(bare.count(","), lines),
        "small": sum(w in small for w in words) / count,
        "word": math.log(max(1, sum(map(len, words))) / count),
        "ed": share(sum(w.endswith(("ed", "en")) for w in words), count),
        "the": share(
            sum(
                w in ("the", "der", "die", "das", "le", "la", "les", "el", "los", "las", "il", "o", "a", "de", "het") for w in words
            ),
            count,
        ),
    }


def _like(
    turns: Mapping[str, float],
    habits: Mapping[str, float],
    others: Sequence[Mapping[str, float]],
    theirs: Sequence[Mapping[str, float]],
) -> float:
    angles = sorted((sum(value * other.get(turn, 0.0) for turn, value in turns.items()) for other in others), reverse=True)[
        :NEAREST
    ]
    total = 0.0
    for name, (middle, spread) in HABITS.items():
        values = [one[name] for one in theirs]
        own = statistics.mean(values)
        wide = math.sqrt((sum((v - own) ** 2 for v in values) + _PRIOR * (0.7 * spread) ** 2) / (len(values) + _PRIOR))
        here = -0.5 * min(9.0, ((habits[name] - own) / wide) ** 2) - math.log(wide)
        at_large = -0.5 * min(9.0, ((habits[name] - middle) / spread) ** 2) - math.log(spread)
        total += max(-_CLIPPED, min(_CLIPPED, here - at_large))
    return TURNS_COUNT * sum(angles) / len(angles) + total / len(HABITS)
