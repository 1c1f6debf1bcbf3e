"""What the practice model makes of its material where a shape is asked for: blocks under headlines, fields by what their names and
descriptions mean, key words, the smaller questions of a question, answers with their sources, sections put together."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field

from .words import PLAIN, STOP, bag

SENTENCE = re.compile(r"(?<=[.!?])[”\"’)]*\s+(?=[“\"‘(A-Z0-9])")
ENDS = '.!?…:;”"’)'
_WORD = re.compile(r"[^\W\d_]{4,}")
_CUT = frozenset(
    [
        "a",
        "an",
        "the",
        "of",
        "in",
        "to",
        "and",
        "for",
        "with",
        "by",
        "on",
        "at",
        "from",
        "as",
        "or",
        "its",
        "their",
        "his",
        "her",
        "than",
        "that",
        "which",
    ]
)
_TABLE = re.compile(r"\S {2,}\S+.* {2,}\S")
_MEANT = {
    "offer product service make sell": "plan plant build make repair sell offer craft grow produce serve costs",
    "customers clients buyers guests whom": "guest family families customer client owner order half third group work people",
    "people person who team runs": "about began founder runs brother daughter sister people founded bought leads",
    "news latest happened": "new since from january may spring autumn september opened looking finished join need",
    "price prices cost": "cost price free charge day",
}
"""What words of a field's description point to in a text, by their beginnings."""


@dataclass
class Block:
    """A part of a text: its headline, empty where it has none, and its sentences in order."""

    headline: str = ""
    sentences: list[str] = field(default_factory=list)


def whole(line: str) -> bool:
    """Whether a line is no row of a table, and not cut off in the middle."""
    return not _TABLE.search(line) and line.rstrip(ENDS).rpartition(" ")[2].lower() not in _CUT


def sentences_of(line: str) -> list[str]:
    """The sentences of a line; a last one that is cut off is left out where there are others."""
    found = [s.strip() for s in SENTENCE.split(line) if s.strip()]
    return found[:-1] if len(found) > 1 and (found[-1][-1] not in ENDS or found[-1].endswith("…")) else found


def blocks(material: str) -> list[Block]:
    """A text by its headlines, which are short lines that end with no mark; one that runs over two lines is put together."""
    out = [Block()]
    lines = [line.strip() for line in material.splitlines()]
    for n, line in enumerate(lines):
        words = len(line.split())
        if not words or _TABLE.search(line):
            continue
        if line[-1] in ENDS or words > 14:
            out[-1].sentences += [s for s in sentences_of(line) if s[-1] in ENDS]
        elif words < 4 and n and lines[n - 1] and lines[n - 1][-1] not in ENDS and not out[-1].sentences and out[-1].headline:
            out[-1].headline += f" {line}"
        else:
            out.append(Block(line.strip("# ")))
    return [one for one in out if one.headline or one.sentences]


def headline(material: str, most: int = 10, own: str = "") -> str:
    """A headline of at most so many words: the text's `own`, or the longest part of it or of its first sentence that fits."""
    told = [one.headline for one in blocks(material) if len(one.headline.split()) > 2]
    first = next((s for one in blocks(material) for s in one.sentences), material.strip().split("\n")[0])
    for words in (own, *told[:1], first):
        whole_one, parts = words.strip(ENDS), [p.strip(f" {ENDS}") for p in re.split(r"[,;:–—] | (?:because|which|who) ", words)]
        fitting = [p for p in (whole_one, *parts) if 2 < len(p.split()) <= most]
        if fitting:
            best = max(fitting, key=len)
            return best[:1].upper() + best[1:]
    words = first.split()[:most]
    while len(words) > 3 and words[-1].lower().strip(ENDS) in _CUT | {"is", "was", "are", "were", "has", "had", "who", "when"}:
        words.pop()
    return " ".join(words).rstrip(".,;: ")


def keywords(material: str, count: int) -> list[str]:
    """The words a text keeps coming back to, and names in it, as people would look for them."""
    words = [w for w in _WORD.findall(material) if w.lower() not in STOP | PLAIN and not w.lower().endswith("ed")]
    often = Counter(w.lower() for w in words)
    names = Counter(re.findall(r"(?<=[a-z,] )[A-Z][a-z]{3,}", material))
    best = sorted(often, key=lambda w: -(often[w] + 0.6 * names[w.capitalize()]))
    return [w.capitalize() if names[w.capitalize()] else w for w in best[:count]]


_ASKS = frozenset(["one", "what", "who", "whom", "they", "them", "thei", "ther", "with", "that", "this", "sent", "stat", "most"])


def _stems(text: str) -> set[str]:
    return {w[:4] for w in bag(text)}


def of_sense(name: str, about: str, material: str, used: set[str]) -> str | None:
    """The sentence of a text that a field's name and description speak of, none twice; ``None`` where none does."""
    wanted = _stems(f"{name} {about}") - _ASKS
    meant = {w[:4] for asks, points in _MEANT.items() if _stems(name) & _stems(asks) for w in points.split()}
    found, best = None, 0.0
    for block in blocks(material):
        under = 2.5 * len((wanted | meant) & _stems(block.headline))
        for place, sentence in enumerate(block.sentences):
            said = _stems(sentence)
            score = under + 1.5 * len(wanted & said) + 1.0 * len(meant & said) - 0.2 * place
            score -= 1.5 if re.match(r"(?:It|She|He|They|This|That|But|And)\b", sentence) else 0
            if score > max(best, 0.9) and sentence not in used:
                found, best = sentence, score
    if found:
        used.add(found)
    return found


def known_as(values: Iterable[tuple[str, str]], name: str) -> str | None:
    """The value from outside whose name ends with this one."""
    return next((value for source, value in values if source.rpartition(".")[2].lower() == name.lower()), None)


def in_talk(company: str) -> str:
    """A company's name as one says it, without its legal form."""
    return re.sub(r",? (?:Ltd|Limited|Inc|LLC|PLC|GmbH(?: & Co\. KG)?|AG|KG|S\.?A\.?|S\.?r\.?l\.?|B\.?V\.?|Oy|AB)\.?$", "", company)


def quoted(sentence: str) -> str:
    """Something of theirs, named in a sentence of one's own."""
    return f"On your pages I read: “{sentence.rstrip('.')}.”"


# -- questions ----------------------------------------------------------------------------------------


def sub_questions(question: str) -> list[str]:
    """Three to five smaller questions: its own parts, and what one would ask besides of what it is about."""
    parts = [p.strip(" ?.,") for p in re.split(r"\?|,? and (?=(?:to |for |by |of )?(?:who|what|where|when|why|how))", question)]
    parts = [p for p in parts if len(p.split()) > 3] or [question.strip(" ?.,")]
    matter = re.sub(r"^(?:who|whom|what|where|when|why|how(?: much| many| long)?)\s+\w+\s+", "", parts[0], flags=re.I)
    matter = matter[:1].upper() + matter[1:]
    more = [f"{matter}: what is new", f"{matter}: who takes part", f"{matter}: what does it cost or bring"]
    return [f"{p[:1].upper()}{p[1:]}?" for p in [*parts[:2], *more]][:5]


_SOURCE = re.compile(r"^(?:\d+\. )?(?P<title>.+?) \((?P<link>https?://[^\s)]+)\):? ?(?P<text>.*)$", re.M)


def answered(question: str, material: str, most: int = 3) -> str | None:
    """A question answered with the sentences of its sources that speak of it, and the sources' names; ``None`` where none are told."""
    sources = list(_SOURCE.finditer(material))
    if not sources:
        return None
    wanted = set(bag(question))
    said: list[tuple[int, str, str]] = []
    for one in sources:
        near = len(wanted & set(bag(one["title"])))
        for sentence in sentences_of(one["text"]):
            score = 2 * len(wanted & set(bag(sentence))) + near
            if score > 2 and sentence[-1] in ENDS:
                said.append((-score, sentence, f"{one['title']}, {one['link']}"))
    if not said:
        return "The sources do not say."
    best = sorted(said, key=lambda found: found[0])[:most]
    return " ".join(s for _, s, _ in best) + "\n\nFrom: " + "; ".join(dict.fromkeys(source for _, _, source in best))


# -- longer pieces ------------------------------------------------------------------------------------


def planned(material: str, count: int) -> list[tuple[str, str]]:
    """Sections for a text: so many of its parts that have most to say, in their order, with headline and first sentence."""
    parts = [b for b in blocks(material) if b.sentences]
    if len(parts) < count:
        parts = [Block("", [s]) for block in parts for s in block.sentences]
    chosen = sorted(sorted(range(len(parts)), key=lambda n: -len(" ".join(parts[n].sentences)))[:count])
    return [(parts[n].headline or headline(parts[n].sentences[0], 7), parts[n].sentences[0]) for n in chosen]


def going_on(sentence: str, material: str, room: int) -> str | None:
    """A text from a sentence of it on, as far as there is room; ``None`` where it does not stand there."""
    for block in blocks(material):
        if sentence in block.sentences:
            out: list[str] = []
            for one in block.sentences[block.sentences.index(sentence) :]:
                if out and sum(map(len, out)) + len(out) + len(one) > room:
                    break
                out.append(one)
            return " ".join(out)
    return None


def put_together(material: str, room: int) -> str | None:
    """Sections with their headings as one text of at most so many characters, nothing said twice; ``None`` where there are none."""
    sections: list[Block] = []
    for line in (one.strip() for one in material.splitlines() if one.strip()):
        if line.startswith("#") or line.endswith("?"):
            sections.append(Block(line.strip("# ")))
        elif sections:
            sections[-1].sentences += [line] if line.startswith("From: ") else sentences_of(line)
    sections = [one for one in sections if one.sentences]
    if not sections:
        return None
    share, said, out = room // len(sections), set[str](), list[str]()
    for one in sections:
        kept: list[str] = []
        for sentence in one.sentences:
            if sentence not in said and (
                not kept or sentence.startswith("From: ") or sum(map(len, kept)) + len(sentence) + len(one.headline) + 12 < share
            ):
                kept.append(sentence)
                said.add(sentence)
        text, sources = [s for s in kept if not s.startswith("From: ")], [s for s in kept if s.startswith("From: ")]
        if text:
            out += [f"## {one.headline}", " ".join(text), *sources]
    return "\n\n".join(out)


def as_html(text: str) -> str:
    """A text with headings (`##`), lists (`-`) and paragraphs as HTML."""
    return "\n".join(_element(part.strip()) for part in re.split(r"\n\s*\n", text) if part.strip())


def _element(part: str) -> str:
    safe = part.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    linked = re.sub(r"https?://[^\s<>;,)”]+[^\s<>;,.)”]", lambda m: f'<a href="{m[0]}">{m[0]}</a>', safe)
    if linked.startswith("#"):
        return f"<h2>{linked.strip('# ')}</h2>"
    if all(line.startswith("- ") for line in linked.splitlines()):
        return "<ul>" + "".join(f"<li>{line[2:]}</li>" for line in linked.splitlines()) + "</ul>"
    return f"<p>{linked.replace(chr(10), '<br>')}</p>"
