"""Evidence: where the sources support a draft, sentence by sentence, and what in it no source knows.

For each sentence the passage of the sources is found that holds most of what the sentence says, words weighed by how few
passages have them. Apart from that every figure, date, name, quotation and link in the draft is looked for in the sources:
a sentence can be near to a source and still hold a figure that stands nowhere. No model is asked.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..languages import language

Level = Literal["supported", "partly", "unsupported", "nothing"]
SUPPORTED, PARTLY = 0.6, 0.35
LONGEST_SOURCE = 2_000_000
MOST_SENTENCES, MOST_PASSAGES = 3000, 50_000
"""So many sentences of a draft and passages of its sources are looked at."""
FEW_WORDS = 3
_NO_WORDS = " \t\r\n.!?,;:…"

_CLOSING = r"[”\"’)\]]*"
_SENTENCE = re.compile(rf"[^.!?\n]+(?:[.!?](?!{_CLOSING}(?:\s|$))[^.!?\n]*)*[.!?]*{_CLOSING}")
_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
_LINK = re.compile(r"https?://[^\s<>\"”)]+")
_AFTER_LINK = "/.,;:!?"
"""What may stand behind a link without making it another."""
_QUOTE = re.compile(r"“([^”]{6,400})”|\"([^\"\n]{6,400})\"|«([^»]{6,400})»")
_NUMBER = re.compile(r"(?<![\w.,-])-?\d+(?:[.,]\d+)*%?(?!\w)")
_NAME = re.compile(
    r"(?:[A-ZÀ-Ý][\w’'-]+)(?:\s+(?:of|the|de|van|von|and|&)\s+(?=[A-ZÀ-Ý])|\s+)?(?:[A-ZÀ-Ý][\w’'-]+(?:\s+[A-ZÀ-Ý][\w’'-]+)*)?"
)
_SPEAKS = language()
_DATE = re.compile(
    r"\b(\d{4})-(\d{2})-(\d{2})\b|\b(\d{1,2})(?:st|nd|rd|th)?(?: of)? ("
    + "|".join(_SPEAKS.months)
    + r")(?:,? (\d{4}))?\b|\b("
    + "|".join(_SPEAKS.months)
    + r") (\d{1,2})(?:st|nd|rd|th)?(?:,? (\d{4}))?\b",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class Claim:
    """Something that is either in the sources or not: a number, date, name, quotation or link, with its place in the draft."""

    kind: Literal["number", "date", "name", "quotation", "link"]
    text: str
    start: int
    end: int


@dataclass(frozen=True)
class Support:
    """One sentence of the draft, with its place; the source and passage that support it best, how well (0 to 1), and the
    claims in it that stand in no source. A sentence of no content is ``nothing``: it needs no support."""

    text: str
    start: int
    end: int
    level: Level
    score: float
    source: str = ""
    passage: str = ""
    missing: tuple[Claim, ...] = ()


@dataclass(frozen=True)
class Evidence:
    """Every sentence of a draft with its support, in order."""

    sentences: list[Support] = field(default_factory=list)

    @property
    def unsupported(self) -> list[Support]:
        """The sentences that no source supports, or that hold a claim that stands nowhere."""
        return [sentence for sentence in self.sentences if sentence.level == "unsupported" or sentence.missing]


def evidence(draft: str, sources: Mapping[str, str]) -> Evidence:
    """The support for `draft` in `sources` (name → text). Time grows linearly with both."""
    spans = (m for m in _SENTENCE.finditer(draft) if m.group().strip(_NO_WORDS))
    sentences = [(m.group(), m.start(), m.end()) for m in itertools.islice(spans, MOST_SENTENCES)]
    if not sentences:
        return Evidence()
    known = {name: text[:LONGEST_SOURCE] for name, text in sources.items() if text.strip()}
    found_in = ((name, passage, terms) for name, text in known.items() for passage, terms in _passages(text) if terms)
    passages = list(itertools.islice(found_in, MOST_PASSAGES))
    facts = _Facts("\n".join(known.values()))
    spoken = [set(_terms(text)) for text, _, _ in sentences]
    found = _best(spoken, [terms for *_, terms in passages])
    out = []
    for (text, start, end), terms, (score, place) in zip(sentences, spoken, found, strict=True):
        lead = len(text) - len(text.lstrip())
        missing = tuple(claim for claim in claims(text.strip(), start + lead) if not facts.hold(claim))
        level: Level = "nothing"
        if len(terms) >= FEW_WORDS or missing:
            level = "supported" if score >= SUPPORTED else "partly" if score >= PARTLY else "unsupported"
            level = "unsupported" if missing and level != "supported" else "partly" if missing else level
        name, passage = passages[place][:2] if place >= 0 and score >= PARTLY else ("", "")
        out.append(Support(text.strip(), start + lead, end, level, round(score, 3), name, passage, missing))
    return Evidence(out)


def claims(text: str, offset: int = 0) -> list[Claim]:
    """The numbers, dates, names, quotations and links in a sentence, with their places."""
    out: list[Claim] = []
    taken = bytearray(len(text))

    def put(kind: Any, start: int, end: int, said: str) -> None:
        if said.strip() and not any(taken[start:end]):
            taken[start:end] = b"\1" * (end - start)
            out.append(Claim(kind, said.strip(), start + offset, end + offset))

    for m in _LINK.finditer(text):
        put("link", m.start(), m.end(), m.group().rstrip(".,;:!?"))
    for m in _QUOTE.finditer(text):
        put("quotation", m.start(), m.end(), next(g for g in m.groups() if g))
    for m in _DATE.finditer(text):
        put("date", m.start(), m.end(), m.group())
    for m in _NUMBER.finditer(text):
        put("number", m.start(), m.end(), m.group())
    for m in _names(text):
        put("name", m.start(), m.end(), m.group())
    return sorted(out, key=lambda claim: claim.start)


def _names(text: str) -> Iterator[re.Match[str]]:
    """Runs of words with capitals that do not stand there because a sentence begins."""
    for m in _NAME.finditer(text):
        words = m.group().split()
        if (m.start() == 0 or text[max(0, m.start() - 20) : m.start()].rstrip()[-1:] in '.!?:“"(') and (
            len(words) == 1 or words[0].lower() in _SPEAKS.small
        ):
            continue
        if text[max(0, m.start() - 1) : m.start()] in ("#", "@"):
            continue
        if all(word.lower() in _SPEAKS.small or word.lower() in _SPEAKS.months for word in words):
            continue
        yield m


class _Facts:
    """What stands in the sources, in forms that can be looked up."""

    def __init__(self, text: str) -> None:
        self.plain = _plain(text)
        self.numbers = {_figure(m.group()) for m in _NUMBER.finditer(text)}
        self.words = set(_WORD.findall(self.plain))
        self.numbers |= {str(_SPEAKS.numbers[word]) for word in self.words if word in _SPEAKS.numbers}
        self.dates = {_day(m) for m in _DATE.finditer(text)}
        self.links = {link.rstrip(_AFTER_LINK) for link in _LINK.findall(text)}

    def hold(self, claim: Claim) -> bool:
        """Whether a claim stands in the sources."""
        match claim.kind:
            case "link":
                return claim.text.rstrip(_AFTER_LINK) in self.links
            case "quotation":
                return _plain(claim.text).strip(" .,!?") in self.plain
            case "date":
                found = _DATE.search(claim.text)
                day = _day(found) if found else ("", "", "")
                return any(all(not a or not b or a == b for a, b in zip(day, known, strict=True)) for known in self.dates)
            case "number":
                return _figure(claim.text) in self.numbers
            case "name":
                words = [w for w in _WORD.findall(_plain(claim.text)) if w not in _SPEAKS.small]
                return _plain(claim.text) in self.plain or all(_SPEAKS.stem(w) in self.words or w in self.words for w in words)


def _best(sentences: Sequence[set[str]], passages: Sequence[set[str]]) -> list[tuple[float, int]]:
    """For each sentence the greatest share of its words, by weight, that one passage holds; and which (-1 for none)."""
    import numpy as np
    from scipy.sparse import csr_matrix

    if not passages:
        return [(0.0, -1)] * len(sentences)
    held = Counter(term for terms in passages for term in terms)
    places = {term: i for i, term in enumerate(held)}
    count = len(passages)
    strange = float(np.log(1 + count))

    def matrix(rows: Sequence[set[str]], weighed: bool) -> Any:
        data, columns, starts = [], [], [0]
        for terms in rows:
            for term in terms:
                if term in places:
                    columns.append(places[term])
                    data.append(float(np.log((1 + count) / held[term])) if weighed else 1.0)
            starts.append(len(columns))
        return csr_matrix((data, columns, starts), shape=(len(rows), len(places)))

    wanted = matrix(sentences, True)
    totals = np.asarray(wanted.sum(axis=1)).ravel()
    totals += np.array([strange * 0.8 * sum(term not in places for term in terms) for terms in sentences])
    # Only what two have in common is stored, so that the time goes by that, and not by how many there are of both.
    shared = csr_matrix(wanted @ matrix(passages, False).T)
    out: list[tuple[float, int]] = []
    for i, total in enumerate(totals):
        row = slice(shared.indptr[i], shared.indptr[i + 1])
        weights, columns = shared.data[row], shared.indices[row]
        if not weights.size:
            out.append((0.0, 0))
            continue
        most = weights.max()
        out.append((min(1.0, float(most / max(total, 1e-9))), int(columns[weights >= most].min())))
    return out


def _passages(text: str) -> Iterator[tuple[str, set[str]]]:
    """Sentences of a source with their words, each together with the one after it in the same paragraph."""
    for paragraph in text.split("\n"):
        found = [(said, set(_terms(said))) for m in _SENTENCE.finditer(paragraph) if (said := m.group().strip())]
        if len(found) == 1:
            yield found[0]
        for (first, its), (second, others) in itertools.pairwise(found):
            yield f"{first} {second}", its | others


def _terms(text: str) -> list[str]:
    """The words of a text that carry its meaning, without endings; links and tags are left out."""
    bare = re.sub(r"https?://\S+|[#@]\w+", " ", text)
    return [_SPEAKS.stem(_in_figures(word)) for word in _WORD.findall(_plain(bare)) if word not in _SPEAKS.small]


def _in_figures(word: str) -> str:
    """A number in words as a figure; every other word as it is."""
    return str(_SPEAKS.numbers.get(word, word))


def _plain(text: str) -> str:
    return " ".join(text.replace("’", "'").replace("‘", "'").replace("“", '"').replace("”", '"').casefold().split())


def _figure(text: str) -> str:
    """A number without marks between thousands; ``12.50`` is ``12.5``."""
    bare = text.rstrip("%.,").lstrip("+")
    if re.fullmatch(r"-?\d{1,3}(?:,\d{3})+(?:\.\d+)?", bare):
        bare = bare.replace(",", "")
    elif re.fullmatch(r"-?\d+,\d{1,2}", bare):
        bare = bare.replace(",", ".")
    return bare.rstrip("0").rstrip(".") if "." in bare else bare


def _day(m: re.Match[str]) -> tuple[str, str, str]:
    """Year, month and day of a date; what it does not say is empty."""
    iso_year, iso_month, iso_day, day, month, year, month_first, day_second, year_last = m.groups()
    if iso_year:
        return iso_year, str(int(iso_month)), str(int(iso_day))
    name = (month or month_first).lower()
    return year or year_last or "", str(_SPEAKS.months.index(name) + 1), str(int(day or day_second))
