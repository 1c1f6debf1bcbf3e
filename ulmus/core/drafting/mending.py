"""Mending: what code can put right in a draft without touching its prose, before a model is asked again.

Words round the piece, quotation marks round the whole, surplus emoji and tags, a link that is missing; where the maker wants it,
whole last sentences of what is too long. A mend is kept only where no must-rule that was kept is lost by it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial

from .. import text as texts
from ..text.sentences import speaks
from .measuring import NOTHING_KNOWN, Known, Read, broken, holds, measure
from .quotes import quoted
from .rules import Contains, Emoji, Hashtags, Length, NoEmoji, NoQuotes, OnlyThePiece, Rule, Sentences, Spoken, Words
from .wrapping import wrapping

FEWEST_LEFT = 1
"""So many sentences stay, however much is dropped."""
_LINK = re.compile(r"https?://\S+$")
_TAG = re.compile(r"[#＃][\w·]+$")


@dataclass(frozen=True)
class Mended:
    """A draft after mending, and what was done to it, in words."""

    text: str
    told: tuple[str, ...] = ()


def mend(draft: str, rules: Sequence[Rule], known: Known = NOTHING_KNOWN, fit: bool = False) -> Mended:
    """`draft` with whatever code can put right of `rules`; with `fit`, whole last sentences are dropped from what is too long."""
    rules = [rule for rule in rules if not rule.of]
    text, told = draft.strip(), list[str]()
    if any(isinstance(rule, OnlyThePiece) for rule in rules) and (bare := _unwrapped(text)) and bare.text:
        text, told = bare.text, list(bare.told)  # it is never of the piece, whatever comes to light behind it
    wrong = _wrong(text, rules, known)
    for change in _changes(rules, fit and not texts.is_html(text)):
        if not wrong:
            break
        tried = change(text)
        if tried is None or not tried.text.strip():
            continue
        after = _wrong(tried.text, rules, known)
        if after < wrong:
            text, wrong = tried.text, after
            told += tried.told
    return Mended(text, tuple(told))


def _wrong(text: str, rules: Sequence[Rule], known: Known) -> set[int]:
    """Which rules a text breaks, by their place; compared as sets, so that none that was kept is lost."""
    return {n for n, finding in enumerate(measure(text, rules, known)) if not finding.kept}


def _changes(rules: Sequence[Rule], fit: bool) -> Iterator[Callable[[str], Mended | None]]:
    if any(isinstance(rule, NoQuotes) for rule in rules):
        yield _unquoted
    for rule in rules:
        match rule:
            case NoEmoji():
                yield partial(_fewer_emoji, most=0)
            case Emoji():
                yield partial(_fewer_emoji, most=rule.most)
            case Hashtags():
                yield partial(_fewer_tags, most=rule.most)
            case Contains() if _LINK.match(rule.text.strip()) or _TAG.match(rule.text.strip()):
                yield partial(_with, wanted=rule.text.strip())
            case _:
                pass
    if fit and any(isinstance(rule, Length | Words | Sentences | Spoken) for rule in rules):
        yield partial(_fitting, rules=rules)


def _unwrapped(text: str) -> Mended | None:
    found = wrapping(text)
    return Mended(text[found.start : found.end], tuple(f"{words} was taken off" for words in found.found)) if found.found else None


def _unquoted(text: str) -> Mended | None:
    inside = quoted(text)
    if inside is None:
        return None
    start, end = inside
    return Mended(text[:start][:-1] + text[start:end] + text[end + 1 :], ("the quotation marks round it were taken off",))


def _fewer_emoji(text: str, most: int) -> Mended | None:
    found = texts.emoji(text)
    surplus = len(found) - most
    if surplus <= 0:
        return None
    for sign in reversed(found[most:]):
        at = text.rindex(sign)
        before, after = text[:at], text[at + len(sign) :]
        if before[-1:] in (" ", "\u00a0") and (after[:1] in (" ", "\n", "") or after[:1] in ".,!?"):
            before = before[:-1]
        elif not before or before.endswith("\n"):
            after = after.removeprefix(" ")
        text = before + after
    return Mended(_no_empty_lines(text), (f"{surplus} emoji {'was' if surplus == 1 else 'were'} taken out",))


def _fewer_tags(text: str, most: int) -> Mended | None:
    found = texts.hashtags(text)
    surplus = len(found) - most
    if surplus <= 0:
        return None
    for tag in reversed(found[most:]):
        at = max(m.start() for m in re.finditer(rf"{re.escape(tag)}(?![\w·])", text))
        line_start, line_end = text.rfind("\n", 0, at) + 1, text.find("\n", at)
        line = text[line_start : line_end if line_end >= 0 else len(text)]
        rest = text[at + len(tag) : line_end if line_end >= 0 else len(text)]
        inside = speaks(line) and (speaks(rest) or rest[:1] in tuple(".,;:!?"))  # it stands in a sentence, and stays a word of it
        text = text[:at] + text[at + 1 :] if inside else text[:at].rstrip(" ") + text[at + len(tag) :]
    return Mended(_no_empty_lines(text), (f"{surplus} hashtag{' was' if surplus == 1 else 's were'} taken out",))


def _with(text: str, wanted: str) -> Mended | None:
    read = Read(text)
    if read.html or holds(read, wanted):
        return None
    what = "the link" if _LINK.match(wanted) else wanted
    lines = text.split("\n")
    tags = len(lines)
    while tags > 1 and lines[tags - 1].strip() and not speaks(lines[tags - 1]) and texts.hashtags(lines[tags - 1]):
        tags -= 1
    if _TAG.match(wanted) and tags < len(lines):
        return Mended(f"{text} {wanted}", (f"{what} was put at its end",))
    body, rest = "\n".join(lines[:tags]).rstrip(), "\n".join(lines[tags:])
    between = "\n\n" if "\n\n" in text else "\n" if "\n" in text else " "
    return Mended(f"{body}{between}{wanted}{between + rest if rest else ''}", (f"{what} was put at its end",))


def _fitting(text: str, rules: Sequence[Rule]) -> Mended | None:
    """Whole last sentences taken out until it fits; what must be contained, tags and links stay."""
    measured = [rule for rule in rules if isinstance(rule, Length | Words | Sentences | Spoken)]
    wanted = [rule.text for rule in rules if isinstance(rule, Contains)]
    dropped = 0
    while broken(measure(text, measured), None):
        spoken = texts.sentences(text)
        kept = [s for s in spoken if not any(texts.contained(w, texts.normal(s.text)) for w in wanted)]
        if len(spoken) <= FEWEST_LEFT or not kept:
            return None
        last = kept[-1]
        # What is no sentence (a link, tags) at the end of its line stays.
        text = _no_empty_lines(text[: last.start].rstrip(" ") + _unspoken(last.text) + text[last.end :])
        dropped += 1
    return Mended(text, (f"{dropped} last sentence{' was' if dropped == 1 else 's were'} left out to fit",)) if dropped else None


def _unspoken(sentence: str) -> str:
    """The links and tags in a sentence that is left out."""
    kept = [*(link.text for link in texts.links(sentence)), *texts.hashtags(sentence)]
    return " " + " ".join(kept) if kept else ""


def _no_empty_lines(text: str) -> str:
    return re.sub(r"\n{3,}", "\n\n", re.sub(r"[ \t]+(?=\n)|[ \t]+\Z", "", text)).strip()
