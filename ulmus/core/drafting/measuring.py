"""Measuring: every rule on a draft, by code.

A draft is measured as it is read: of HTML the text one sees and the addresses of its links, of all else what stands there. What a
word, a sentence, a link or an emoji is, `text` knows.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from .. import text as texts
from ..evidence import evidence
from ..pieces.lengths import length
from .demands import span
from .ease import LONGEST_SENTENCE, longest_sentence, reading_ease
from .echoes import echoes
from .parts import part_of
from .quotes import quoted
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
    NoEcho,
    NoEmoji,
    NoQuotes,
    NotStated,
    OnlyThePiece,
    Rule,
    Says,
    Sentences,
    Spoken,
    Strength,
    Unlike,
    Words,
    _Rule,
)
from .shapes import NOT_STATED
from .wrapping import wrapping

MOST_LINKS = 20
_A_LINK = re.compile(r"https?://\S+$", re.I)


@dataclass(frozen=True)
class Known:
    """What the measuring of some rules needs to know of the world: what the brand has published, and what is wrong with a
    link (nothing where it answers), the values of the answer, the language of a text (ISO 639-1, empty where it cannot be
    told), the instruction as it was written (with slots), and the sources. Where it is not known, such a rule counts as kept and
    says so."""

    published: Callable[[], Published] | None = None
    dead: Callable[[str], str] | None = None
    values: Mapping[str, Any] | None = None
    language_of: Callable[[str], str] | None = None
    instruction: str = ""
    sources: Mapping[str, str] | None = None


NOTHING_KNOWN = Known()


class Read:
    """A draft as it is read; what several rules go by is worked out once."""

    def __init__(self, draft: str, html: bool = False) -> None:
        self.raw = unicodedata.normalize("NFC", draft.strip())
        self.html = html or texts.is_html(self.raw)

    @cached_property
    def page(self) -> texts.html.Page:
        return texts.read(self.raw) if self.html else texts.html.Page(self.raw, ())

    @property
    def text(self) -> str:
        """What one sees."""
        return self.page.text

    @cached_property
    def plain(self) -> str:
        """What one sees, in normal form."""
        return texts.normal(self.text)

    @cached_property
    def prose(self) -> str:
        """What one sees without links, in normal form."""
        return texts.normal(texts.without_links(self.text))

    @cached_property
    def links(self) -> list[str]:
        """Where its links lead: of HTML those of its elements, and those that stand in its text besides."""
        hrefs = [href for href in self.page.hrefs if not href.lower().startswith(("mailto:", "tel:", "#"))]
        known = {_same(href) for href in hrefs}
        return [*hrefs, *(link.address for link in texts.links(self.text) if not self.html or _same(link.address) not in known)]


def measure(draft: str, rules: Sequence[Rule], known: Known = NOTHING_KNOWN) -> list[Finding]:
    """Every rule on `draft`, in the order of `rules`. Takes time linear in the draft."""
    read = Read(draft, any(isinstance(rule, CleanHtml) for rule in rules))
    return [_of_a_part(read, rule, known) if rule.of else _measure(read, rule, known) for rule in rules]


def _of_a_part(read: Read, rule: Rule, known: Known) -> Finding:
    """A rule about a part of the answer: kept where it is kept in each text there is of it, else as in the first that breaks it."""
    some = part_of(rule.of, read.text, known.values)
    if not some:
        return _yes(rule, f"{rule.of.replace('_', ' ')}: not measured here").model_copy(update={"of": rule.of})
    found = [(name, _measure(Read(text), rule, replace(known, values={rule.of: text}))) for name, text in some]
    name, finding = next(((name, one) for name, one in found if not one.kept), found[0])
    reason = f"In {name}: {finding.reason}" if finding.reason else ""
    return finding.model_copy(update={"of": rule.of, "says": f"{name}: {finding.says}", "reason": reason})


def broken(findings: Sequence[Finding], strength: Strength | None = "must") -> list[Finding]:
    """The findings that were not kept, of one strength or of any."""
    return [f for f in findings if not f.kept and (strength is None or f.strength == strength)]


def _measure(read: Read, rule: Rule, known: Known) -> Finding:
    match rule:
        case Length():
            return _long(read, rule)
        case Hashtags():
            n, wanted = len(texts.hashtags(read.text)), span(rule.least, rule.most)
            says = f"{n} hashtag{'' if n == 1 else 's'}"
            if rule.least <= n <= rule.most:
                return _yes(rule, says)
            return _no(rule, f"{says}, wants {wanted}", f"It has {says}; use {wanted}.")
        case NoEmoji():
            found = texts.emoji(read.text)
            if not found:
                return _yes(rule, "no emoji")
            return _no(rule, f"{len(found)} emoji", f"It contains emoji ({' '.join(found[:5])}); remove them.")
        case NoQuotes():
            if quoted(read.text):
                return _no(rule, "in quotation marks", "The whole piece stands in quotation marks; remove them.")
            return _yes(rule, "no quotation marks round it")
        case OnlyThePiece():
            wrapped = wrapping(read.raw).found or (wrapping(read.text).found if read.html else ())
            if not wrapped and echoes(read.text, known.instruction, whole=True):
                wrapped = ("words of the instruction",)
            if wrapped:
                says = f"more than the piece: {', '.join(wrapped)}"
                return _no(rule, says, f"Give nothing but the piece; leave out {', '.join(wrapped)}.")
            return _yes(rule, "nothing but the piece")
        case Contains():
            wanted = " ".join(rule.text.split())
            what = "the link" if _A_LINK.match(wanted) else f"“{wanted[:40]}”"
            if holds(read, wanted):
                return _yes(rule, f"contains {what}")
            return _no(rule, f"lacks {what}", f"It must contain exactly this: {wanted}")
        case Words():
            return _counted(rule, texts.words(read.text), rule.least, rule.most, "word")
        case Sentences():
            return _counted(rule, len(texts.sentences(read.text)), rule.least, rule.most, "sentence")
        case Spoken():
            seconds = round(texts.seconds_to_say(read.text, rule.pace))
            over = f"It takes {seconds} seconds to say; at most {rule.most} are allowed."
            says = f"{seconds} of {rule.most} seconds"
            return _yes(rule, says) if seconds <= rule.most else _no(rule, says, over)
        case Emoji():
            return _counted(rule, len(texts.emoji(read.text)), rule.least, rule.most, "emoji")
        case Links():
            return _counted(rule, len(read.links), rule.least, rule.most, "link")
        case Mentions():
            return _counted(rule, len(texts.mentions(read.text)), rule.least, rule.most, "mention")
        case Says():
            said = [phrase for phrase in rule.words if _said(read, phrase)]
            if said:
                return _yes(rule, f"says “{said[0]}”")
            return _no(rule, "says none of the words", "Say at least one of these: " + ", ".join(rule.words) + ".")
        case Lacks():
            banned = [phrase for phrase in rule.words if _said(read, phrase)]
            if not banned:
                return _yes(rule, "no banned words")
            return _no(rule, "says " + ", ".join(f"“{w}”" for w in banned), "Do not use: " + ", ".join(banned) + ".")
        case Easy():
            return _easy(read, rule)
        case InLanguage():
            return _in_language(read, rule, known)
        case CleanHtml():
            wrong = texts.faults(read.raw, rule.allowed)
            if not wrong:
                return _yes(rule, "HTML well formed")
            return _no(rule, wrong[0], "The HTML is not as it should be: " + "; ".join(wrong[:5]) + ".")
        case NoEcho():
            return _echoing(read, rule, known)
        case NotStated():
            return _stated(read, rule, known)
        case Unlike():
            return _unlike(read.text, rule, known)
        case AddsUp():
            return _adding(rule, known)
        case LinksAnswer():
            return _answering(read, rule, known)


def holds(read: Read, wanted: str) -> bool:
    """Whether a draft contains a text whole; a link where one leads to just that address."""
    if not wanted.strip():
        return True
    if _A_LINK.match(wanted.strip()):
        return _same(wanted.strip()) in map(_same, read.links)
    return texts.contained(wanted, read.plain) or (read.html and "<" in wanted and wanted in read.raw)


def _same(address: str) -> str:
    """An address in the form in which two are the same: scheme and host in small letters, no bare slash at the end (RFC 3986,
    6.2)."""
    scheme, mark, rest = unicodedata.normalize("NFC", address.strip()).partition("://")
    host, slash, path = rest.partition("/")
    return f"{scheme.lower()}{mark}{host.lower()}{slash}{path}".removesuffix("/")


def _said(read: Read, phrase: str) -> bool:
    return texts.said(phrase, read.plain if "." in phrase or "/" in phrase else read.prose)


def _long(read: Read, rule: Length) -> Finding:
    n = length(read.text, rule.counting)
    if rule.most is not None and n > rule.most:
        return _no(
            rule,
            f"{n} of {rule.most} characters",
            f"It has {n} characters; at most {rule.most} are allowed. Shorten it by {n - rule.most}.",
        )
    if rule.least is not None and n < rule.least:
        return _no(rule, f"{n} characters, needs {rule.least}", f"It has {n} characters; at least {rule.least} are needed.")
    return _yes(rule, f"{n} of {rule.most} characters" if rule.most else f"{n} characters")


def _counted(rule: Words | Sentences | Emoji | Links | Mentions, n: int, least: int | None, most: int | None, one: str) -> Finding:
    many = one if one == "emoji" else f"{one}s"
    says = f"{n} {one if n == 1 else many}"
    if most is not None and n > most:
        return _no(rule, f"{says}, at most {most}", f"It has {says}; at most {most} are allowed.")
    if least is not None and n < least:
        return _no(rule, f"{says}, at least {least}", f"It has {says}; at least {least} are needed.")
    return _yes(rule, says)


def _easy(read: Read, rule: Easy) -> Finding:
    ease, longest = reading_ease(read.text), longest_sentence(read.text)
    if ease is None:
        return _yes(rule, "reading ease not measured")
    if longest > LONGEST_SENTENCE and rule.least >= 50:
        return _no(rule, f"a sentence of {longest} words", f"A sentence has {longest} words; use sentences of at most 20.")
    if ease >= rule.least:
        return _yes(rule, f"reading ease {ease}")
    return _no(rule, f"reading ease {ease}, wants {rule.least}", "It is hard to read. Use shorter sentences and shorter words.")


def _in_language(read: Read, rule: InLanguage, known: Known) -> Finding:
    wanted = LANGUAGES.get(rule.code, rule.code)
    if known.language_of is None:
        return _yes(rule, "its language is not told here")
    code = known.language_of(texts.without_links(read.text))
    if code in ("", rule.code):
        return _yes(rule, f"in {wanted}" if code else "too short to tell its language")
    got = LANGUAGES.get(code, code)
    return _no(rule, f"in {got}", f"It is written in {got}; write it in {wanted}.")


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


def _echoing(read: Read, rule: NoEcho, known: Known) -> Finding:
    if not known.instruction:
        return _yes(rule, "not compared with the instruction")
    found = echoes(read.text, known.instruction)
    if not found:
        return _yes(rule, "does not repeat the instruction")
    return _no(
        rule, f"repeats the instruction: “{found[0][:60]}”", f"It repeats the instruction (“{found[0][:200]}”); leave that out."
    )


def _stated(read: Read, rule: NotStated, known: Known) -> Finding:
    if known.sources is None:
        return _yes(rule, "not compared with the sources")
    wrong = [one for one in evidence(read.text, known.sources).flagged if one.level != "doubtful" and not _is_open(one.text)]
    if not wrong:
        return _yes(rule, "says nothing the sources do not say")
    said = "; ".join(f"“{one.text[:120]}”" for one in wrong[:5])
    more = f" and {len(wrong) - 1} more" if len(wrong) > 1 else ""
    return _no(
        rule,
        f"stands in no source: “{wrong[0].text[:60]}”{more}",
        f"This stands in no source: {said}. Where the material says nothing, write “not stated”, or leave it out.",
    )


def _is_open(text: str) -> bool:
    """Whether a sentence says that something is not known."""
    return text.strip(" .:-–").rpartition(":")[2].strip().casefold() in NOT_STATED or "not stated" in text.casefold()


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


def _answering(read: Read, rule: LinksAnswer, known: Known) -> Finding:
    links = list(dict.fromkeys(read.links))[:MOST_LINKS]
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
