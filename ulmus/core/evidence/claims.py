"""What in a sentence is either in the sources or not: figures, dates, names, quotations and links; and who said it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from ..languages import Language, words
from ..text import links
from .dates import Date, dates
from .figures import Figure, figures
from .units import UNIT_WORDS

ClaimKind = Literal["number", "date", "name", "quotation", "link"]
_QUOTE = re.compile(r"“([^”]{6,400})”|\"([^\"\n]{6,400})\"|«\s?([^»]{6,400}?)\s?»|„([^“”]{6,400})[“”]|‘([^’]{6,400})’(?!\w)")
_CAPITAL = r"[A-ZÀ-ÖØ-ÞŁŚŽČŠĐĞİŞ][\w’'-]*"
_NAME = re.compile(rf"{_CAPITAL}(?:\s+(?:(?:of|the|de|del|della|di|du|des|van|von|der|den|da|do|dos|la|le|and|&)\s+)?{_CAPITAL})*")
_SAYS = words("""
    say says said saying tell tells told add adds added explain explains explained note notes noted state states
    stated argue argues argued claim claims claimed report reports reported announce announced announces according
    believe believes believed warn warned warns promise promised praised sagt sagte sagen erklärt erklärte berichtet
    berichtete laut zufolge meint meinte betont betonte kündigte lobte dit déclare déclaré affirme affirmé explique
    expliqué annonce annoncé selon dice dijo explica explicó afirma afirmó según anunció dice detto spiega spiegato
    afferma secondo annunciato disse diz explica explicou afirma segundo anunciou zegt zei vertelt vertelde volgens
    meldt
""")
SAYS = re.compile(rf"(?<!\w)(?:{'|'.join(_SAYS)})(?!\w)", re.I)
_DAYS = frozenset(
    words("""
    monday tuesday wednesday thursday friday saturday sunday montag dienstag mittwoch donnerstag freitag samstag
    sonntag lundi mardi mercredi jeudi vendredi samedi dimanche lunes martes miércoles jueves viernes sábado domingo
    maandag dinsdag woensdag donderdag vrijdag zaterdag zondag
""")
)


@dataclass(frozen=True)
class Claim:
    """Something that is either in the sources or not, with its place in the draft."""

    kind: ClaimKind
    text: str
    start: int
    end: int


@dataclass(frozen=True)
class Facts:
    """The facts of a sentence; places are those in the sentence."""

    figures: tuple[Figure, ...]
    dates: tuple[Date, ...]
    names: tuple[tuple[str, int, int], ...]
    quotations: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, int, int], ...]

    @property
    def any(self) -> bool:
        """Whether there is any fact in it."""
        return bool(self.figures or self.dates or self.names or self.quotations or self.links)


def facts_of(text: str, tongue: Language) -> Facts:
    """The facts of a sentence."""
    taken = bytearray(len(text) + 1)

    def free(start: int, end: int) -> bool:
        if any(taken[start:end]):
            return False
        taken[start:end] = b"\1" * (end - start)
        return True

    found_links = tuple((link.text, link.start, link.end) for link in links(text) if free(link.start, link.end))
    quoted = [(next(g for g in m.groups() if g), m.start(), m.end()) for m in _QUOTE.finditer(text)]
    found_dates = tuple(one for one in dates(text) if free(one.start, one.end))
    found_figures = tuple(one for one in figures(text, tongue) if free(one.start, one.end))
    found_names = tuple(one for one in names(text, tongue) if free(one[1], one[2]))
    return Facts(found_figures, found_dates, found_names, tuple(quoted), found_links)


def names(text: str, tongue: Language) -> list[tuple[str, int, int]]:
    """Runs of words with capitals that do not stand there because a sentence begins. In German, where every noun has one, only
    runs of two words of which neither is a common word are names."""
    out: list[tuple[str, int, int]] = []
    for m in _NAME.finditer(text):
        words, start, end = m.group().split(), m.start(), m.end()
        if text[max(0, start - 1) : start] in ("#", "@"):
            continue
        begins = not text[:start].strip(" \t“\"«„‘'(*_-–—") or text[:start].rstrip()[-1:] in ".!?:"
        while words and (_common(words[0], tongue) or (begins and len(words) > 1 and words[0].casefold() in tongue.small)):
            gap = text.find(words[1], start + len(words[0])) if len(words) > 1 else end
            words, start = words[1:], gap
            begins = False
        while words and _common(words[-1], tongue):
            end = start + text[start:end].rindex(words[-1])
            words = words[:-1]
        if not words or (begins and len(words) == 1):
            continue
        end = start + len(text[start:end].rstrip())
        if tongue.code == "de" and len(words) == 1:
            continue
        out.append((text[start:end].removesuffix("’s").removesuffix("'s"), start, end))
    return out


def _common(word: str, tongue: Language) -> bool:
    plain = word.casefold()
    if plain in ("fahrenheit", "celsius") or plain in UNIT_WORDS or plain in _SAYS:
        return True
    return plain in tongue.small or plain in tongue.months or plain in _DAYS or (len(plain) == 1)


def speaker_of(text: str, tongue: Language) -> str:
    """Who a sentence says something of: the name beside a verb of saying; empty where nobody is said to say it."""
    verb = SAYS.search(text)
    if verb is None:
        return ""
    found = [(min(abs(verb.start() - end), abs(start - verb.end())), name) for name, start, end in _all_names(text, tongue)]
    near = [one for one in found if one[0] <= 60]
    return min(near)[1] if near else ""


def _all_names(text: str, tongue: Language) -> list[tuple[str, int, int]]:
    """Names, also one that begins the sentence."""
    found = names(text, tongue)
    first = _NAME.match(text)
    if first and not any(start == first.start() for _, start, _ in found):
        words = [word for word in first.group().split() if not _common(word, tongue)]
        if words:
            found.append((" ".join(words), first.start(), first.end()))
    return found
