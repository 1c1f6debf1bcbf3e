"""Measuring: every rule on a draft, by code.

Length is counted in Unicode code points after NFC normalisation (UAX #15); emoji follow the
Extended_Pictographic ranges of UTS #51 and flags; a hashtag is ``#`` and a run of word characters.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from html.parser import HTMLParser
from typing import Any

from ..pieces.lengths import length
from .repeats import Published
from .rules import (
    LANGUAGES,
    AddsUp,
    CleanHtml,
    Contains,
    Easy,
    Emoji,
    Finding,
    Hashtags,
    InLanguage,
    Lacks,
    Length,
    Links,
    LinksAnswer,
    Mentions,
    NoEmoji,
    NoQuotes,
    OnlyThePiece,
    Rule,
    Says,
    Sentences,
    Spoken,
    Strength,
    Unlike,
    Words,
    _Rule,
    span,
)

_HASHTAG = re.compile(r"(?<![\w&/#])#(?!\d+\b)\w+")
_EMOJI = re.compile(
    "[\U0001f1e6-\U0001f1ff\U0001f300-\U0001faff\U00002600-\U000027bf\U00002b00-\U00002bff"
    "\U0001f000-\U0001f2ff\U0000231a-\U0000231b\U000023e9-\U000023fa\U000025fb-\U000025fe\u200d\ufe0f\u20e3]+"
)
_ONE_EMOJI = re.compile(
    "[\U0001f1e6-\U0001f1ff]{2}|[\U0001f000-\U0001faff\U00002600-\U000027bf\U00002b00-\U00002bff\U0000231a-\U00002b55]"
)
_LINK = re.compile(r"https?://[^\s<>\"”)]+")
_MENTION = re.compile(r"(?<![\w@/.])@\w[\w.-]*")
_WORDS = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")
_SENTENCE = re.compile(r"[^.!?\n]+(?:[.!?](?!\s|$|[”\"’)])[^.!?\n]*)*(?:[.!?]+|\n|$)")
_VOID = frozenset(("br", "img", "hr", "input", "meta", "link", "wbr", "source", "col", "area", "base", "embed", "track"))
_QUOTES = {"“": "”", "‘": "’", '"': '"', "'": "'", "«": "»", "»": "«", "„": "“", "`": "`"}
MOST_LINKS = 20
_PREAMBLE = re.compile(
    r"^(?:sure|certainly|of course|here(?:'s| is| are)|okay|ok)\b[^\n]{0,80}[:!]\s*\n|^(?:post|draft|caption)\s*:", re.I
)


@dataclass(frozen=True)
class Known:
    """What the measuring of some rules needs to know of the world: what the brand has published, and what is wrong with a
    link (nothing where it answers), the values of the answer, and the language of a text (ISO 639-1, empty where it is too short
    to tell). Where it is not known, such a rule counts as kept and says so."""

    published: Callable[[], Published] | None = None
    dead: Callable[[str], str] | None = None
    values: Mapping[str, Any] | None = None
    language_of: Callable[[str], str] | None = None


NOTHING_KNOWN = Known()


def measure(draft: str, rules: Sequence[Rule], known: Known = NOTHING_KNOWN) -> list[Finding]:
    """Every rule on `draft`, in the order of `rules`. Takes time linear in the draft."""
    text = unicodedata.normalize("NFC", draft.strip())
    return [_measure(text, rule, known) for rule in rules]


def broken(findings: Sequence[Finding], strength: Strength | None = "must") -> list[Finding]:
    """The findings that were not kept, of one strength or of any."""
    return [f for f in findings if not f.kept and (strength is None or f.strength == strength)]


def _measure(text: str, rule: Rule, known: Known) -> Finding:
    match rule:
        case Length():
            n = length(text, rule.counting)
            if rule.most is not None and n > rule.most:
                return _no(
                    rule,
                    f"{n} of {rule.most} characters",
                    f"It has {n} characters; at most {rule.most} are allowed. Shorten it by {n - rule.most}.",
                )
            if rule.least is not None and n < rule.least:
                return _no(rule, f"{n} characters, needs {rule.least}", f"It has {n} characters; at least {rule.least} are needed.")
            return _yes(rule, f"{n} of {rule.most} characters" if rule.most else f"{n} characters")
        case Hashtags():
            n, wanted = len(_HASHTAG.findall(text)), span(rule.least, rule.most)
            says = f"{n} hashtag{'' if n == 1 else 's'}"
            if rule.least <= n <= rule.most:
                return _yes(rule, says)
            return _no(rule, f"{says}, wants {wanted}", f"It has {says}; use {wanted}.")
        case NoEmoji():
            found = _EMOJI.findall(text)
            if not found:
                return _yes(rule, "no emoji")
            return _no(rule, f"{len(found)} emoji", f"It contains emoji ({' '.join(found[:5])}); remove them.")
        case NoQuotes():
            if len(text) > 1 and _QUOTES.get(text[0]) == text[-1] and text[0] not in text[1:-1]:
                return _no(rule, "in quotation marks", "The whole piece stands in quotation marks; remove them.")
            return _yes(rule, "no quotation marks round it")
        case OnlyThePiece():
            if _PREAMBLE.search(text) or text.startswith("```"):
                return _no(rule, "more than the piece", "Words stand before the piece; give nothing but the piece.")
            return _yes(rule, "nothing but the piece")
        case Contains():
            wanted = unicodedata.normalize("NFC", rule.text.strip())
            what = "the link" if re.match(r"https?://\S+$", wanted) else f"“{wanted[:40]}”"
            if wanted and wanted in text:
                return _yes(rule, f"contains {what}")
            return _no(rule, f"lacks {what}", f"It must contain exactly this: {wanted}")
        case Words():
            return _counted(rule, len(_WORDS.findall(text)), rule.least, rule.most, "word")
        case Sentences():
            return _counted(rule, _sentences(text), rule.least, rule.most, "sentence")
        case Spoken():
            seconds = round(len(_WORDS.findall(_LINK.sub("", text))) * 60 / rule.pace)
            over = f"It takes {seconds} seconds to say; at most {rule.most} are allowed."
            says = f"{seconds} of {rule.most} seconds"
            return _yes(rule, says) if seconds <= rule.most else _no(rule, says, over)
        case Emoji():
            return _counted(rule, sum(len(_ONE_EMOJI.findall(run)) for run in _EMOJI.findall(text)), rule.least, rule.most, "emoji")
        case Links():
            return _counted(rule, len(_LINK.findall(text)), rule.least, rule.most, "link")
        case Mentions():
            return _counted(rule, len(_MENTION.findall(text)), rule.least, rule.most, "mention")
        case Says():
            found = [w for w in rule.words if re.search(rf"(?<!\w){re.escape(w)}(?!\w)", text, re.I)]
            if found:
                return _yes(rule, f"says “{found[0]}”")
            return _no(rule, "says none of the words", "Say at least one of these: " + ", ".join(rule.words) + ".")
        case Easy():
            ease = reading_ease(text)
            if ease is None or ease >= rule.least:
                return _yes(rule, "reading ease not measured" if ease is None else f"reading ease {ease}")
            return _no(
                rule, f"reading ease {ease}, wants {rule.least}", "It is hard to read. Use shorter sentences and shorter words."
            )
        case InLanguage():
            if known.language_of is None:
                return _yes(rule, "its language is not told here")
            code = known.language_of(_LINK.sub("", text))
            if code in ("", rule.code):
                return _yes(rule, f"in {LANGUAGES.get(rule.code, rule.code)}" if code else "too short to tell its language")
            wanted, got = LANGUAGES.get(rule.code, rule.code), LANGUAGES.get(code, code)
            return _no(rule, f"in {got}", f"It is written in {got}; write it in {wanted}.")
        case CleanHtml():
            wrong = html_faults(text, rule.allowed)
            if not wrong:
                return _yes(rule, "HTML well formed")
            return _no(rule, wrong[0], "The HTML is not as it should be: " + "; ".join(wrong[:5]) + ".")
        case Unlike():
            return _unlike(text, rule, known)
        case AddsUp():
            return _adding(rule, known)
        case LinksAnswer():
            return _answering(text, rule, known)
        case Lacks():
            words = [w for w in rule.words if re.search(rf"(?<!\w){re.escape(w)}(?!\w)", text, re.I)]
            if not words:
                return _yes(rule, "no banned words")
            return _no(rule, "says " + ", ".join(f"“{w}”" for w in words), "Do not use: " + ", ".join(words) + ".")


def _counted(rule: Words | Sentences | Emoji | Links | Mentions, n: int, least: int | None, most: int | None, one: str) -> Finding:
    many = one if one == "emoji" else f"{one}s"
    says = f"{n} {one if n == 1 else many}"
    if most is not None and n > most:
        return _no(rule, f"{says}, at most {most}", f"It has {says}; at most {most} are allowed.")
    if least is not None and n < least:
        return _no(rule, f"{says}, at least {least}", f"It has {says}; at least {least} are needed.")
    return _yes(rule, says)


def _sentences(text: str) -> int:
    """How many there are: stretches with a word in them."""
    return sum(any(map(str.isalnum, one)) for one in _SENTENCE.findall(text))


def reading_ease(text: str) -> int | None:
    """Reading ease after Flesch (1948), from 0 to 100; ``None`` for fewer than twelve words. Syllables are groups of vowels."""
    words = re.findall(r"[A-Za-z]+(?:['’][a-z]+)?", _LINK.sub("", text))
    sentences = _sentences(text)
    if len(words) < 12 or not sentences:
        return None
    syllables = sum(max(1, len(re.findall(r"[aeiouy]+", w.lower().removesuffix("e")))) for w in words)
    return max(0, min(100, round(206.835 - 1.015 * len(words) / sentences - 84.6 * syllables / len(words))))


class _Reading(HTMLParser):
    """Follows the elements of HTML and notes what is wrong with them."""

    def __init__(self, allowed: Sequence[str]) -> None:
        super().__init__()
        self.allowed = {name.lower() for name in allowed}
        self.open: list[str] = []
        self.wrong: list[str] = []
        self.seen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.seen += 1
        if tag not in self.allowed:
            self.wrong.append(f"<{tag}> is not allowed")
        for name, value in attrs:
            if name.startswith("on") or (value or "").strip().lower().startswith("javascript:"):
                self.wrong.append(f"<{tag}> holds a script")
        if tag not in _VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag in _VOID:
            return
        if not self.open or self.open.pop() != tag:
            self.wrong.append(f"</{tag}> closes nothing that is open")


def html_faults(text: str, allowed: Sequence[str]) -> list[str]:
    """What is wrong with a piece of HTML, in words; each fault once."""
    reader = _Reading(allowed)
    reader.feed(text)
    reader.close()
    left = [f"<{tag}> is not closed" for tag in reader.open]
    none = [] if reader.seen else ["there is no HTML"]
    return list(dict.fromkeys([*none, *reader.wrong, *left]))


def _unlike(text: str, rule: Unlike, known: Known) -> Finding:
    if known.published is None:
        return _yes(rule, "not compared with what went out")
    nearest = known.published().nearest(text)
    if nearest is None:
        return _yes(rule, "nothing went out before")
    alike = round(nearest.alike * 100)
    if alike <= rule.most:
        return _yes(rule, f"at most {alike} % like what went out")
    told = " ".join(nearest.text.split())[:200]
    return _no(
        rule,
        f"{alike} % like “{told[:60]}…”",
        f"It is {alike} % like a piece that went out before; at most {rule.most} % are allowed. Say it in other words, or say "
        f"something else. The earlier piece: {told}",
    )


def _adding(rule: AddsUp, known: Known) -> Finding:
    items = (known.values or {}).get("items")
    found = [item.get(rule.field) for item in items if isinstance(item, dict)] if isinstance(items, list) else []
    found = found or [(known.values or {}).get(rule.field)]
    numbers = [n for n in found if isinstance(n, int | float) and not isinstance(n, bool)]
    wanted = re.search(r"\d+(?:\.\d+)?", rule.text.replace(",", ""))
    if not numbers or wanted is None:
        return _yes(rule, f"no “{rule.field}” to add up")
    total, goal = sum(numbers), float(wanted.group())
    says = f"“{rule.field}” adds up to {total:g} of {goal:g}"
    if abs(total - goal) <= goal / 10:
        return _yes(rule, says)
    return _no(rule, says, f"The “{rule.field}” of all items adds up to {total:g}; it must add up to {goal:g}.")


def _answering(text: str, rule: LinksAnswer, known: Known) -> Finding:
    links = list(dict.fromkeys(link.rstrip(".,;:!?") for link in _LINK.findall(text)))[:MOST_LINKS]
    if known.dead is None or not links:
        return _yes(rule, "no links" if not links else "links not tried")
    wrong = [(link, why) for link in links if (why := known.dead(link))]
    if not wrong:
        return _yes(rule, "its link answers" if len(links) == 1 else f"all {len(links)} links answer")
    says = f"{wrong[0][0]} does not answer" if len(wrong) == 1 else f"{len(wrong)} links do not answer"
    return _no(
        rule, says, "These links lead nowhere; leave them out or use those of the material: " + ", ".join(x for x, _ in wrong)
    )


def _yes(rule: _Rule, says: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=True, says=says)  # type: ignore[attr-defined]


def _no(rule: _Rule, says: str, reason: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=False, says=says, reason=reason)  # type: ignore[attr-defined]
