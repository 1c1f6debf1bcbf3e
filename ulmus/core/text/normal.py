"""One normal form in which texts are compared, and what it is to stand in a text whole."""

from __future__ import annotations

import unicodedata
from functools import lru_cache

import regex

_SAME = str.maketrans(
    {
        **dict.fromkeys("’‘ʼ‛′`´", "'"),
        **dict.fromkeys("“”„‟«»″", '"'),
        **dict.fromkeys("‐‑‒–—―−﹣－", "-"),
        **dict.fromkeys("\u00ad\u200b\u2060\ufeff\u200e\u200f\ufe0f", ""),
        "…": "...",
    }
)
_MARKUP = regex.compile(r"(?<![\p{L}\p{N}])[*_~`]{1,3}(?=\S)|(?<=\S)[*_~`]{1,3}(?![\p{L}\p{N}])")
_BLANKS = regex.compile(r"\s+")
_UNSPACED = r"\p{Han}\p{Hiragana}\p{Katakana}\p{Thai}\p{Lao}\p{Khmer}\p{Myanmar}"


def normal(text: str) -> str:
    """A text in the form that is compared: NFC (UAX #15), one apostrophe, quotation mark and hyphen, one blank for any white
    space, without soft hyphens, invisible signs and the stars and underlines of Markdown. Capitals stay."""
    plain = unicodedata.normalize("NFC", text).translate(_SAME)
    return _BLANKS.sub(" ", _MARKUP.sub("", plain)).strip()


def contained(wanted: str, text: str) -> bool:
    """Whether `wanted` stands whole in a text in normal form, capitals as they are: *9:30* is not in *19:30*."""
    plain = normal(wanted)
    return not plain or _whole(plain, False).search(text) is not None


def said(phrase: str, text: str) -> bool:
    """Whether a word or phrase is said in a text in normal form, whole and without regard to capitals; a hyphen is as good as a
    blank."""
    plain = normal(phrase)
    return bool(plain) and _whole(plain, True).search(text) is not None


@lru_cache(2000)
def _whole(plain: str, loose: bool) -> regex.Pattern[str]:
    inner = regex.escape(plain, literal_spaces=True)
    if loose:
        inner = regex.sub(r"\\?[- ]", "[- ]", inner)
    before = rf"(?<![\p{{L}}\p{{N}}\p{{M}}_@](?<![{_UNSPACED}]))(?<!\d[.,:])" if _joins(plain[0]) else ""
    before = before or (r"(?<![\p{L}\p{N}_])" if plain[0] in "@#" else "")
    after = rf"(?![\p{{L}}\p{{N}}\p{{M}}_](?<![{_UNSPACED}]))(?![.,:]\d)" if _joins(plain[-1]) else ""
    if plain[0] == "@" and after:
        after += r"(?![.@-][\p{L}\p{N}])"
    return regex.compile(before + inner + after, regex.I | regex.F if loose else 0)


def _joins(sign: str) -> bool:
    """Whether a sign is part of words that have blanks round them."""
    return regex.match(rf"(?![{_UNSPACED}])[\p{{L}}\p{{N}}_]", sign) is not None
