"""Judging: for each sentence of a draft, how far the sources bear it out, with the passage, the reasons, and what stands nowhere.

A sentence is set against single passages of single sources (`looking`), and what is seen is weighed by a small model fitted to
labelled drafts (`weights`, made by ``make fit``). Facts that stand in no source weigh for themselves. No language model is asked.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..languages import language
from ..text import html, tongue_of
from .claims import Claim
from .looking import FEATURES, Look, look
from .needs import kind_of_speech
from .passages import Passage, Source, read_sources, spans_of, terms
from .weights import BIAS, LIMIT, WEIGHTS

Level = Literal["supported", "by paraphrase", "doubtful", "contradicts a source", "in no source", "needs none"]
FLAGGED: frozenset[Level] = frozenset(("doubtful", "contradicts a source", "in no source"))
MOST_SENTENCES = 3000
NEAREST = 4
"""So many passages a sentence is set against."""
WORDED, KNOWN = 0.55, 0.3
"""From which share of its words on a sentence is supported in the source's own words, and is known to a source at all."""


@dataclass(frozen=True)
class Support:
    """One sentence of a draft, with its place: its level, how likely it is to be borne out (0 to 1), the source and passage nearest to
    it, the claims in it that stand in no source, reasons in words, and sums by which its figures come out of the source's."""

    text: str
    start: int
    end: int
    level: Level
    score: float
    source: str = ""
    passage: str = ""
    missing: tuple[Claim, ...] = ()
    reasons: tuple[str, ...] = ()
    sums: tuple[str, ...] = ()

    @property
    def flagged(self) -> bool:
        """Whether a person should look at it."""
        return self.level in FLAGGED

    @property
    def unsure(self) -> bool:
        """Whether code is blind here: nothing speaks against it, and no passage was found. It may be said in other words."""
        return self.level == "by paraphrase" and not self.passage

    @property
    def plainly(self) -> Literal["supported", "unsupported", "nothing"]:
        """The level in three words, for programs: what is flagged is unsupported."""
        return "nothing" if self.level == "needs none" else "unsupported" if self.flagged else "supported"


@dataclass(frozen=True)
class Evidence:
    """Every sentence of a draft with its support, in order."""

    sentences: list[Support] = field(default_factory=list)

    @property
    def flagged(self) -> list[Support]:
        """The sentences a person should look at."""
        return [sentence for sentence in self.sentences if sentence.flagged]


def evidence(draft: str, sources: Mapping[str, str]) -> Evidence:
    """The support for `draft` in `sources` (name → text); of HTML what one reads, and places in that. Time grows linearly with both."""
    text = html.read(draft).text if html.is_html(draft) else draft
    return Evidence([judge(seen) for seen in looks(text, sources)])


def looks(draft: str, sources: Mapping[str, str]) -> list[Look]:
    """Every sentence of a draft set against its sources."""
    sentences = spans_of(draft, MOST_SENTENCES)
    if not sentences:
        return []
    known = read_sources({name: html.read(text).text if html.is_html(text) else text for name, text in sources.items()})
    tongue = language(tongue_of(draft) or next((one.tongue.code for one in known), "en"))
    words = [terms(sentence.text, tongue) for sentence in sentences]
    passages = [passage for source in known for passage in source.passages]
    weight = _weights_of(passages)
    nearest = _nearest([frozenset(one) for one in words], passages)
    return [look(sentence, one, near, known, tongue, weight) for sentence, one, near in zip(sentences, words, nearest, strict=True)]


@dataclass(frozen=True)
class Model:
    """What is seen of a sentence, weighed: the bias, a weight for each feature, and the doubt from which on it is flagged."""

    bias: float
    limit: float
    weights: Mapping[str, float]


FITTED = Model(BIAS, LIMIT, WEIGHTS)


def judge(seen: Look, model: Model = FITTED) -> Support:
    """The level of a sentence that was looked at."""
    text, values = seen.sentence.text, seen.values
    doubt = doubt_of(seen.vector(), model)
    passage = seen.passage if seen.coverage >= KNOWN else None
    level: Level
    if not seen.missing and needs_none(seen):
        level = "needs none"
    elif seen.missing or doubt > model.limit:
        against = any(
            values.get(name) for name in ("negated", "opposed", "said by another", "figure beside another", "figure elsewhere")
        )
        rival = any("the source says" in reason for reason in seen.reasons)
        level = "contradicts a source" if passage and (against or rival) else "doubtful" if passage else "in no source"
    else:
        level = "supported" if seen.coverage >= WORDED else "by paraphrase"
    return Support(
        text,
        seen.sentence.start,
        seen.sentence.end,
        level,
        round(1 - doubt, 3),
        passage.source if passage else "",
        passage.text if passage else "",
        tuple(sorted(seen.missing, key=lambda claim: claim.start)),
        tuple(dict.fromkeys(seen.reasons)) if level in FLAGGED else (),
        tuple(dict.fromkeys(seen.sums)),
    )


def needs_none(seen: Look) -> bool:
    """Whether a sentence says nothing that a source could know: a question, a call, a greeting, an opinion, with no fact in it and
    nothing much of what the sources say."""
    question, call, near, felt = kind_of_speech(seen.sentence.text, seen.tongue.code)
    facts = seen.facts
    if facts.figures or facts.quotations or facts.dates or [name for name in facts.names if seen.values.get("name in no source")]:
        return False
    if seen.values.get("negated") or seen.values.get("opposed"):
        return False
    if question and seen.coverage < WORDED:
        return True
    if not terms(seen.sentence.text, seen.tongue):
        return True
    return seen.coverage < 0.45 and (call or felt or (near and not facts.names))


def doubt_of(vector: Sequence[float], model: Model) -> float:
    """How likely a sentence is not borne out, from 0 to 1."""
    total = model.bias + sum(model.weights[name] * value for name, value in zip(FEATURES, vector, strict=True))
    return 1 / (1 + math.exp(-max(-30.0, min(30.0, total))))


def _weights_of(passages: Sequence[Passage]) -> dict[str, float]:
    """How much a word weighs: the more, the fewer passages have it (``""``: one that none has)."""
    held = Counter(word for passage in passages for word in passage.words)
    count = len(passages)
    return {word: math.log((2 + count) / n) for word, n in held.items()} | {"": 0.8 * math.log(2 + count) or 1.0}


def _nearest(sentences: Sequence[frozenset[str]], passages: Sequence[Passage]) -> list[list[Passage]]:
    """For each sentence the passages that share most of its words, by weight."""
    import numpy as np
    from scipy.sparse import csr_matrix

    if not passages:
        return [[] for _ in sentences]
    held = Counter(word for passage in passages for word in passage.words)
    places = {word: i for i, word in enumerate(held)}
    count = len(passages)

    def matrix(rows: Sequence[frozenset[str]], weighed: bool) -> Any:
        data, columns, starts = [], [], [0]
        for row in rows:
            for word in row:
                if word in places:
                    columns.append(places[word])
                    data.append(math.log((2 + count) / held[word]) if weighed else 1.0)
            starts.append(len(columns))
        return csr_matrix((data, columns, starts), shape=(len(rows), len(places)))

    # Only what two have in common is stored, so that the time goes by that, and not by how many there are of both.
    shared = csr_matrix(matrix(sentences, True) @ matrix([p.words for p in passages], False).T)
    out: list[list[Passage]] = []
    for i in range(len(sentences)):
        row = slice(shared.indptr[i], shared.indptr[i + 1])
        weights, columns = shared.data[row], shared.indices[row]
        order = np.lexsort((columns, -weights))[:NEAREST]
        out.append([passages[int(columns[n])] for n in order])
    return out


__all__ = ["Claim", "Evidence", "Level", "Source", "Support", "evidence", "judge", "looks"]
