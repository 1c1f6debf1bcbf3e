"""Quotation marks round the whole of a piece, as every language writes them, also before a line of tags or a link."""

from __future__ import annotations

import re

from ..text.sentences import speaks

_PAIRS = {
    "“": "”“",
    "„": "“”",
    "”": "”",
    "«": "»",
    "»": "«»",
    "‹": "›",
    "›": "‹›",
    "‚": "‘’",
    "‘": "’",
    "’": "’",
    '"': '"',
    "'": "'",
    "`": "`",
    "「": "」",
    "『": "』",
}
_MARKUP = "*_ \t\n"
_ELIDED = re.compile(r"['’](?:tis|twas|em|n|til|cause|bout|round|s|t|ll|re|ve|\d\ds?)\b", re.I)


def quoted(text: str) -> tuple[int, int] | None:
    """Where the piece stands between the quotation marks round it (without them); ``None`` where there are none. Lines of tags,
    links or emoji behind it do not count, nor stars of Markdown round it."""
    end = len(text)
    while True:
        if found := _between(text, end):
            return found
        begin_of_last = text.rstrip().rfind("\n", 0, end) + 1
        if not begin_of_last or speaks(text[begin_of_last:end]):
            return None
        end = len(text[:begin_of_last].rstrip())


def _between(text: str, end: int) -> tuple[int, int] | None:
    start = len(text) - len(text.lstrip(_MARKUP))
    end = len(text[:end].rstrip(_MARKUP))
    if end - start < 3 or text[end - 1] not in _PAIRS.get(text[start], ""):
        return None
    inside = text[start + 1 : end - 1]
    return None if _closed_before(text[start], text[end - 1], inside) else (start + 1, end - 1)


def _closed_before(opens: str, closes: str, inside: str) -> bool:
    """Whether the first mark is closed before the last one, so that they belong to two quotations, or is none."""
    if opens == "'" or (opens == "’" and closes == "’"):
        if _ELIDED.match(opens + inside) or (inside[-1:] == "s" and not re.search(r"(?<=\w)'\W", inside)):
            return True
        return re.search(r"[.!?,…](?:'|’)(?=\s)", inside) is not None
    if opens == closes:
        first = inside.find(opens)
        return first > 0 and not inside[first - 1].isspace() and inside[first - 1] not in "([—–-"
    depth = 1
    for sign in inside:
        if sign == closes:
            depth -= 1
        elif sign == opens:
            depth += 1
        if depth == 0:
            return True
    return False
