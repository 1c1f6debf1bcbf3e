"""Figures and dates in a text, in one form: values with the kind of thing they measure, however they are written."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache

from ..languages import Language, words
from .units import ABOUT, LESS, MORE, PARTS, SCALES, UNITS, Kind

_NUMBER = re.compile(r"(?<![\w.,])[-−–]?(?:\d{1,3}(?:[.,'’\u00a0\u202f ]\d{3})+(?![\d])(?:[.,]\d+)?|\d+(?:[.,]\d+)?)(?=[^\d]|$)")
_THOUSANDS = re.compile(r"[-−–]?\d{1,3}(?:([.,'’\u00a0\u202f ])\d{3})(?:\1\d{3})*(?:[.,]\d+)?\Z")
_AFTER = re.compile(r"[-\s\u00a0\u202f]{0,2}(%|°\s?[CF]\b|[€$£]|[^\W\d_]+(?:[.\s][^\W\d_]+)?)")
_NOUN = re.compile(r"[-\s]{1,2}([^\W\d_]{3,})")
_BETWEEN = re.compile(r"\s*(?:to|bis|à|a|y|e|en|and|und|et|tot|or|oder|ou|o|-|–)\s*\Z", re.I)
_OF_SO_MANY = re.compile(r"\s*(?:in|out of|von|sur|de cada|su|em cada|op de|of)\s*\Z", re.I)
_WORDS = re.compile(r"[^\W\d_]+(?:-[^\W\d_]+)*")


@dataclass(frozen=True)
class Figure:
    """A value in the base unit of its kind, with its place; `about`: said to be near it, `bound`: more (1) or less (-1) than it."""

    value: float
    kind: Kind
    text: str
    start: int
    end: int
    about: bool = False
    bound: int = 0
    raw: float = 0.0
    """As it is written, whatever its unit."""
    unit: str = ""
    noun: str = ""
    """The word after a plain figure: of what it is so many."""
    share_of: bool = False
    """Told as a part of a whole (*two thirds*), where the other side may say per cent."""

    @property
    def number(self) -> str:
        """The figure without its unit, as it is written."""
        bare = self.text[: len(self.text) - len(self.unit)].rstrip()
        return bare if self.unit and self.text.casefold().endswith(self.unit) and bare else self.text


def figures(text: str, tongue: Language) -> list[Figure]:
    """Every figure of a text, in digits or words, in order."""
    out: list[Figure] = []
    taken: list[tuple[int, int]] = []
    for m in _NUMBER.finditer(text):
        value = _value(m.group(), tongue)
        end = m.end()
        if value is None:
            continue
        found = _with_unit(text, m.start(), end, value, tongue)
        out.append(found)
        taken.append((m.start(), found.end))
    for start, end, value in _in_words(text, tongue):
        if not any(start < b and a < end for a, b in taken):
            out.append(_with_unit(text, start, end, value, tongue))
            taken.append((start, end))
    for part in list(_parts(text, out)):
        out = [one for one in out if one.end <= part.start or part.end <= one.start] + [part]
    return list(_joined(text, sorted(out, key=lambda one: one.start)))


def _joined(text: str, found: list[Figure]) -> Iterator[Figure]:
    """Ranges, of which both ends have the unit of the second, and so many *in ten*, which are a share."""
    skip = False
    for n, one in enumerate(found):
        if skip:
            skip = False
            continue
        then = found[n + 1] if n + 1 < len(found) else None
        if then is not None and one.kind == "plain":
            between = text[one.end : then.start]
            if then.kind == "plain" and then.value in (3, 4, 5, 10, 100) and one.value < then.value and _OF_SO_MANY.match(between):
                share = 100 * one.value / then.value
                yield Figure(share, "share", text[one.start : then.end], one.start, then.end, True, one.bound, share, share_of=True)
                skip = True
                continue
            if then.kind not in ("plain", "year") and _BETWEEN.match(between):
                fahrenheit = then.kind == "heat" and abs(then.value - then.raw) > 1e-9
                value = (
                    _celsius(one.value)
                    if fahrenheit
                    else one.value
                    if then.kind == "heat"
                    else one.value * then.value / (then.raw or 1)
                )
                yield replace(one, value=value, kind=then.kind, unit=then.unit, noun="")
                continue
        yield one


def _value(said: str, tongue: Language) -> float | None:
    bare = said.replace("−", "-").replace("–", "-").strip()
    grouped = _THOUSANDS.match(bare)
    if grouped and not (grouped.group(1) == "." and tongue.code == "en" and bare.count(".") == 1 and "," not in bare):
        mark = grouped.group(1)
        head, _, tail = bare.rpartition("," if mark == "." else ".") if ("," if mark == "." else ".") in bare else (bare, "", "")
        whole = re.sub(r"[^\d-]", "", head)
        return _float(f"{whole}.{tail}" if tail else whole)
    return _float(bare.replace(",", "."))


def _float(text: str) -> float | None:
    try:
        return float(text)
    except ValueError:
        return None


def _celsius(fahrenheit: float) -> float:
    return (fahrenheit - 32) * 5 / 9


def _with_unit(text: str, start: int, end: int, value: float, tongue: Language) -> Figure:
    before = re.findall(r"[^\W\d_]+|[€$£~≈]", text[max(0, start - 24) : start].casefold())[-3:]
    raw, text_end = value, end
    about = bool(ABOUT & set(before)) or bool({"~", "≈"} & set(before))
    near = set(before[-2:])
    bound = 1 if MORE & near else -1 if LESS & near else 0
    heat = ""
    kind: Kind = "money" if before[-1:] and before[-1] in "€$£" else "plain"
    for _ in range(2):
        after = _AFTER.match(text, end)
        word = re.sub(r"\s+", " ", after.group(1).casefold()) if after else ""
        first = word.split(" ")[0].rstrip(".")
        if after and first in SCALES and value < 1e5:
            value, end = value * SCALES[first], after.start(1) + len(first)
            raw = value
            continue
        if after and word[:1] == "°":
            kind, value, heat = "heat", _celsius(value) if word.endswith("f") else value, word[-1]
            end = after.end()
        elif after and first in ("degree", "degrees", "grad", "degrés", "grados", "gradi", "graus", "graden"):
            fahrenheit = "fahrenheit" in text[end : end + 25].casefold()
            kind, value, heat = "heat", _celsius(value) if fahrenheit else value, "f" if fahrenheit else "c"
        elif after and (word in UNITS or first in UNITS):
            name = word if word in UNITS else first
            kind, factor = UNITS[name]
            value, end = value * factor, after.start(1) + len(name)
        break
    if kind == "heat" and before[-1:] == ["minus"] and value > 0:
        value = -value
    if kind == "plain" and value.is_integer() and 1700 <= value <= 2100 and re.fullmatch(r"\d{4}", text[start:end]):
        kind = "year"
    noun = _NOUN.match(text, end) if kind == "plain" else None
    if noun and tongue.code == "de" and not noun.group(1)[0].isupper():
        noun = None
    return Figure(
        value,
        kind,
        text[start:end],
        start,
        end,
        about,
        bound,
        raw,
        heat or text[text_end:end].strip().casefold(),
        noun.group(1).casefold() if noun else "",
    )


@lru_cache(20_000)
def _parsed(said: str, code: str) -> float | None:
    from text_to_num import text2num  # loaded on first use

    try:
        return float(text2num(said, code))
    except ValueError:
        return None


_ONES = frozenset(
    words("""
    a an one ein eine einen einem einer eins un une uno una um uma een één second seconds and und et y e en
""")
)


def _in_words(text: str, tongue: Language) -> Iterator[tuple[int, int, float]]:
    """Numbers that are written out."""
    found = list(_WORDS.finditer(text))
    at = 0
    while at < len(found):
        word = found[at].group().casefold()
        if len(word) < 3 or word in _ONES or _parsed(word, tongue.code) is None or word in SCALES:
            at += 1
            continue
        best, value = at, _parsed(word, tongue.code)
        for stop in range(at + 1, min(len(found), at + 6)):
            said = re.sub(r"\s+", " ", text[found[at].start() : found[stop].end()].casefold())
            if "," in said or "." in said:
                break
            more = _parsed(said, tongue.code)
            if more is not None:
                best, value = stop, more
        if value is not None:
            yield found[at].start(), found[best].end(), value
        at = best + 1


def _parts(text: str, known: list[Figure]) -> Iterator[Figure]:
    """Parts of a whole in words: *two thirds*, *half*, *six in ten*."""
    for m in _WORDS.finditer(text):
        share = PARTS.get(m.group().casefold())
        if share is None:
            continue
        ahead = next((f for f in known if 0 <= m.start() - f.end <= 2 and f.kind == "plain" and f.value < 10), None)
        before = re.findall(r"[^\W\d_]+", text[max(0, m.start() - 24) : m.start()].casefold())[-3:]
        bound = 1 if MORE & set(before) else -1 if LESS & set(before) else 0
        start = ahead.start if ahead else m.start()
        yield Figure(
            share * (ahead.value if ahead else 1), "share", text[start : m.end()], start, m.end(), True, bound, share, share_of=True
        )


def agree(said: Figure, known: Figure) -> bool:
    """Whether a figure of a draft is borne out by one of a source."""
    kinds, years = {said.kind, known.kind}, {"plain", "year"}
    if said.kind != known.kind and not kinds <= years:
        if kinds == {"money", "mass"} and {said.unit, known.unit} & {"pound", "pounds"}:
            return said.raw == known.raw
        return said.kind == "plain" and not said.noun and said.raw == known.raw
    if said.bound > 0:
        return said.value <= known.value * 1.001 and known.value <= said.value * 1.6 + 1e-9
    if said.bound < 0:
        return known.value <= said.value * 1.001 and said.value * 0.6 <= known.value
    if said.value == known.value:
        return True
    converted = said.kind in ("mass", "length", "volume", "heat") and not _same_unit(said, known)
    tolerance = 0.06 if said.share_of else 0.04 if said.about else 0.015 if converted else 1e-6
    if said.kind == "heat":
        return abs(said.value - known.value) <= (0.8 if converted or said.about else 1e-6)
    if said.kind == "time" and not said.about and said.value >= 30 and abs(said.value - known.value) <= 0.03 * known.value:
        return not _same_unit(said, known)
    return abs(said.value - known.value) <= tolerance * max(abs(known.value), 1e-9)


def _same_unit(one: Figure, other: Figure) -> bool:
    return one.unit == other.unit


def spelled(value: float, text: str) -> bool:
    """Whether a length of time stands in a text without a figure: seven days as *a week*."""
    return any(
        UNITS.get(word, ("", 0))[0] == "time" and UNITS[word][1] == value for word in re.findall(r"[^\W\d_]+", text.casefold())
    )


_RECKONED = re.compile(
    r"(?<!\w)(?:more|less|fewer|total|together|altogether|difference|by|in all|left|remain\w*|another|increase\w*|gained|lost|mehr|weniger|insgesamt"
    r"|zusammen|um|differenz|plus|moins|de plus|au total|ensemble|más|menos|total|en total|più|meno|totale|mais|menos|no total|meer|minder|totaal"
    r"|samen|years? (?:later|after|ago)|jahre später|ans après|twice|double|as many|times)(?!\w)",
    re.I,
)


def derived(said: Figure, known: list[Figure], text: str) -> str:
    """How a figure comes out of two others of a source, as a sum; empty where it does not, and where `text` reckons with nothing."""
    if said.kind != "share" and not _RECKONED.search(text):
        return ""
    for n, first in enumerate(known):
        for second in known[n + 1 :]:
            if first.kind != second.kind:
                continue
            high, low = max(first, second, key=lambda f: f.value), min(first, second, key=lambda f: f.value)
            if said.kind in (first.kind, "plain"):
                for value, sign in ((high.value - low.value, "−"), (high.value + low.value, "+")):
                    if first.kind != "year" and value > 1 and abs(value - said.value) <= (0.03 * value if said.about else 1e-6):
                        return f"{high.text} {sign} {low.text} = {value:g}"
                    if first.kind == "year" and sign == "−" and value == said.value:
                        return f"{high.text} − {low.text} = {value:g}"
            if said.kind == "share" and low.value > 0:
                for value, words in (
                    (100 * (high.value - low.value) / low.value, f"from {low.text} to {high.text}"),
                    (100 * (high.value - low.value) / high.value, f"from {high.text} to {low.text}"),
                    (100 * low.value / high.value, f"{low.text} of {high.text}"),
                ):
                    near = abs(value - said.value) <= max(0.6, 0.04 * value if said.about else 0)
                    within = said.bound and (
                        said.value <= value <= said.value * 1.5 if said.bound > 0 else said.value * 0.6 <= value <= said.value
                    )
                    if near or within:
                        return f"{words}: {value:.0f} %"
    return ""
