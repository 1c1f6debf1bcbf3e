"""A guide to a voice: points that say what to do, each shown by sentences of the liked examples.

A model writes the points and copies sentences; only those that stand in an example count, and where too few do, code looks for some
that show what the point is about.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ..languages import language
from ..text import emoji, hashtags, normal, sentences, tongue_of
from .prompts import as_material, material_note
from .voice import Style, told_of

SHOWN = 2
"""So many sentences stand by each point."""
MOST_POINTS = 14
_QUOTED = re.compile(r"[“\"«„]([^“”\"«»„]{6,300})[”\"»“]")
_WORD = re.compile(r"[^\W\d_]+(?:['’][^\W_]+)?")


@dataclass(frozen=True)
class Point:
    """What to do, and sentences of the examples that show it."""

    says: str
    shown: tuple[str, ...] = ()


def guide_messages(name: str, examples: Sequence[str], style: Style) -> list[dict[str, str]]:
    """What a model is asked for a guide to a voice: the liked examples as material, and what was measured of them."""
    system = (
        "You describe how a brand writes, so that others can write like it. Write a guide to its voice: at most ten short points, each "
        "on a line of its own, that say what to do. Behind each, copy two sentences of the examples that show it, word for word and in "
        "quotation marks. Describe how it is written, and never what it is about. " + material_note()
    )
    pieces = "\n\n".join(as_material(f"example {n}", text) for n, text in enumerate(examples, 1))
    user = f"A guide to the voice of {name}.\n\nMeasured of its examples:\n" + "\n".join(told_of(style)) + f"\n\n{pieces}"
    return [{"role": "system", "content": system}, {"role": "user", "content": user}]


def guide_of(answer: str, examples: Sequence[str]) -> list[Point]:
    """The points of a model's answer, each with sentences of the examples: those it copied, and others that show the same."""
    held = [(text, normal(text).casefold()) for text in examples]
    said = [span.text.strip() for text in examples for span in sentences(text) if len(_WORD.findall(span.text)) > 1]
    points: list[tuple[str, list[str]]] = []
    for line in answer.splitlines():
        quoted = [quote.strip() for quote in _QUOTED.findall(line) if len(_WORD.findall(quote)) > 2]
        bare = re.sub(r"\s*[(:–—-]*\s*$", "", line if not quoted else line[: line.find(quoted[0]) - 1])
        for span in sentences(re.sub(r"^\s*(?:[-*•]|\d+[.)])\s*", "", bare)):
            if len(_WORD.findall(span.text)) > 1:
                points.append((span.text.strip(), []))
        if points:
            points[-1][1].extend(quote for quote in quoted if any(normal(quote).casefold() in text for _, text in held))
    used: set[str] = set()
    out = []
    for says, copied in points[:MOST_POINTS]:
        shown = list(dict.fromkeys(copied))[:SHOWN]
        shown += [one for one in _showing(says, said, examples) if one not in shown and one not in used][: SHOWN - len(shown)]
        used.update(shown)
        out.append(Point(says, tuple(shown)))
    return out


def text_of_guide(points: Sequence[Point]) -> str:
    """The guide as a text for a prompt: a point on each line, with what shows it."""
    return "\n".join(f"- {one.says}" + "".join(f" “{shown}”" for shown in one.shown) for one in points)


def _showing(says: str, said: Sequence[str], examples: Sequence[str]) -> list[str]:
    """Sentences that show a point, the plainest first."""
    words = set(re.findall(r"[^\W\d_]+", says.casefold()))
    refused = bool(words & {"no", "not", "never", "avoid", "without", "sparingly", "seldom"})
    tests: list[Callable[[str], bool]] = []
    for named, holds in _SIGNS:
        if words & named:
            tests.append(_not(holds) if refused else holds)
    if words & {"begin", "open", "start", "opening", "beginn", "beginnt"}:
        return [found[0].text.strip() for text in examples if (found := sentences(text))]
    length = next((int(n) for n in re.findall(r"sentences of (?:about |at most )?(\d+)", says)), 0)
    if tests:
        fitting = [text for text in said if all(holds(text) for holds in tests)]
    elif length or words & {"short", "sentences", "sentence"}:
        return sorted(said, key=lambda text: abs(len(_WORD.findall(text)) - (length or 8)))
    else:
        known = language(tongue_of(says) or "en")
        wanted = {known.stem(word) for word in words if len(word) > 3}
        fitting = [text for text in said if wanted & {known.stem(w.casefold()) for w in _WORD.findall(text)}]
    return sorted(fitting, key=len)


def _not(holds: Callable[[str], bool]) -> Callable[[str], bool]:
    return lambda text: not holds(text)


def _speaks(*forms: str) -> Callable[[str], bool]:
    return lambda text: bool({word.casefold() for word in _WORD.findall(text)} & set(forms))


_SIGNS: tuple[tuple[frozenset[str], Callable[[str], bool]], ...] = (
    (frozenset({"we"}), _speaks("we", "us", "our", "ours")),
    (frozenset({"you", "reader", "readers"}), _speaks("you", "your", "yours")),
    (frozenset({"i"}), _speaks("i", "me", "my", "mine")),
    (frozenset({"figure", "figures", "number", "numbers"}), lambda text: any(sign.isdigit() for sign in text)),
    (frozenset({"question", "questions"}), lambda text: "?" in text),
    (frozenset({"exclamation", "exclamations"}), lambda text: "!" in text),
    (frozenset({"emoji", "emojis"}), lambda text: bool(emoji(text))),
    (frozenset({"hashtag", "hashtags", "tags"}), lambda text: bool(hashtags(text))),
)
