"""Rules: measurable demands on a draft, as data.

A *must* rule sends a draft back to the model with the measured reason; a *should* rule is only shown. `measuring` checks
them, `demands` puts them in words, `filling` fills their texts in.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Literal, Self

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


PARTS = {
    "first_sentence": "the first sentence",
    "first_line": "the first line",
    "first_paragraph": "the first paragraph",
    "last_paragraph": "the last paragraph",
    "last_line": "the last line",
}
"""What a rule may be about besides the whole and a field of the answer."""


class _Rule(BaseModel):
    """`of` is the field of the answer it is about, or one of `PARTS`; empty for the whole. `slots` has texts with slots for what
    is otherwise a number: they are filled in for each item (see `settled`)."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    strength: Strength = "must"
    of: str = Field("", max_length=40)
    slots: dict[str, str] = Field(default={}, max_length=3)

    @model_validator(mode="after")
    def _slots_of_its_own(self) -> Self:
        if unknown := next((name for name in self.slots if name not in ("most", "least") or not hasattr(self, name)), None):
            raise ValueError(f"this rule has no number called “{unknown}”")
        return self


class Length(_Rule):
    """Greatest and least length, in characters or as a channel counts."""

    rule: Literal["length"] = "length"
    most: int | None = Field(None, ge=1, le=200_000)
    least: int | None = Field(None, ge=0, le=200_000)
    counting: Counting = CHARACTERS

    @model_validator(mode="after")
    def _some_bound(self) -> Length:
        if self.most is None and self.least is None and not self.slots:
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
    """Written in a language (ISO 639-1), or in the one that a text with slots names."""

    rule: Literal["language"] = "language"
    code: str = Field("en", pattern=r"^[a-z]{2}$|<<", max_length=200)


class CleanHtml(_Rule):
    """HTML that is well formed and holds no element but these."""

    rule: Literal["html"] = "html"
    allowed: list[str] = Field(default_factory=lambda: list(PLAIN_ELEMENTS), max_length=100)


class NoEcho(_Rule):
    """Does not repeat the instruction."""

    rule: Literal["no_echo"] = "no_echo"


class NotStated(_Rule):
    """What stands in no source says “not stated”, or is left out."""

    rule: Literal["not_stated"] = "not_stated"


class Unlike(_Rule):
    """At most so much like any piece that went out before, of the brand or into the channel, in per cent."""

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
    | NoEcho
    | NotStated
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
    """One rule measured on one draft. `says` is short, for a mark; `reason` tells the model what to change; `of` is what the
    rule is about, where that is not the whole."""

    model_config = ConfigDict(frozen=True)

    rule: str
    strength: Strength
    kept: bool
    says: str
    reason: str = ""
    of: str = ""
