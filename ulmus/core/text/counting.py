"""What people count in a text: emoji (UTS #51), words, hashtags, mentions, links, and the seconds it takes to say."""

from __future__ import annotations

import math
from functools import cache, lru_cache
from typing import Any, NamedTuple

import regex

_EMOJI = regex.compile(
    r"\p{Regional_Indicator}{2}"  # a flag
    r"|[0-9#*]\uFE0F?\u20E3"  # a keycap
    r"|(?:\p{Emoji_Presentation}|\p{Extended_Pictographic}(?=[\uFE0F\u200D]|\p{Emoji_Modifier}))\uFE0F?\p{Emoji_Modifier}?"
    r"(?:[\U000E0020-\U000E007E]+\U000E007F)?"  # the flag of a part of a country
    r"(?:\u200D\p{Extended_Pictographic}\uFE0F?\p{Emoji_Modifier}?)*"
)
_UNSPACED = r"\p{Han}\p{Hiragana}\p{Katakana}\p{Thai}\p{Lao}\p{Khmer}\p{Myanmar}"
"""Scripts that put no blanks between words."""
_WORD = regex.compile(
    rf"[{_UNSPACED}][{_UNSPACED}\p{{M}}ー]*"
    rf"|(?:(?![{_UNSPACED}])[\p{{L}}\p{{N}}\p{{M}}\u200C\u200D])+"
    rf"(?:(?:(?<=\p{{N}})[.,:/·](?=\p{{N}})|['’ʼ‐‑·\-](?=[\p{{L}}\p{{N}}]))(?:(?![{_UNSPACED}])[\p{{L}}\p{{N}}\p{{M}}\u200C\u200D])+)*"
)
_LETTERS_A_WORD = 2
"""In scripts without blanks a word has about two letters."""
_UNSPACED_RUN = regex.compile(rf"[{_UNSPACED}]")
_TAG = regex.compile(r"(?<![\p{L}\p{N}_&/#＃])[#＃](?=[\p{N}_]*\p{L})[\p{L}\p{N}\p{M}_·\u200C\u200D]+")
_MAIL = regex.compile(r"(?<![@\p{L}\p{N}])[\p{L}\p{N}_.+-]*[\p{L}\p{N}_+-]@[\p{L}\p{N}-]+(?:\.[\p{L}\p{N}-]+)+")
_MENTION = regex.compile(
    r"(?<![\p{L}\p{N}_@=/])@(?=[\p{N}_.]*\p{L})[\p{L}\p{N}_]+(?:[.-]+[\p{L}\p{N}_]+)*(?:@[\p{L}\p{N}-]+(?:\.[\p{L}\p{N}-]+)+)?"
)
_STRETCH = regex.compile(r"[^\s<>]+")
_MAYBE_LINK = regex.compile(r"://|\w\.\p{L}")
_PARTS = (" ", "\n", "\t", "<", ">", "\r", "\u00a0")
_LONGEST_LINK = 4000
_CLOSES = {")": "(", "]": "[", "}": "{", "”": "“", "’": "‘", "»": "«", '"': "", "'": ""}
_TOPS = "app art blog cafe club community dev example farm garden health help live media news one online page shop site social space store studio team today tools travel world"
"""Endings of hosts that people write without ``https://``, beside those of countries and the oldest ones; `example` is kept for
examples (RFC 2606)."""


class Link(NamedTuple):
    """A link as it stands in a text (`text`), with its place, and where it leads (`address`)."""

    text: str
    start: int
    end: int
    address: str


def emoji(text: str) -> list[str]:
    """The emoji of a text, one for each that is seen: a family or a flag is one; signs such as ✓ or ™ are none (UTS #51)."""
    return _EMOJI.findall(text)


def words(text: str) -> int:
    """How many words there are. *well-known* and *1,250.50* are one; a link is one; in scripts without blanks two letters are."""
    found = links(text)
    return len(found) + _count(_blanked(text, found))


def _count(text: str) -> int:
    total = 0
    for match in _WORD.finditer(text):
        said = match.group()
        total += math.ceil(len(said) / _LETTERS_A_WORD) if _UNSPACED_RUN.match(said) else 1
    return total


def hashtags(text: str) -> list[str]:
    """The hashtags of a text, as networks take them: ``#`` and letters, figures or ``_``, of which one is a letter; not in links."""
    return _TAG.findall(without_links(text))


def mentions(text: str) -> list[str]:
    """Who is called by ``@``, also with a host behind it; mail addresses and what stands in links are none."""
    return _MENTION.findall(_MAIL.sub(" ", without_links(text)))


def links(text: str) -> list[Link]:
    """The links of a text as people write them: with or without a scheme, without the marks that follow them."""
    return list(_links(text)) if _MAYBE_LINK.search(text) else []


@lru_cache(64)
def _links(text: str) -> tuple[Link, ...]:
    out: list[Link] = []
    at = 0
    for hint in _MAYBE_LINK.finditer(text):
        if hint.start() < at:
            continue
        begin = max((text.rfind(sign, at, hint.start()) for sign in _PARTS), default=-1) + 1
        begin = max(begin, at)
        found = _STRETCH.match(text, begin)
        if found is None:
            continue
        at = found.end()
        if at - begin > _LONGEST_LINK:
            continue
        for link in _linkify().match(found.group()) or ():
            if link.schema in ("", "http:", "https:"):
                said = _trimmed(link.raw)
                host = said.partition("/")[0].rpartition(".")[2].partition(":")[0]
                if link.schema or said.startswith("www.") or host == host.lower():
                    start = begin + link.index
                    out.append(Link(said, start, start + len(said), said if link.schema else f"https://{said}"))
    return tuple(out)


def without_links(text: str) -> str:
    """The text with a blank in the place of each link."""
    return _blanked(text, links(text))


def _blanked(text: str, found: list[Link]) -> str:
    out, at = [], 0
    for link in found:
        out += [text[at : link.start], " "]
        at = link.end
    return "".join([*out, text[at:]])


def _trimmed(link: str) -> str:
    """A link without marks behind it, and without a closing bracket that was not opened in it."""
    while link:
        last = link[-1]
        if last in ".,;:!?…*_`|" or (last in _CLOSES and (not _CLOSES[last] or link.count(last) > link.count(_CLOSES[last]))):
            link = link[:-1]
        else:
            break
    return link


@cache
def _linkify() -> Any:
    from linkify_it import LinkifyIt  # loaded on first use: it makes its patterns then

    return LinkifyIt(options={"fuzzy_email": True}).tlds(_TOPS.split(), True)


_STAGE = regex.compile(r"\[[^\]\n]{1,80}\](?!\()|^[\p{Lu} ]{2,24}:(?=\s)", regex.M)
_MARK = regex.compile(r"\[([^\]\n]+)\]\([^)\s]+\)|[*_`#>~]+")
_FIGURE = regex.compile(r"(?<![\p{L}\p{N}])[+-]?\d[\d.,:\u00a0\u202f]*\d%?|\d%?")


def seconds_to_say(text: str, pace: int) -> float:
    """How long a text takes to say, at so many words a minute. Figures are read out (*1,250* is four words); emoji, links,
    markup, stage directions in square brackets and the names of speakers are not."""
    spoken = _MARK.sub(lambda m: m.group(1) or " ", _STAGE.sub(" ", without_links(text)))
    figures = [m.group() for m in _FIGURE.finditer(spoken)]
    bare = _FIGURE.sub(" ", _EMOJI.sub(" ", spoken))
    return (_count(bare) + sum(_read_out(figure) for figure in figures)) * 60 / pace


def _read_out(figure: str) -> int:
    """How many words a figure is when it is said."""
    extra = figure.endswith("%") + figure.startswith(("+", "-"))
    parts = regex.split(r"[:]", figure.strip("%+-"))
    if len(parts) > 1:
        return extra + sum(_whole(part) for part in parts if part.strip("0"))
    bare = regex.sub(r"[.,\u00a0\u202f](?=\d{3}(?:\D|$))", "", parts[0])
    whole, _, rest = bare.replace(",", ".").partition(".")
    decimals = sum(c.isdigit() for c in rest)
    return extra + _whole(whole) + (1 + decimals if decimals else 0)


def _whole(digits: str) -> int:
    if len(digits) > 15 or (digits.startswith("0") and len(digits) > 1):
        return len(digits)  # a telephone number is read figure by figure
    if len(digits) == 4 and digits[:2] in ("17", "18", "19", "20"):
        return 2 + (digits[2] > "1" and digits[3] != "0")  # a year is read in two halves
    groups = [digits[max(0, i - 3) : i] for i in range(len(digits), 0, -3)]
    count = 0
    for n, group in enumerate(groups):
        value = int(group)
        if value:
            tens = value % 100
            count += 2 * (value >= 100) + (2 if tens > 20 and tens % 10 else 1 if tens else 0) + (n > 0)
    return max(1, count)
