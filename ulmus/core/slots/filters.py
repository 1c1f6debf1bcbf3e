"""The filters a slot may use after a bar. Each takes a value and its arguments and gives a value.

A filter never raises on any value: where a value does not fit, it is given back as it was, since a
draft with an odd date is better than no draft. `usage` is shown in the picker and the reference.
"""

from __future__ import annotations

import datetime as dt
import html
import json
import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from html.parser import HTMLParser
from typing import Any

from dateutil import parser as dates
from dateutil.relativedelta import relativedelta

from ..text import hashtags

LARGEST = 8_000_000

MISSING: Any = type("Missing", (), {"__repr__": lambda self: "MISSING", "__bool__": lambda self: False})()


@dataclass(frozen=True)
class FilterKind:
    """A filter's name, how it is written, what it does, and its least and greatest number of arguments."""

    name: str
    usage: str
    about: str
    least: int
    most: int
    apply: Callable[..., Any]


FILTERS: dict[str, FilterKind] = {}


def _filter(usage: str, about: str, least: int = 0, most: int = 0) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    def add(function: Callable[..., Any]) -> Callable[..., Any]:
        name = usage.split()[0]
        FILTERS[name] = FilterKind(name, usage, about, least, most, function)
        return function

    return add


def as_text(value: Any) -> str:
    """A value as running text: lists line by line, objects as JSON, yes/no for truth values."""
    if value is MISSING or value is None:
        return ""
    if isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, list):
        return "\n".join(as_text(v) for v in value)
    if isinstance(value, dict):
        return json.dumps(value, ensure_ascii=False)
    return str(value)


@_filter("shorten 400 words", "Cuts after so many words or characters, at the end of a word.", 1, 2)
def shorten(value: Any, count: Any, unit: str = "characters") -> Any:
    text = as_text(value)
    if not isinstance(count, int | float) or count < 0:
        return text
    count = int(count)
    if str(unit).startswith("word"):
        ends = [m.end() for m, _ in zip(re.finditer(r"\S+", text), range(count + 1), strict=False)]
        return text if len(ends) <= count else (text[: ends[count - 1]] + "…" if count else "")
    if len(text) <= count:
        return text
    cut = text[:count].rstrip()
    if " " in cut and not text[count : count + 1].isspace():
        cut = cut[: cut.rindex(" ")].rstrip()
    return cut + "…"


@_filter('otherwise "there"', "Used when the value is missing or empty.", 1, 1)
def otherwise(value: Any, fallback: Any) -> Any:
    return fallback if value is MISSING or value is None or value in ("", [], {}) else value


@_filter('replace "a" "b"', "Puts one text in place of another, everywhere.", 2, 2)
def replace(value: Any, old: Any, new: Any) -> Any:
    text, old = as_text(value), as_text(old)
    return text.replace(old, as_text(new)) if old and len(text) * max(1, len(as_text(new))) < LARGEST else text


@_filter('before "-"', "What stands before the first occurrence.", 1, 1)
def before(value: Any, mark: Any) -> Any:
    return as_text(value).partition(as_text(mark))[0] if as_text(mark) else as_text(value)


@_filter('after "-"', "What stands after the first occurrence; everything where there is none.", 1, 1)
def after(value: Any, mark: Any) -> Any:
    _, found, rest = as_text(value).partition(as_text(mark)) if as_text(mark) else ("", "", "")
    return rest if found else as_text(value)


@_filter('split ","', "A text as a list, cut at a mark.", 1, 1)
def split(value: Any, mark: Any) -> Any:
    if isinstance(value, list) or not as_text(mark):
        return value
    return [piece.strip() for piece in as_text(value).split(as_text(mark)) if piece.strip()]


@_filter("lines", "A text as a list of its lines, without empty ones.")
def lines(value: Any) -> Any:
    return value if isinstance(value, list) else [line.strip() for line in as_text(value).splitlines() if line.strip()]


@_filter("words", "How many words a text has.")
def words(value: Any) -> Any:
    return len(as_text(value).split())


@_filter("capital", "With a capital letter at the start.")
def capital(value: Any) -> Any:
    text = as_text(value)
    return text[:1].upper() + text[1:]


@_filter("slug", "For addresses and file names: small letters, digits and hyphens.")
def slug(value: Any) -> Any:
    text = unicodedata.normalize("NFKD", as_text(value)).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")


@_filter("untagged", "A text without its hashtags.")
def untagged(value: Any) -> Any:
    lines = []
    for line in as_text(value).splitlines():
        kept: list[str] = []
        for word in line.split(" "):
            left = _TAG.sub("", word) if hashtags(word) else word
            if left == word or any(c.isalnum() for c in left):
                kept.append(left)
            elif kept and left[:1] in _ENDS:
                # A mark that stood behind a tag now ends what stood before it.
                kept[-1] += left[:1]
        if any(kept) or not line.strip():
            lines.append(" ".join(kept).strip())
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip()


_TAG = re.compile(r"#\w+")
_ENDS = (".", "!", "?", "…")


@_filter("upper", "In capitals.")
def upper(value: Any) -> Any:
    return as_text(value).upper()


@_filter("lower", "In small letters.")
def lower(value: Any) -> Any:
    return as_text(value).lower()


@_filter("trim", "Without white space at both ends.")
def trim(value: Any) -> Any:
    return as_text(value).strip()


@_filter('join ", "', "A list as one text, with something between.", 0, 1)
def join(value: Any, between: Any = ", ") -> Any:
    return str(between).join(as_text(v) for v in value) if isinstance(value, list) else as_text(value)


@_filter("first 3", "The first value of a list, or the first so many.", 0, 1)
def first(value: Any, count: Any = None) -> Any:
    if not isinstance(value, list):
        return value
    if isinstance(count, int):
        return value[: max(count, 0)]
    return value[0] if value else MISSING


@_filter("last 3", "The last value of a list, or the last so many.", 0, 1)
def last(value: Any, count: Any = None) -> Any:
    if not isinstance(value, list):
        return value
    if isinstance(count, int):
        return value[-count:] if count > 0 else []
    return value[-1] if value else MISSING


@_filter("count", "How many: of a list its values, of a text its characters.")
def count(value: Any) -> Any:
    return 0 if value is MISSING or value is None else len(value) if isinstance(value, list | dict | str) else 1


@_filter(
    'keep published is after "2026-01-01"',
    "Of a list, what fits a condition; names mean the element’s own values, “it” the element.",
)
def keep(value: Any) -> Any:
    return value  # worked out in `evaluate`, which can look at conditions


@_filter("sort by published down", "A list in order: by a value of its elements, or by themselves; “down” turns it round.", 0, 3)
def sort(value: Any, *words: Any) -> Any:
    if not isinstance(value, list):
        return value
    down = "down" in words
    names = [w for w in words if w not in ("by", "down", "up")]
    return sorted(value, key=lambda one: _rank(part(one, names[0]) if names else one), reverse=down)


@_filter("drop repeats by link", "A list without repeats: of whole elements, or of one of their values; the first stays.", 1, 3)
def drop(value: Any, *words: Any) -> Any:
    if not isinstance(value, list) or words[0] != "repeats":
        return value
    names = [w for w in words if w not in ("repeats", "by")]
    seen: set[str] = set()
    out = []
    for one in value:
        mark = " ".join(as_text(part(one, names[0]) if names else one).casefold().split())
        if mark not in seen:
            seen.add(mark)
            out.append(one)
    return out


@_filter("pick title", "One value of each element of a list, as a list.", 1, 1)
def pick(value: Any, name: Any) -> Any:
    if isinstance(value, list):
        return [found for one in value if (found := part(one, name)) is not MISSING]
    return part(value, name)


@_filter("reverse", "A list from the end to the beginning.")
def reverse(value: Any) -> Any:
    return value[::-1] if isinstance(value, list) else value


@_filter("sum", "The numbers of a list added up.")
def total(value: Any) -> Any:
    found = [n for n in map(number_of, value if isinstance(value, list) else [value]) if n is not None]
    return _whole(sum(found))


@_filter("round 2", "A number with so many places after the point.", 0, 1)
def rounded(value: Any, places: Any = 0) -> Any:
    found = number_of(value)
    if found is None or not isinstance(places, int) or not 0 <= places <= 12:
        return value
    return _whole(round(found, places))


def _arithmetic(usage: str, about: str, work: Callable[[float, float], float]) -> None:
    def apply(value: Any, other: Any) -> Any:
        a, b = number_of(value), number_of(other)
        if a is None or b is None:
            return value
        try:
            found = work(a, b)
        except (ArithmeticError, ValueError):
            return value
        return _whole(found) if abs(found) < 1e300 else value

    _filter(usage, about, 1, 1)(apply)


_arithmetic("plus 1", "Adds a number.", lambda a, b: a + b)
_arithmetic("minus 1", "Takes a number away.", lambda a, b: a - b)
_arithmetic("times 2", "Multiplies by a number.", lambda a, b: a * b)
_arithmetic("over 2", "Divides by a number.", lambda a, b: a / b)


@_filter("thousands", "A number with commas between the thousands.")
def thousands(value: Any) -> Any:
    found = number_of(value)
    return value if found is None else f"{_whole(found):,}"


class _Plain(HTMLParser):
    """The words of a piece of HTML, in lines; what is there for programs is left out."""

    BREAKS = frozenset(("p", "li", "h1", "h2", "h3", "h4", "h5", "h6", "div", "tr", "blockquote", "table", "section", "article"))
    UNSEEN = frozenset(("script", "style", "head", "template", "noscript"))

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.pieces: list[str] = []
        self._unseen: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in self.UNSEEN:
            self._unseen.append(tag)
        elif tag == "body":
            self._unseen.clear()  # a head that nothing ended
        elif tag == "br":
            self.pieces.append("\n")

    def handle_endtag(self, tag: str) -> None:
        if tag in self._unseen:
            del self._unseen[self._unseen.index(tag) :]
        elif tag in self.BREAKS and not self._unseen:
            self.pieces.append("\n")

    def handle_data(self, data: str) -> None:
        if not self._unseen:
            self.pieces.append(data)


@_filter("plain", "HTML as plain text.")
def plain(value: Any) -> Any:
    reading = _Plain()
    reading.feed(as_text(value))
    reading.close()
    text = "".join(reading.pieces)
    return re.sub(r"\n{3,}", "\n\n", re.sub(r"[ \t]+", " ", text)).strip()


@_filter("paragraphs", "Plain text as HTML paragraphs.")
def paragraphs(value: Any) -> Any:
    blocks = [b.strip() for b in re.split(r"\n\s*\n", as_text(value)) if b.strip()]
    return "\n".join("<p>" + html.escape(b).replace("\n", "<br>") + "</p>" for b in blocks)


@_filter("json", "The value as JSON.")
def as_json(value: Any) -> Any:
    return json.dumps(None if value is MISSING else value, ensure_ascii=False)


@_filter("read json", "JSON text as the value it stands for; other text stays as it is.", 1, 1)
def read(value: Any, what: Any) -> Any:
    if not isinstance(value, str) or what != "json":
        return value
    try:
        return json.loads(value)
    except (ValueError, RecursionError):
        return value


_TOKENS: dict[str, Callable[[dt.datetime], str]] = {
    "YYYY": lambda d: f"{d.year:04}",
    "YY": lambda d: f"{d.year % 100:02}",
    "MMMM": lambda d: f"{d:%B}",
    "MMM": lambda d: f"{d:%b}",
    "MM": lambda d: f"{d.month:02}",
    "M": lambda d: str(d.month),
    "dddd": lambda d: f"{d:%A}",
    "ddd": lambda d: f"{d:%a}",
    "DD": lambda d: f"{d.day:02}",
    "D": lambda d: str(d.day),
    "HH": lambda d: f"{d.hour:02}",
    "H": lambda d: str(d.hour),
    "mm": lambda d: f"{d.minute:02}",
}
_TOKEN = re.compile("|".join(sorted(_TOKENS, key=len, reverse=True)))


def moment_of(value: Any) -> dt.datetime | None:
    """A text as date and time (ISO 8601, or as mails and feeds write it), or ``None``."""
    text = as_text(value).strip()
    if not 4 <= len(text) <= 60 or not any(c.isdigit() for c in text):
        return None
    try:
        return dates.isoparse(text)
    except (ValueError, OverflowError):
        pass
    try:
        return dates.parse(text)
    except (ValueError, OverflowError, TypeError):
        return None


@_filter('format "D MMMM YYYY"', "A date in a form of your own: D, MMMM, YYYY, dddd, HH, mm.", 1, 1)
def format_date(value: Any, pattern: Any) -> Any:
    moment = moment_of(value)
    return as_text(value) if moment is None else _TOKEN.sub(lambda m: _TOKENS[m.group()](moment), str(pattern))


@_filter("later 3 days", "A date so many minutes, hours, days, weeks, months or years later; a negative number is earlier.", 2, 2)
def later(value: Any, count: Any, unit: Any) -> Any:
    moment, size = moment_of(value), _UNITS.get(as_text(unit).rstrip("s"))
    if moment is None or size is None or not isinstance(count, int) or abs(count) > 1_000_000:
        return value
    try:
        shifted = moment + relativedelta(**{size: count})  # type: ignore[arg-type]
    except (ValueError, OverflowError):
        return value
    return shifted.date().isoformat() if _DATE.match(as_text(value)) and size not in ("hours", "minutes") else shifted.isoformat()


_UNITS = {"minute": "minutes", "hour": "hours", "day": "days", "week": "weeks", "month": "months", "year": "years"}
_DATE = re.compile(r"\s*\d{4}-\d{2}-\d{2}\s*\Z")
_NUMBER = re.compile(r"\s*[-+]?\d{1,15}(?:[.,]\d{1,12})?\s*\Z")


def number_of(value: Any) -> float | None:
    """A number, or a text that is one, as a number."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return float(value) if abs(value) < 1e300 else None
    if isinstance(value, str) and _NUMBER.match(value):
        return float(value.strip().replace(",", "."))
    return None


def part(one: Any, name: Any) -> Any:
    """A named value of an element of a list."""
    found = one.get(name, MISSING) if isinstance(one, dict) else MISSING
    return MISSING if found is None else found


def _whole(number: float) -> int | float:
    return int(number) if float(number).is_integer() and abs(number) < 1e15 else number


def _rank(value: Any) -> tuple[int, float, str]:
    # Numbers before texts, what is missing last; so that any list has an order.
    found = number_of(value)
    if found is not None:
        return (0, found, "")
    return (2, 0.0, "") if value is MISSING or value is None else (1, 0.0, as_text(value).casefold())
