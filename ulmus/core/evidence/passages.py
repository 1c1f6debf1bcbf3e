"""Sources cut into passages, with the words that carry their meaning."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache

from ..languages import Language, language
from ..text import Span, normal, tongue_of
from ..text.sentences import spans
from .claims import Facts, facts_of

_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
_BARE = re.compile(r"https?://\S+|[#@]\w+")
_SPEAKER = re.compile(r"^\s*([A-ZÀ-Þ][\w .’'-]{0,38}?)\s*:\s+(?=\S)")
LONGEST_SOURCE = 2_000_000
MOST_PASSAGES = 50_000


def terms(text: str, tongue: Language) -> list[str]:
    """The words of a text that carry its meaning, without endings; links and tags are left out."""
    bare = _BARE.sub(" ", text).replace("’", "'").casefold()
    out = []
    for word in _WORD.findall(bare):
        for part in word.split("'") if tongue.code in ("fr", "it") else (word,):
            if len(part) > 1 and part not in tongue.small and part not in tongue.refusing:
                out.append(tongue.stem(part))
    return out


@dataclass
class Passage:
    """A sentence of a source: which (`source`, `place` in it), its words, and who speaks in a transcript."""

    source: str
    place: int
    text: str
    tongue: Language
    speaker: str = ""
    words: frozenset[str] = field(default=frozenset())

    @cached_property
    def facts(self) -> Facts:
        return facts_of(self.text, self.tongue)


@dataclass
class Source:
    """A source: its passages in order, and all that stands in it."""

    name: str
    text: str
    tongue: Language
    passages: list[Passage]

    @cached_property
    def plain(self) -> str:
        return normal(self.text).casefold()

    @cached_property
    def facts(self) -> Facts:
        """All facts of it: worked out when a draft holds one that no near passage has."""
        parts = [passage.facts for passage in self.passages]
        return Facts(
            tuple(f for part in parts for f in part.figures),
            tuple(f for part in parts for f in part.dates),
            tuple(f for part in parts for f in part.names),
            (),
            tuple(f for part in parts for f in part.links),
        )


def read_sources(sources: Mapping[str, str]) -> list[Source]:
    """The sources with their passages, up to `MOST_PASSAGES` in all."""
    out: list[Source] = []
    left = MOST_PASSAGES
    for name, text in sources.items():
        if text.strip() and left > 0:
            source = read_source(name, text[:LONGEST_SOURCE])
            if len(source.passages) > left:
                source = Source(name, source.text, source.tongue, source.passages[:left])
            left -= len(source.passages)
            out.append(source)
    return out


@lru_cache(16)
def read_source(name: str, text: str) -> Source:
    """A source with its passages; those that were read last are kept, since a draft is set against them at each change."""
    tongue = language(tongue_of(text))
    passages: list[Passage] = []
    lines = text.split("\n")
    speakers = _speakers(lines)
    for line in lines:
        told = _SPEAKER.match(line)
        speaker = told.group(1) if told and told.group(1) in speakers else ""
        body = line[told.end() :] if told and speaker else line
        for span in spans(body, tongue.code):
            passages.append(Passage(name, len(passages), span.text, tongue, speaker, frozenset(terms(span.text, tongue))))
    return Source(name, text, tongue, passages)


def _speakers(lines: Sequence[str]) -> set[str]:
    """Who speaks in a transcript: the names before colons where one of them speaks again."""
    told = Counter(found.group(1) for line in lines if (found := _SPEAKER.match(line)) and len(found.group(1).split()) < 4)
    return set(told) if len(told) > 1 and max(told.values()) > 1 else set()


def spans_of(draft: str, most: int) -> list[Span]:
    """The sentences of a draft, lines of links and tags too."""
    out: list[Span] = []
    for span in spans(draft):
        if len(out) >= most:
            break
        if any(map(str.isalnum, span.text)):
            out.append(span)
    return out


def window(source: Source, place: int, reach: int = 1) -> Sequence[Passage]:
    """A passage with its neighbours."""
    return source.passages[max(0, place - reach) : place + reach + 1]
