"""A long text in parts that each keep within a length, broken where a reader would pause; or cut to one such part."""

from __future__ import annotations

import re

import regex

from .lengths import CHARACTERS, Counting, length

WINDOW = 8
"""How many code points one counted sign is looked through for, at most: more are a part by themselves."""
_SIGN = regex.compile(r"\X")
_PAUSES = (re.compile(r"\n\s*\n"), re.compile(r"\n"), re.compile(r"(?<=[.!?…])[\"”’)]*\s+"), re.compile(r"\s+"))


def parted(text: str, most: int, counting: Counting = CHARACTERS) -> list[str]:
    """`text` in parts of at most `most`, as `counting` counts: broken between paragraphs where that goes, else lines, sentences,
    words, and only within a word that is longer itself. Nothing but white space at the breaks is lost. Linear in the text.

    >>> parted("One two. Three four five. Six.", 18)
    ['One two.', 'Three four five.', 'Six.']
    """
    out: list[str] = []
    rest = text.strip()
    window = most * WINDOW
    while len(rest) > window or length(rest, counting) > most:
        cut = _cut(rest[: window + 64], most, counting)
        out.append(rest[:cut].rstrip())
        rest = rest[cut:].lstrip()
    return [*out, rest] if rest or not out else out


_TAIL = re.compile(r"(?:\s+(?:#\w+|https?://\S+))+\s*\Z")
_END = re.compile(r"[.!?…][\"”’)]*(?=\s|\Z)|\S(?=[ \t]*\n)")


def shortened(text: str, most: int, counting: Counting = CHARACTERS) -> str:
    """`text` cut to at most `most`, as `counting` counts: whole sentences or lines are left off at its end, but for the links and tags
    it ends with; only where not even the first sentence fits, it ends within it, with an ellipsis. Linear in the text.

    >>> shortened("One two. Three four five. Six. #beans", 34)
    'One two. Three four five. #beans'
    """
    text = text.strip()
    if len(text) <= most * WINDOW and length(text, counting) <= most:
        return text
    found = _TAIL.search(text)
    tail = found.group().rstrip() if found is not None and length(found.group(), counting) * 3 <= most * 2 else ""
    body = text[: found.start()] if found is not None and tail else text
    window = body[: most * WINDOW]
    end = _fitting(window, max(1, most - length(tail, counting)), counting)
    kept = window[:end]
    if end < len(body):
        ends = [m.end() for m in _END.finditer(body, 0, end + 8) if m.end() <= end]
        kept = body[: ends[-1]] if ends else _within(window, most - length(tail, counting), counting)
    return kept.rstrip() + tail


def _within(text: str, most: int, counting: Counting) -> str:
    """The whole words that fit with an ellipsis behind them."""
    cut = text[: _fitting(text, max(1, most - length("…", counting)), counting)]
    words = cut.rsplit(None, 1)
    return (words[0] if len(words) > 1 else cut).rstrip(" ,;:–-") + "…"


def _cut(text: str, most: int, counting: Counting) -> int:
    """The last place to break at, so that what stands before it keeps within `most`."""
    end = _fitting(text, most, counting)
    for pause in _PAUSES:
        places = [m.end() for m in pause.finditer(text, 0, end + 8) if m.start() + len(m.group().rstrip()) <= end]
        # A first part of a few words only because a paragraph ended there reads worse than a sentence more.
        if places and (places[-1] * 3 >= end or pause is _PAUSES[-1]) and text[: places[-1]].strip():
            return places[-1]
    return end


def _fitting(text: str, most: int, counting: Counting) -> int:
    """How many code points of `text` keep within `most`, no sign cut in two; at least one, so that it ends."""
    low, high = 1, len(text)
    while low < high:
        middle = (low + high + 1) // 2
        if length(text[:middle], counting) <= most:
            low = middle
        else:
            high = middle - 1
    return max((found.end() for found in _SIGN.finditer(text, 0, low + 32) if found.end() <= low), default=low)
