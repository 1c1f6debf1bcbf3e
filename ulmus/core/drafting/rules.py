"""Rules: measurable demands on a draft, checked by code.

A *must* rule sends a draft back to the model with the measured reason; a *should* rule is only shown.
Length is counted in Unicode code points after NFC normalisation (UAX #15); emoji follow the
Extended_Pictographic ranges of UTS #51 and flags; a hashtag is ``#`` and a run of word characters.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

Strength = Literal["must", "should"]

_HASHTAG = re.compile(r"(?<![\w&/#])#(?!\d+\b)\w+")
_EMOJI = re.compile(
    "[\U0001f1e6-\U0001f1ff\U0001f300-\U0001faff\U00002600-\U000027bf\U00002b00-\U00002bff"
    "\U0001f000-\U0001f2ff\U0000231a-\U0000231b\U000023e9-\U000023fa\U000025fb-\U000025fe\u200d\ufe0f\u20e3]+"
)
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


Rule = Annotated[Length | Hashtags | NoEmoji | NoQuotes | OnlyThePiece | Contains | Lacks, Field(discriminator="rule")]


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
        case Lacks():
            words = [w for w in rule.words if re.search(rf"(?<!\w){re.escape(w)}(?!\w)", text, re.I)]
            if not words:
                return _yes(rule, "no banned words")
            return _no(rule, "says " + ", ".join(f"“{w}”" for w in words), "Do not use: " + ", ".join(words) + ".")


def _span(least: int, most: int) -> str:
    if least == most:
        return "no" if most == 0 else f"exactly {most}"
    return f"{least} to {most}" if least else f"at most {most}"


def _yes(rule: _Rule, says: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=True, says=says)  # type: ignore[attr-defined]


def _no(rule: _Rule, says: str, reason: str) -> Finding:
    return Finding(rule=rule.rule, strength=rule.strength, kept=False, says=says, reason=reason)  # type: ignore[attr-defined]
