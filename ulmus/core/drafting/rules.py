"""Rules: measurable demands on a draft, as data, in words for the prompt, and whether they can all be kept.

A *must* rule sends a draft back to the model with the measured reason; a *should* rule is only shown. `measuring` checks
them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..pieces.lengths import CHARACTERS, Counting

PLAIN_ELEMENTS = ("p", "br", "a", "b", "strong", "i", "em", "ul", "ol", "li", "h1", "h2", "h3", "h4", "blockquote", "img", "hr")
Strength = Literal["must", "should"]

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


class _Rule(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")

    strength: Strength = "must"


class Length(_Rule):
    """Greatest and least length, in characters or as a channel counts."""

    rule: Literal["length"] = "length"
    most: int | None = Field(None, ge=1, le=200_000)
    least: int | None = Field(None, ge=0, le=200_000)
    counting: Counting = CHARACTERS

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


class Unlike(_Rule):
    """At most so much like any piece of the brand that went out before, in per cent."""

    rule: Literal["unlike"] = "unlike"
    most: int = Field(60, ge=1, le=100)


class LinksAnswer(_Rule):
    """Every link in it leads somewhere."""

    rule: Literal["links_answer"] = "links_answer"


class AddsUp(_Rule):
    """The numbers in a field of the answer (of each item, for a list) add up to a total, within a tenth."""

    rule: Literal["adds_up"] = "adds_up"
    field: str = Field(min_length=1, max_length=40)
    text: str = Field(min_length=1, max_length=200)


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
    | CleanHtml
    | Unlike
    | LinksAnswer
    | AddsUp,
    Field(discriminator="rule"),
]


BRAND, NEVER, ALWAYS = "brand", "never", "always"
"""Where a brand's rules stand among the values of a run."""
MOST_BRAND_WORDS = 200


def of_brand(facts: object, whole: bool = True) -> list[Rule]:
    """The rules of a brand for every draft, from its facts: what it *never* says and, for a `whole` piece, of what it *always* says
    one; a word or phrase on each line."""
    if not isinstance(facts, Mapping):
        return []
    never, always = (
        [line.strip(' \t-•*,;“”"')[:100] for line in str(facts.get(name) or "").splitlines() if line.strip(' \t-•*,;“”"')]
        for name in (NEVER, ALWAYS)
    )
    out: list[Rule] = [Lacks(words=never[:MOST_BRAND_WORDS])] if never else []
    return [*out, Says(words=always[:MOST_BRAND_WORDS])] if always and whole else out


class Finding(BaseModel):
    """One rule measured on one draft. `says` is short, for a mark; `reason` tells the model what to change."""

    model_config = ConfigDict(frozen=True)

    rule: str
    strength: Strength
    kept: bool
    says: str
    reason: str = ""


def demand(rule: Rule) -> str:
    """The rule as an instruction for the prompt, so that model and measure agree."""
    match rule:
        case Length():
            parts = [f"at most {rule.most} {rule.counting.words}"] if rule.most is not None else []
            parts += [f"at least {rule.least} {rule.counting.words}"] if rule.least else []
            return "Write " + " and ".join(parts) + "."
        case Hashtags():
            return f"Use {span(rule.least, rule.most)} hashtag{'' if rule.most == 1 else 's'}."
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
            return f"Use {span(rule.least, rule.most)} {many}."
        case Says():
            return "Say at least one of these: " + ", ".join(rule.words) + "."
        case Easy():
            return "Write short sentences of short words, easy to read."
        case InLanguage():
            return f"Write in {LANGUAGES.get(rule.code, rule.code)}."
        case CleanHtml():
            return "Write HTML with these elements only: " + ", ".join(rule.allowed) + "."
        case Unlike():
            return "Do not say it as it was said before; find words and an angle of its own."
        case AddsUp():
            return f"The “{rule.field}” of all items must add up to {rule.text.strip()}."
        case LinksAnswer():
            return "Use only links that stand in the material."


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


def span(least: int, most: int) -> str:
    """A range in words, such as *1 to 3*."""
    if least == most:
        return "no" if most == 0 else f"exactly {most}"
    return f"{least} to {most}" if least else f"at most {most}"
