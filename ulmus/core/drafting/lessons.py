"""Lessons: what people change in drafts again and again when they approve them, as a rule or a line for the guide.

What one person changed once teaches nothing; what was changed alike in several drafts is offered, with how often, and is taken by a
person or left.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from ..diff import changes
from ..languages import language
from ..text import emoji, hashtags, links, normal, tongue_of, words
from .rules import Emoji, Hashtags, Lacks, Links, NoEmoji, Rule, Words

FEWEST, SHARE = 3, 0.3
"""In so many drafts, and in such a share of those that were changed, the same has to be done before it is told."""
LONGEST = 4
"""Words of a phrase that is told."""
_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")


@dataclass(frozen=True)
class Lesson:
    """What is changed again and again: in words, in how many of how many changed drafts, the rule that would have it so, and the line
    that would tell it to whoever writes."""

    says: str
    count: int
    of: int
    rule: Rule | None = None
    line: str = ""


def lessons(edits: Sequence[tuple[str, str]]) -> list[Lesson]:
    """What pairs of drafts, as written and as approved, teach; what was changed most often first."""
    changed = [(before.strip(), after.strip()) for before, after in edits if before.strip() != after.strip() and after.strip()]
    if len(changed) < FEWEST:
        return []
    least = max(FEWEST, round(len(changed) * SHARE))
    found = [*_words(changed, least), *_counts(changed, least), *_length(changed, least), *_opening(changed, least)]
    return sorted(found, key=lambda one: -one.count)[:12]


def _words(changed: Sequence[tuple[str, str]], least: int) -> Iterator[Lesson]:
    """Words and phrases that are taken out, or put in place of others."""
    out, swapped = Counter[str](), Counter[tuple[str, str]]()
    kept = Counter[str]()
    for before, after in changed:
        small = language(tongue_of(before) or "en").small
        left, stays = _phrases(before), _phrases(after)
        kept.update(stays)
        gone = {phrase for phrase in left - stays if not {phrase.split()[0], phrase.split()[-1]} & small}
        out.update(gone)
        for old, new in _replaced(before, after):
            # An article that follows is no word put in place of another.
            if not (set(old.split()) <= small or set(new.casefold().split()) <= small):
                swapped[old, new] += 1
    told = set[str]()
    for (old, new), count in swapped.most_common():
        if count >= least and not kept[old]:
            told.add(old)
            rule = Lacks(words=[old])
            yield Lesson(f"“{old}” becomes “{new}”", count, len(changed), rule, f"Say “{new}”, never “{old}”.")
    for phrase, count in sorted(out.items(), key=lambda one: (-one[1], -len(one[0]))):
        if count >= least and not kept[phrase] and not any(phrase in other or other in phrase for other in told):
            told.add(phrase)
            yield Lesson(f"“{phrase}” is taken out", count, len(changed), Lacks(words=[phrase]), f"Never say “{phrase}”.")


def _phrases(text: str) -> set[str]:
    said = [word.casefold() for word in _WORD.findall(normal(re.sub(r"https?://\S+|[#@]\w+", " ", text)))]
    return {" ".join(said[n : n + size]) for size in range(1, LONGEST + 1) for n in range(len(said) - size + 1)}


def _replaced(before: str, after: str) -> Iterator[tuple[str, str]]:
    """Short stretches of words that were put in place of others."""
    marks = changes(before, after)
    for one, other in itertools.pairwise(marks):
        if one.what == "removed" and other.what == "added":
            old, new = (" ".join(_WORD.findall(part.text)) for part in (one, other))
            if old and new and max(len(old.split()), len(new.split())) <= LONGEST and old.casefold() != new.casefold():
                yield old.casefold(), new


def _counts(changed: Sequence[tuple[str, str]], least: int) -> Iterator[Lesson]:
    """Tags, emoji, links and exclamation marks that become fewer."""
    kinds: tuple[tuple[str, Callable[[str], int], Callable[[int], Any]], ...] = (
        ("hashtag", lambda text: len(hashtags(text)), lambda most: Hashtags(most=most)),
        ("emoji", lambda text: len(emoji(text)), lambda most: Emoji(most=most) if most else NoEmoji()),
        ("link", lambda text: len(links(text)), lambda most: Links(most=most)),
        ("exclamation mark", lambda text: text.count("!"), lambda most: None),
    )
    for name, count_of, rule_of in kinds:
        counts = [(count_of(before), count_of(after)) for before, after in changed]
        fewer = [(before, after) for before, after in counts if after < before]
        if len(fewer) < least or any(after > before for before, after in counts):
            continue
        most = max(after for _, after in fewer)
        many = name if name == "emoji" or most == 1 else f"{name}s"
        what = f"at most {most} {many}" if most else f"no {name if name == 'emoji' else name + 's'}"
        rule = rule_of(most)
        plural = name if name == "emoji" else f"{name}s"
        yield Lesson(
            f"{plural.capitalize()} are cut: {what} {'stay' if most != 1 else 'stays'}",
            len(fewer),
            len(changed),
            rule,
            f"Use {what}.",
        )


def _length(changed: Sequence[tuple[str, str]], least: int) -> Iterator[Lesson]:
    """Drafts that become shorter."""
    counts = [(words(before), words(after)) for before, after in changed]
    shorter = [(before, after) for before, after in counts if after <= before * 0.85 and before - after >= 5]
    longer = sum(after >= before * 1.15 for before, after in counts)
    most = (max((after for _, after in shorter), default=0) + 4) // 5 * 5
    # Where nothing is left at all, no length was meant.
    if len(shorter) >= least and longer * 3 < len(shorter) and most:
        yield Lesson(
            f"Drafts are shortened, to at most {most} words", len(shorter), len(changed), Words(most=most), f"At most {most} words."
        )


def _opening(changed: Sequence[tuple[str, str]], least: int) -> Iterator[Lesson]:
    """First sentences that are written anew."""
    anew = 0
    for before, after in changed:
        old, new = (set(_WORD.findall(re.split(r"(?<=[.!?])\s|\n", text)[0].casefold())) for text in (before, after))
        anew += bool(old) and len(old & new) * 2 < len(old)
    if anew >= max(least, round(len(changed) * 0.5)):
        yield Lesson(
            "The first sentence is written anew", anew, len(changed), None, "Begin with what is new, and with nothing before it."
        )
