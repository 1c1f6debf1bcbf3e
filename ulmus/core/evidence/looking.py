"""Looking: one sentence set against the passage that comes nearest to it, as numbers and as reasons in words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from functools import lru_cache

from ..languages import Language
from ..text import Span, normal
from .claims import SAYS, Claim, Facts, facts_of, speaker_of
from .figures import Figure, agree, derived, spelled
from .opposites import opposed
from .passages import Passage, Source, terms, window
from .weekdays import other_days

FEATURES = (
    "coverage",
    "hardly known",
    "coverage of the source",
    "few words",
    "figure in no source",
    "figure elsewhere",
    "figure beside another",
    "date in no source",
    "date elsewhere",
    "name in no source",
    "name elsewhere",
    "name half known",
    "negated",
    "opposed",
    "said by another",
    "unknown noun",
    "replaced words",
    "no facts",
    "facts stand there",
    "quotation in no source",
    "link in no source",
    "derived",
    "new words",
    "turned round",
    "another subject",
)
_CLAUSE = re.compile(r"[;:,]\s+|\s+(?:and|but|while|und|aber|et|mais|y|pero|e|ma|mas|en|maar)\s+")
_TOKEN = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
_CAPITAL = re.compile(r"(?<=\s)[A-ZÀ-ÖØ-Þ][^\W\d_]{3,}")
_FREE_OF = re.compile(
    r"(?<!\w)(?:free of|free from|devoid of|lacks?|frei von|exempt de|libre de|privo di|livre de|vrij van)(?!\w)", re.I
)
_OF_ONESELF = re.compile(
    r"(?<!\w)(?:I|we|my|our|ich|wir|mein\w*|unser\w*|je|nous|mon|notre|yo|nosotros|nuestr\w+|io|noi|eu|nós|ik|wij)(?!\w)", re.I
)
SOFT = 5
"""Words that share so many letters from their beginning, or of which one holds the other, are near to each other."""


@dataclass
class Look:
    """What was seen: the nearest passage (``None`` where there is none), its features by name, the claims that stand in no source,
    reasons in words, and sums by which figures come out of others."""

    sentence: Span
    tongue: Language
    facts: Facts
    passage: Passage | None = None
    coverage: float = 0.0
    values: dict[str, float] = field(default_factory=dict)
    missing: list[Claim] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)
    sums: list[str] = field(default_factory=list)

    def vector(self) -> list[float]:
        return [self.values.get(name, 0.0) for name in FEATURES]


def look(
    sentence: Span,
    words: Sequence[str],
    near: Sequence[Passage],
    sources: Sequence[Source],
    tongue: Language,
    weight: dict[str, float],
) -> Look:
    """Set a sentence against the passages nearest to it."""
    facts = facts_of(sentence.text, tongue)
    seen = Look(sentence, tongue, facts)
    by_name = {source.name: source for source in sources}
    unique = list(dict.fromkeys(words))
    total = sum(weight.get(word, weight[""]) for word in unique) or 1.0
    best: tuple[float, float, Passage | None] = (0.0, 0.0, None)
    for passage in near:
        source = by_name[passage.source]
        share = _covered(unique, passage, window(source, passage.place), weight) / total
        held = _held(facts, passage, source) if facts.any else 0.0
        if best[2] is None or share + 0.3 * held > best[0]:
            best = (share + 0.3 * held, share, passage)
    _, seen.coverage, seen.passage = best
    passage_ = seen.passage
    source_ = by_name[passage_.source] if passage_ else None
    values = seen.values
    values["coverage"] = seen.coverage
    values["hardly known"] = max(0.0, 0.5 - seen.coverage) * 2
    values["few words"] = float(len(unique) < 4)
    values["no facts"] = float(not (facts.figures or facts.dates or facts.names))
    _figures(seen, source_, sources)
    _dates(seen, source_, sources)
    _names(seen, source_, sources, tongue)
    _copied(seen, sources)
    if passage_ is not None and source_ is not None:
        known = frozenset().union(*(p.words for p in source_.passages)) if len(source_.passages) < 400 else passage_.words
        values["coverage of the source"] = sum(weight.get(w, weight[""]) for w in unique if _in(w, known)) / total
        values["new words"] = min(1.0, sum(not _in(w, known) for w in unique) / 4)
        _turned(seen, passage_, source_, tongue)
        _speaker(seen, passage_, source_, tongue)
        _of_another(seen, passage_, source_, tongue)
        if (days := other_days(sentence.text, passage_.text)) is not None and seen.coverage >= 0.4:
            values["date elsewhere"] = 1.0
            seen.reasons.append(f"the source says {days[1]}, not {days[0]}")
        if tongue.code == "de":
            plain = source_.plain
            unknown = [
                c.group()
                for c in _CAPITAL.finditer(sentence.text)
                if c.group().casefold() not in plain and not _in(tongue.stem(c.group().casefold()), known)
            ]
            values["unknown noun"] = min(1.0, len(unknown) / 2)
        _replaced(seen, passage_)
    wrong = (
        "figure in no source",
        "figure elsewhere",
        "date in no source",
        "date elsewhere",
        "name in no source",
        "name elsewhere",
    )
    values["facts stand there"] = float(not values["no facts"] and not any(values.get(name) for name in wrong))
    return seen


def _covered(words: Sequence[str], passage: Passage, around: Sequence[Passage], weight: dict[str, float]) -> float:
    beside = frozenset().union(*(p.words for p in around))
    out = 0.0
    for word in words:
        share = 1.0 if word in passage.words else 0.75 if _in(word, passage.words) else 0.5 if word in beside else 0.0
        out += share * weight.get(word, weight[""])
    return out


def _in(word: str, known: frozenset[str]) -> bool:
    """Whether a word, or one near to it, is among others."""
    if word in known:
        return True
    if len(word) < SOFT:
        return False
    heads, tails = _edges(known)
    if word[:SOFT] in heads:
        return True
    return word[-SOFT:] in tails and any(other.endswith(word) or (len(other) >= SOFT and word.endswith(other)) for other in known)


@lru_cache(4096)
def _edges(known: frozenset[str]) -> tuple[frozenset[str], frozenset[str]]:
    """How the longer of some words begin and end."""
    long = [word for word in known if len(word) >= SOFT]
    return frozenset(word[:SOFT] for word in long), frozenset(word[-SOFT:] for word in long)


def _held(facts: Facts, passage: Passage, source: Source) -> float:
    """The share of a sentence's facts that a passage holds; a name counts where its source has it."""
    told = [any(agree(f, g) for g in passage.facts.figures) for f in facts.figures]
    told += [any(d.agrees(e) for e in passage.facts.dates) for d in facts.dates]
    told += [name.split()[-1].casefold() in source.plain for name, _, _ in facts.names]
    return sum(told) / len(told) if told else 0.0


def _claim(seen: Look, kind: str, text: str, start: int, end: int) -> None:
    seen.missing.append(Claim(kind, text, seen.sentence.start + start, seen.sentence.start + end))  # type: ignore[arg-type]


def _figures(seen: Look, source: Source | None, sources: Sequence[Source]) -> None:
    values, passage, text = seen.values, seen.passage, seen.sentence.text
    there = passage.facts.figures if passage else ()
    for figure in seen.facts.figures:
        if _of_a_name(figure.start, figure.text, text, sources):
            continue
        rival = next((k for k in there if k.kind == figure.kind and not any(agree(other, k) for other in seen.facts.figures)), None)
        around = window(source, passage.place) if source and passage else ()
        near = [known for p in around for known in p.facts.figures]
        if any(agree(figure, known) for known in near):
            here = [known for known in there if agree(figure, known)]
            other = _better_without(seen, figure, around) if here and passage else None
            rival = rival or other
            apart = (
                source
                and passage
                and here
                and (_counts_another(figure, here, source, seen.tongue) or _of_another_clause(seen, figure, passage))
            )
            if (not here and rival) or other or apart:
                values["figure beside another"] = 1.0
                seen.reasons.append(
                    f"the source says {rival.text}, not {figure.text}" if rival else f"{figure.text} is said of something else"
                )
            continue
        if figure.kind == "time" and any(spelled(figure.value, p.text) for p in around):
            continue
        if source and _in_its_clause(figure, seen, source):
            continue
        total = derived(figure, near, text)
        if total:
            values["derived"] = 1.0
            seen.sums.append(total)
        elif figure.share_of:
            values["figure elsewhere"] = max(values.get("figure elsewhere", 0.0), 0.3)
        elif any(agree(figure, known) for one in sources for known in one.facts.figures):
            values["figure beside another" if rival else "figure elsewhere"] = 1.0
            seen.reasons.append(
                f"the source says {rival.text}, not {figure.text}"
                if rival
                else f"{figure.text} stands in the sources, but not of this"
            )
        else:
            values["figure in no source"] = 1.0
            _claim(seen, "number", figure.number, figure.start, figure.start + len(figure.number))
            seen.reasons.append(
                f"the source says {rival.text}, not {figure.text}" if rival else f"{figure.text} stands in no source"
            )


def _better_without(seen: Look, figure: Figure, around: Sequence[Passage]) -> Figure | None:
    """A figure of the same kind in a neighbour that knows much more of what the sentence says than the passage the figure stands in."""
    words = set(terms(seen.sentence.text, seen.tongue))
    mine = sum(_in(w, seen.passage.words) for w in words) if seen.passage else 0
    for passage in around:
        if passage is not seen.passage and sum(_in(w, passage.words) for w in words) >= mine + 0.3 * len(words):
            for known in passage.facts.figures:
                if known.kind == figure.kind and not any(agree(one, known) for one in seen.facts.figures):
                    return known
    return None


def _of_a_name(start: int, figure: str, text: str, sources: Sequence[Source]) -> bool:
    """Whether a figure belongs to a name, such as that of a product."""
    before = re.search(r"([^\W\d_][\w-]*)\s\Z", text[:start])
    if before is None or not before.group(1)[0].isupper():
        return False
    name = normal(f"{before.group(1)} {figure}").casefold()
    return any(name in one.plain for one in sources)


def _counts_another(figure: Figure, here: Sequence[Figure], source: Source, tongue: Language) -> bool:
    """Whether a plain figure counts something else than in the passage, and the source counts that by another figure."""
    noun = tongue.stem(figure.noun) if figure.noun else ""
    if not noun or any(not known.noun or tongue.stem(known.noun) == noun for known in here):
        return False
    return any(known.noun and tongue.stem(known.noun) == noun and not agree(figure, known) for known in source.facts.figures)


def _of_another_clause(seen: Look, figure: Figure, passage: Passage) -> bool:
    """Whether the clause of the passage that has a figure says nothing of what the sentence says of it, while another clause, with a
    figure of the same kind, does."""
    mine = _clause_at(seen.sentence.text, figure.start)
    words = set(terms(mine, seen.tongue)) - set(terms(figure.text, seen.tongue))
    holding, others = [], []
    begin = 0
    for mark in [*_CLAUSE.finditer(passage.text), None]:
        end = mark.start() if mark else len(passage.text)
        clause = frozenset(terms(passage.text[begin:end], passage.tongue))
        inside = [known for known in passage.facts.figures if begin <= known.start < end]
        shared = sum(_in(word, clause) for word in words)
        if any(agree(figure, known) for known in inside):
            holding.append(shared)
        elif any(known.kind == figure.kind for known in inside):
            others.append(shared)
        begin = mark.end() if mark else end
    return bool(holding and others) and max(others) > max(holding) == 0


def _clause_at(text: str, place: int) -> str:
    begin = 0
    for mark in _CLAUSE.finditer(text):
        if begin <= place < mark.start():
            return text[begin : mark.start()]
        begin = mark.end()
    return text[begin:]


def _in_its_clause(figure: Figure, seen: Look, source: Source) -> bool:
    """Whether another passage of the source bears out the clause a figure stands in."""
    begin = 0
    text = seen.sentence.text
    for mark in [*_CLAUSE.finditer(text), None]:
        end = mark.start() if mark else len(text)
        if begin <= figure.start < end and (begin or end < len(text)):
            words = set(terms(text[begin:end], seen.tongue))
            holding = (p for p in source.passages if any(agree(figure, known) for known in p.facts.figures))
            return bool(words) and any(sum(_in(w, p.words) for w in words) >= 0.5 * len(words) for p in holding)
        begin = mark.end() if mark else end
    return False


def _dates(seen: Look, source: Source | None, sources: Sequence[Source]) -> None:
    values, passage = seen.values, seen.passage
    for date in seen.facts.dates:
        around = window(source, passage.place, 2) if source and passage else ()
        if any(date.agrees(known) for p in around for known in p.facts.dates):
            continue
        rival = next((known for p in around for known in p.facts.dates), None)
        if any(date.agrees(known) for one in sources for known in one.facts.dates):
            values["date elsewhere"] = 1.0
            seen.reasons.append(f"{date.text} stands in the sources, but not of this")
        else:
            values["date in no source"] = 1.0
            _claim(seen, "date", date.text, date.start, date.end)
            seen.reasons.append(f"the source says {rival.text}, not {date.text}" if rival else f"{date.text} stands in no source")


def _names(seen: Look, source: Source | None, sources: Sequence[Source], tongue: Language) -> None:
    values, passage = seen.values, seen.passage
    for name, start, end in seen.facts.names:
        parts = [normal(part).casefold() for part in name.split() if part.casefold() not in tongue.small and len(part) > 1]
        if not parts:
            continue
        around = " ".join(f"{p.speaker} {p.text}" for p in window(source, passage.place, 2)) if source and passage else ""
        near = normal(around).casefold()
        whole = source.plain if source else ""
        if all(_stands(part, near) for part in parts) and (len(parts) == 1 or _together(parts, whole)):
            continue
        if source and all(_stands(part, whole) for part in parts):
            if len(parts) > 1 and not _together(parts, whole):
                values["name half known"] = 1.0
                _claim(seen, "name", name, start, end)
                seen.reasons.append(f"no source knows {name} by this name")
            elif not _about(parts, source):
                values["name elsewhere"] = max(values.get("name elsewhere", 0.0), 0.5)
            continue
        others = [one for one in sources if one is not source and all(_stands(part, one.plain) for part in parts)]
        if others:
            values["name elsewhere"] = 1.0
            seen.reasons.append(f"{name} stands in {others[0].name}, not here")
        elif any(_stands(part, one.plain) for one in sources for part in parts) and len(parts) > 1:
            values["name half known"] = 1.0
            _claim(seen, "name", name, start, end)
            seen.reasons.append(f"no source knows {name} by this name")
        else:
            values["name in no source"] = 1.0
            _claim(seen, "name", name, start, end)
            seen.reasons.append(f"{name} stands in no source")


def _about(parts: Sequence[str], source: Source) -> bool:
    """Whether a source is about somebody or something: it begins with the name, or has it several times."""
    first = normal(" ".join(p.text for p in source.passages[:2])).casefold()
    return all(_stands(part, first) for part in parts) or source.plain.count(parts[-1]) > 1


def _stands(part: str, text: str) -> bool:
    bare = part.removesuffix("'s")
    return re.search(rf"(?<!\w){re.escape(bare)}(?:s|es|n|en|'s)?(?!\w)", text) is not None


def _together(parts: Sequence[str], text: str) -> bool:
    first, last = re.escape(parts[0]), re.escape(parts[-1])
    return re.search(rf"(?<!\w){first}\W+(?:\w+\W+){{0,2}}{last}", text) is not None


def _copied(seen: Look, sources: Sequence[Source]) -> None:
    """Quotations and links must stand in a source as they are."""
    for text, start, end in seen.facts.quotations:
        wanted = normal(text).casefold().strip(" .,!?…")
        if not any(wanted in one.plain for one in sources):
            seen.values["quotation in no source"] = 1.0
            _claim(seen, "quotation", text, start, end)
            seen.reasons.append("nobody is quoted so in a source")
    for text, start, end in seen.facts.links:
        if not any(link[0].rstrip("/") == text.rstrip("/") for one in sources for link in one.facts.links):
            seen.values["link in no source"] = 1.0
            _claim(seen, "link", text, start, end)
            seen.reasons.append("the link stands in no source")


def _turned(seen: Look, passage: Passage, source: Source, tongue: Language) -> None:
    """Whether the sentence says the other way round what the passage says: by *not* and its like, or by words that are opposed."""
    if seen.coverage < 0.42:
        return
    text = seen.sentence.text
    clauses = [clause for clause in _CLAUSE.split(text) if terms(clause, tongue)]
    for said in clauses if len(clauses) > 1 else [text]:
        against = _nearest_clause(said, passage.text, tongue)
        wanted = set(terms(said, tongue))
        if len(clauses) > 1 and sum(_in(w, frozenset(terms(against, tongue))) for w in wanted) < 0.6 * len(wanted):
            continue
        here, there = _refusals(said, tongue) % 2, _refusals(against, tongue) % 2
        pair = opposed(said, against, tongue.code)
        if here != there and not pair:
            seen.values["negated"] = 1.0
            seen.reasons.append("the source says the contrary" if there else "the source does not deny it")
        elif pair and here == there:
            seen.values["opposed"] = 1.0
            seen.reasons.append(f"the source says “{pair[1]}”, not “{pair[0]}”")
    first = next(iter(terms(text, tongue)), "")
    rest = [w for w in dict.fromkeys(terms(text, tongue)) if w != first]
    elsewhere = (
        first
        and not _in(first, passage.words)
        and any(_in(first, p.words) or first in p.speaker.casefold() for p in source.passages)
    )
    if elsewhere and len(rest) > 1 and sum(w in passage.words for w in rest) >= 0.8 * len(rest):
        seen.values["another subject"] = 1.0
        seen.reasons.append("the source says this of another")


def _refusals(text: str, tongue: Language) -> int:
    words = [word.replace("’", "'") for word in _TOKEN.findall(text.casefold())]
    count = sum(word in tongue.refusing for word in words) + len(_FREE_OF.findall(text))
    if tongue.code == "fr":
        count = min(1, count)  # “ne … pas” is one
    return count


def _nearest_clause(sentence: str, passage: str, tongue: Language) -> str:
    """The clause of a passage that shares most with a sentence; the whole where that is spread over it."""
    wanted = set(terms(sentence, tongue))
    clauses = [clause for clause in _CLAUSE.split(passage) if clause.strip()]
    if len(clauses) < 2:
        return passage
    shared = [len(wanted & set(terms(clause, tongue))) for clause in clauses]
    best = max(shared)
    whole = len(wanted & set(terms(passage, tongue)))
    return clauses[shared.index(best)] if best and best >= 0.75 * whole else passage


def _speaker(seen: Look, passage: Passage, source: Source, tongue: Language) -> None:
    first = _TOKEN.match(seen.sentence.text.lstrip('“"«„ '))
    voices = {part.casefold() for p in source.passages if p.speaker for part in p.speaker.split()}
    if first and first.group().casefold() in voices and passage.speaker:
        mine = first.group().casefold()
        if mine not in passage.speaker.casefold().split() and mine not in passage.text.casefold():
            seen.values["said by another"] = 1.0
            seen.reasons.append(f"{passage.speaker.title()} said this, not {first.group()}")
            return
    if not SAYS.search(seen.sentence.text):
        return
    who = speaker_of(seen.sentence.text, tongue)
    told = [name for p in window(source, passage.place) for name in (p.speaker, speaker_of(p.text, p.tongue)) if name]
    told = (
        [passage.speaker]
        if passage.speaker
        else [speaker_of(passage.text, passage.tongue)]
        if speaker_of(passage.text, passage.tongue)
        else told
    )
    if not who or not told:
        return
    surname = who.split()[-1].casefold()
    if not any(surname in name.casefold().split() for name in told):
        seen.values["said by another"] = 1.0
        seen.reasons.append(f"{told[0]} said this, not {who}")


def _of_another(seen: Look, passage: Passage, source: Source, tongue: Language) -> None:
    """Whether the sentence begins with somebody of whom the passage says nothing, and the passage says the rest of another."""
    text = seen.sentence.text
    mine = next((name for name, start, _ in seen.facts.names if len(_TOKEN.findall(text[:start])) <= 1), "")
    if not mine:  # a single word at the beginning is no name by its capital alone
        first = _TOKEN.match(text)
        word = first.group() if first and first.group()[0].isupper() and first.group().casefold() not in tongue.small else ""
        named = tongue.code != "de" and word and re.search(rf"(?<=[a-zà-ÿ,] ){re.escape(word)}(?!\w)", source.text)
        mine = word if named or (word and any(word.casefold() in p.speaker.casefold().split() for p in source.passages)) else ""
    parts = [part.casefold() for part in mine.split()]
    speaks = passage.speaker if _OF_ONESELF.search(passage.text) else ""  # who speaks is meant where they speak of themselves
    if not parts or any(_stands(part, normal(f"{speaks} {passage.text}").casefold()) for part in parts):
        return
    theirs = next(iter(passage.facts.names), None)
    rest = [w for w in dict.fromkeys(terms(text, tongue)) if w not in {tongue.stem(part) for part in parts}]
    shared = [w for w in rest if _in(w, passage.words)]
    if theirs is None or len(rest) < 2 or len(shared) < 0.7 * len(rest):
        return
    name, start, _ = theirs
    leads = len(terms(passage.text[:start], tongue)) <= 2
    turned = re.search(rf"(?<!\w)(?:by|von|vom|durch|par|por|da|dal|door)\s+(?:\w+\s+)?{re.escape(name)}", text, re.I)
    if leads and not turned and not text.casefold().startswith(name.casefold()):
        seen.values["said by another"] = 1.0
        seen.reasons.append(f"the source says this of {name}, not of {mine}")


def _replaced(seen: Look, passage: Passage) -> None:
    """How many words stand in the place of others, with the same words on both sides; and whether what is shared comes in another
    order."""
    mine = [word.casefold() for word in _TOKEN.findall(seen.sentence.text)]
    theirs = [word.casefold() for word in _TOKEN.findall(passage.text)]
    if len(theirs) > 80:
        return
    blocks = SequenceMatcher(None, mine, theirs, autojunk=False).get_opcodes()
    count = 0
    for n, (tag, a, b, c, d) in enumerate(blocks):
        if tag != "replace" or n == 0 or n == len(blocks) - 1:
            continue
        before, after = blocks[n - 1], blocks[n + 1]
        if before[0] == after[0] == "equal" and b - a <= 3 and d - c <= 3 and (before[2] - before[1]) + (after[2] - after[1]) >= 3:
            mine_new = [w for w in mine[a:b] if not w.isdigit()]
            count += bool(mine_new)
    seen.values["replaced words"] = min(1.0, count / 2)
    shared = [w for w in mine if len(w) > 3 and w in theirs]
    places = [theirs.index(w) for w in dict.fromkeys(shared)]
    if len(places) >= 4:
        inverted = sum(x > y for i, x in enumerate(places) for y in places[i + 1 :])
        seen.values["turned round"] = 2 * inverted / (len(places) * (len(places) - 1))
