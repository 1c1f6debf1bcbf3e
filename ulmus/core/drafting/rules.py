"""Rules: measurable demands on a draft, checked by code.

A *must* rule sends a draft back to the model with the measured reason; a *should* rule is only shown.
Length is counted in Unicode code points after NFC normalisation (UAX #15); emoji follow the
Extended_Pictographic ranges of UTS #51 and flags; a hashtag is ``#`` and a run of word characters.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from html.parser import HTMLParser
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

PLAIN_ELEMENTS = ("p", "br", "a", "b", "strong", "i", "em", "ul", "ol", "li", "h1", "h2", "h3", "h4", "blockquote", "img", "hr")
Strength = Literal["must", "should"]

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
_SENTENCES = re.compile(r"[^.!?\n]*\w[^.!?\n]*(?:[.!?](?!\s|$|[”\"’)])[^.!?\n]*)*(?:[.!?]+|\n|$)")
_VOID = frozenset(("br", "img", "hr", "input", "meta", "link", "wbr", "source", "col", "area", "base", "embed", "track"))
LANGUAGES = {
    "en": "English",
    "de": "German",
    "fr": "French",
    "es": "Spanish",
    "it": "Italian",
    "nl": "Dutch",
    "pt": "Portuguese",
    "pl": "Polish",
    "sv": "Swedish",
    "da": "Danish",
    "no": "Norwegian",
    "fi": "Finnish",
    "cs": "Czech",
    "tr": "Turkish",
}
_QUOTES = {"“": "”", "‘": "’", '"': '"', "'": "'", "«": "»", "»": "«", "„": "“", "`": "`"}
_PREAMBLE = re.compile(
    r"^(?:sure|certainly|of course|here(?:'s| is| are)|okay|ok)\b[^\n]{0,80}[:!]\s*\n|^(?:post|draft|caption)\s*:", re.I
)


class _Rule(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    strength: Strength = "must"


class Length(_Rule):
    """Greatest and least length in characters."""

    rule: Literal["length"] = "length"
    most: int | None = Field(None, ge=1, le=200_000)
    least: int | None = Field(None, ge=0, le=200_000)

    @model_validator(mode="after")
    def _some_bound(self) -> Length:
        if self.most is None and self.least is None:
            raise ValueError("give a greatest or a least length")
        return self


class Hashtags(_Rule):
    """How many hashtags."""

    rule: Literal["hashtags"] = "hashtags"
    least: int = Field(0, ge=0, le=50)
    most: int = Field(50, ge=0, le=50)


class NoEmoji(_Rule):
    """No emoji."""

    rule: Literal["no_emoji"] = "no_emoji"


class NoQuotes(_Rule):
    """No quotation marks round the whole."""

    rule: Literal["no_quotes"] = "no_quotes"


class OnlyThePiece(_Rule):
    """Nothing but the piece: no “Here is your post:”, no code fence."""

    rule: Literal["only_the_piece"] = "only_the_piece"


class Contains(_Rule):
    """Must contain a text (which may be a slot)."""

    rule: Literal["contains"] = "contains"
    text: str = Field(min_length=1, max_length=2000)


class Lacks(_Rule):
    """Must not contain any of some words, whole words and without regard to capitals."""

    rule: Literal["lacks"] = "lacks"
    words: list[str] = Field(min_length=1, max_length=200)


class Words(_Rule):
    """Greatest and least number of words."""

    rule: Literal["words"] = "words"
    most: int | None = Field(None, ge=1, le=50_000)
    least: int | None = Field(None, ge=0, le=50_000)


class Sentences(_Rule):
    """Greatest and least number of sentences."""

    rule: Literal["sentences"] = "sentences"
    most: int | None = Field(None, ge=1, le=5000)
    least: int | None = Field(None, ge=0, le=5000)


class Spoken(_Rule):
    """Greatest number of seconds it takes to say, at so many words a minute."""

    rule: Literal["spoken"] = "spoken"
    most: int = Field(ge=1, le=36_000)
    pace: int = Field(150, ge=60, le=300)


class Emoji(_Rule):
    """How many emoji."""

    rule: Literal["emoji"] = "emoji"
    least: int = Field(0, ge=0, le=50)
    most: int = Field(50, ge=0, le=50)


class Links(_Rule):
    """How many links."""

    rule: Literal["links"] = "links"
    least: int = Field(0, ge=0, le=200)
    most: int = Field(200, ge=0, le=200)


class Mentions(_Rule):
    """How many people are called by ``@``."""

    rule: Literal["mentions"] = "mentions"
    least: int = Field(0, ge=0, le=50)
    most: int = Field(50, ge=0, le=50)


class Says(_Rule):
    """Must say at least one of some words or phrases."""

    rule: Literal["says"] = "says"
    words: list[str] = Field(min_length=1, max_length=200)


class Easy(_Rule):
    """Reading ease of at least so much (Flesch 1948: 100 is very easy, 60 plain, 30 hard); for English."""

    rule: Literal["easy"] = "easy"
    least: int = Field(60, ge=0, le=100)


class InLanguage(_Rule):
    """Written in a language (ISO 639-1)."""

    rule: Literal["language"] = "language"
    code: str = Field("en", pattern="^[a-z]{2}$")


class CleanHtml(_Rule):
    """HTML that is well formed and holds no element but these."""

    rule: Literal["html"] = "html"
    allowed: list[str] = Field(default_factory=lambda: list(PLAIN_ELEMENTS), max_length=100)


Rule = Annotated[
    Length
    | Words
    | Sentences
    | Spoken
    | Hashtags
    | Emoji
    | NoEmoji
    | Links
    | Mentions
    | NoQuotes
    | OnlyThePiece
    | Contains
    | Says
    | Lacks
    | Easy
    | InLanguage
    | CleanHtml,
    Field(discriminator="rule"),
]


class Finding(BaseModel):
    """One rule measured on one draft. `says` is short, for a mark; `reason` tells the model what to change."""

    model_config = ConfigDict(frozen=True)

    rule: str
    strength: Strength
    kept: bool
    says: str
    reason: str = ""


def measure(draft: str, rules: Sequence[Rule]) -> list[Finding]:
    """Every rule on `draft`, in the order of `rules`. Takes time linear in the draft."""
    text = unicodedata.normalize("NFC", draft.strip())
    return [_measure(text, rule) for rule in rules]


def broken(findings: Sequence[Finding], strength: Strength | None = "must") -> list[Finding]:
    """The findings that were not kept, of one strength or of any."""
    return [f for f in findings if not f.kept and (strength is None or f.strength == strength)]


def demand(rule: Rule) -> str:
    """The rule as an instruction for the prompt, so that model and measure agree."""
    match rule:
        case Length():
            parts = [f"at most {rule.most} characters"] if rule.most is not None else []
            parts += [f"at least {rule.least} characters"] if rule.least else []
            return "Write " + " and ".join(parts) + "."
        case Hashtags():
            return f"Use {_span(rule.least, rule.most)} hashtag{'' if rule.most == 1 else 's'}."
        case NoEmoji():
            return "Use no emoji."
        case NoQuotes():
            return "Put no quotation marks round the whole."
        case OnlyThePiece():
            return "Answer with nothing but the piece."
        case Contains():
            return f"Include this exactly: {rule.text}"
        case Lacks():
            return "Do not use these words: " + ", ".join(rule.words) + "."
        case Words() | Sentences():
            what = rule.rule
            parts = [f"at most {rule.most} {what}"] if rule.most is not None else []
            parts += [f"at least {rule.least} {what}"] if rule.least else []
            return "Write " + " and ".join(parts or [f"any number of {what}"]) + "."
        case Spoken():
            return f"Write at most {int(rule.most * rule.pace / 60)} words: it is spoken, and may take {rule.most} seconds."
        case Emoji() | Links() | Mentions():
            many = rule.rule if rule.most != 1 or rule.rule == "emoji" else rule.rule.removesuffix("s")
            return f"Use {_span(rule.least, rule.most)} {many}."
        case Says():
            return "Say at least one of these: " + ", ".join(rule.words) + "."
        case Easy():
            return "Write short sentences of short words, easy to read."
        case InLanguage():
            return f"Write in {LANGUAGES.get(rule.code, rule.code)}."
        case CleanHtml():
            return "Write HTML with these elements only: " + ", ".join(rule.allowed) + "."


def contradictions(rules: Sequence[Rule]) -> list[str]:
    """Rules that cannot all be kept, in words; empty where they can."""
    most = min((r.most for r in rules if isinstance(r, Length) and r.most is not None), default=None)
    least = max((r.least for r in rules if isinstance(r, Length) and r.least is not None), default=0)
    out = []
    if most is not None and least > most:
        out.append(f"No draft can have at least {least} and at most {most} characters.")
    tags = [r for r in rules if isinstance(r, Hashtags)]
    if tags and max(r.least for r in tags) > min(r.most for r in tags):
        out.append("No draft can keep the numbers of hashtags asked for.")
    for kind in (Words, Sentences, Links, Mentions, Emoji):
        bounds = [r for r in rules if isinstance(r, kind)]
        least_one = max((r.least or 0 for r in bounds), default=0)
        if any(r.most is not None and r.most < least_one for r in bounds):
            out.append(f"No draft can keep the numbers of {bounds[0].rule} asked for.")
    if any(isinstance(r, NoEmoji) for r in rules) and any(isinstance(r, Emoji) and r.least for r in rules):
        out.append("Emoji are asked for and forbidden.")
    if len({r.code for r in rules if isinstance(r, InLanguage)}) > 1:
        out.append("No draft can be in two languages.")
    wanted = [r.text for r in rules if isinstance(r, Contains)]
    if most is not None and any("<<" not in w and len(w) > most for w in wanted):
        out.append(f"The text that must be contained is longer than {most} characters.")
    return out


def _measure(text: str, rule: Rule) -> Finding:
    match rule:
        case Length():
            n = len(text)
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
            n, span = len(_HASHTAG.findall(text)), _span(rule.least, rule.most)
            says = f"{n} hashtag{'' if n == 1 else 's'}"
            if rule.least <= n <= rule.most:
                return _yes(rule, says)
            return _no(rule, f"{says}, wants {span}", f"It has {says}; use {span}.")
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
            return _counted(rule, len(_SENTENCES.findall(text)), rule.least, rule.most, "sentence")
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
            from .language import language_of  # loaded on first use: it is large

            code = language_of(_LINK.sub("", text))
            if code in ("", rule.code):
                return _yes(rule, f"in {LANGUAGES.get(rule.code, rule.code)}" if code else "too short to tell its language")
            wanted, got = LANGUAGES.get(rule.code, rule.code), LANGUAGES.get(code, code)
            return _no(rule, f"in {got}", f"It is written in {got}; write it in {wanted}.")
        case CleanHtml():
            wrong = html_faults(text, rule.allowed)
            if not wrong:
                return _yes(rule, "HTML well formed")
            return _no(rule, wrong[0], "The HTML is not as it should be: " + "; ".join(wrong[:5]) + ".")
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


def reading_ease(text: str) -> int | None:
    """Reading ease after Flesch (1948), from 0 to 100; ``None`` for fewer than twelve words. Syllables are groups of vowels."""
    words = re.findall(r"[A-Za-z]+(?:['’][a-z]+)?", _LINK.sub("", text))
    sentences = len(_SENTENCES.findall(text))
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


def _span(least: int, most: int) -> str:
    if least == most:
        return "no" if most == 0 else f"exactly {most}"
    return f"{least} to {most}" if least else f"at most {most}"


def _yes(rule: _Rule, says: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=True, says=says)  # type: ignore[attr-defined]


def _no(rule: _Rule, says: str, reason: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=False, says=says, reason=reason)  # type: ignore[attr-defined]
