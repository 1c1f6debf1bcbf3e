"""What a model puts round the piece: words before and after it, labels, fences, thinking aloud, quotation marks.

One reading serves two ends: the rule *nothing but the piece* is broken where there is any of it, and mending takes it off. A line
counts as said by the writer when it speaks of the task: it names the piece (*post*, *Entwurf*, *version*) and does something with
it that only a writer does (hands it over, offers another, counts its characters). Real openings do not.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from .wrapping_words import ASIDES, ASSENT, CHANGES, COUNTS, HANDS_OVER, LABELS, OFFERS, PIECES, READERS, TASK, THINKS, WRITER

_FENCE_START = re.compile(r"\A\s*(?:```|~~~)[\w-]*[ \t]*(?:\n|\Z)")
_FENCE_END = re.compile(r"(?:\n|\A)[ \t]*(?:```|~~~)\s*\Z")
_THOUGHT = re.compile(r"\A\s*<(think|thinking|thought|reasoning|reflection|scratchpad|analysis)>.*?(?:</\1>|\Z)\s*", re.S | re.I)
_THOUGHT_END = re.compile(r"\A.*?</(?:think|thinking|thought|reasoning|reflection|scratchpad|analysis)>\s*", re.S | re.I)
_TAGGED = re.compile(r"\A\s*<(answer|output|response|final|draft|post|piece|result)>", re.I)
_TAG_END = re.compile(r"</(?:answer|output|response|final|draft|post|piece|result)>\s*\Z", re.I)
_MARKS = " \t*_#>`~-–—"
_RULE_LINE = re.compile(r"[-*_=–—]{3,}\s*\Z")
_LONGEST_ASIDE = 300
_NOTE = re.compile(
    r"\A\W*(?:\(|\[|\*)|\A\W*(?:notes?|nb|hinweis|anmerkung|remarque|nota|notas|opmerking|let op|p\.?s\.?)\b\W*:?", re.I
)


@dataclass(frozen=True)
class Wrapping:
    """The piece inside a text: its place, and what was found round it, in words for a person; none where all is the piece."""

    start: int
    end: int
    found: tuple[str, ...] = ()


def wrapping(text: str) -> Wrapping:
    """Where in `text` the piece stands. Linear in the text; whatever is left keeps at least one word."""
    start, end, found = 0, len(text), list[str]()
    for _ in range(6):
        step = _before(text[start:end]) or _after(text[start:end])
        if step is None:
            break
        cut, where, words = step
        inner = (start + cut, end) if where == "before" else (start, start + cut)
        if not any(map(str.isalnum, text[inner[0] : inner[1]])):
            if where == "before":
                break
            found.append(words)
            break
        start, end = inner
        found.append(words)
    while start < end and text[start].isspace():
        start += 1
    while end > start and text[end - 1].isspace():
        end -= 1
    return Wrapping(start, end, tuple(dict.fromkeys(found)))


def _before(text: str) -> tuple[int, str, str] | None:
    """What stands before the piece: where the piece begins, and what it was."""
    for pattern, words in ((_THOUGHT, "thinking aloud"), (_FENCE_START, "a code fence")):
        found = pattern.match(text)
        if found:
            return found.end(), "before", words
    ends = _THOUGHT_END.match(text)
    if ends:
        return ends.end(), "before", "thinking aloud"
    tagged = _TAGGED.match(text)
    if tagged:
        return tagged.end(), "before", "a label"
    begun = len(text) - len(text.lstrip())
    line_end = text.find("\n", begun)
    line = text[begun : line_end if line_end >= 0 else len(text)]
    after = len(text) if line_end < 0 else line_end
    bare = line.strip(_MARKS)
    if _RULE_LINE.match(line.strip()):
        return after, "before", "a dividing line"
    label = LABELS.match(bare)
    if label:
        at = line.find(label.group()) + len(label.group())
        while at < len(line) and line[at] in _MARKS + ":：":
            at += 1
        return begun + at, "before", f"the label “{label.group().strip(_MARKS + ':：')}”"
    alone = line_end >= 0 and bool(text[line_end:].strip())
    assent = ASSENT.match(bare)
    if assent and assent.end() < len(bare) + alone and (alone or bare[assent.end() :].strip()):
        whole = assent.end() >= len(bare)
        at = after if whole else begun + line.find(assent.group()) + len(assent.group())
        rest = bare[assent.end() :]
        if assent.group().rstrip()[-1] in "!." and (whole or not _by_the_writer(rest, True)):
            return at, "before", f"“{assent.group().strip()}”"
    if alone and len(bare) <= _LONGEST_ASIDE and _by_the_writer(bare, bare.rstrip(_MARKS).endswith((":", "：")), bool(assent)):
        return after, "before", f"“{_short(bare)}”"
    # Handed over in the very line: “Here is your post: …”.
    head, colon, rest = bare.partition(":")
    if colon and rest.strip() and len(head) < 120 and HANDS_OVER.search(head) and PIECES.search(head) and TASK.search(head + colon):
        return begun + line.find(colon, line.find(head)) + 1, "before", f"“{_short(head)}:”"
    thinks = THINKS.match(bare)
    if thinks:
        gap = re.search(r"\n\s*\n", text[begun:])
        if gap:
            return begun + gap.end(), "before", "thinking aloud"
    return None


def _after(text: str) -> tuple[int, str, str] | None:
    """What stands after the piece: where the piece ends, and what it was."""
    fence = _FENCE_END.search(text)
    if fence:
        return fence.start(), "after", "a code fence"
    bare_text = text.rstrip()
    closes = _TAG_END.search(bare_text, max(0, len(bare_text) - 20))
    if closes:
        return closes.start(), "after", "a label"
    counted = next(
        (m for m in COUNTS.finditer(bare_text, max(0, len(bare_text) - 150)) if m.end() == len(bare_text) and m.group()[0] in "(["),
        None,
    )
    if counted:
        return counted.start(), "after", f"“{_short(counted.group())}”"
    gap = bare_text.rfind("\n")
    if gap < 0:
        return None
    paragraph = re.split(r"\n\s*\n", bare_text)[-1]
    for last in dict.fromkeys((paragraph, bare_text[gap + 1 :])):
        said = last.strip(_MARKS)
        at = bare_text.rfind(last)
        if _RULE_LINE.match(last.strip()) or not said:
            return at, "after", "a dividing line"
        if COUNTS.fullmatch(said) or (len(said) <= 2 * _LONGEST_ASIDE and _aside(last.strip(), said)):
            return at, "after", f"“{_short(said)}”"
    return None


def _aside(last: str, said: str) -> bool:
    """Whether the last paragraph speaks of the task."""
    if READERS.search(said):
        return False
    if OFFERS.search(said) and (PIECES.search(said) or CHANGES.search(said)):
        return True
    if ASIDES.search(said):
        return True
    noted = _NOTE.match(last) is not None
    names, task, writer = PIECES.search(said), TASK.search(said), WRITER.search(said)
    return bool(
        noted and ((names and (task or writer)) or (task and writer) or TASK.match(said.lstrip("(*[_ ").split(":", 1)[-1].strip()))
    )


def _by_the_writer(line: str, colon: bool, assent: bool = False) -> bool:
    """Whether a line before the piece hands it over."""
    if READERS.search(line):
        return False
    hands, names = HANDS_OVER.search(line) is not None, PIECES.search(line) is not None
    task, writer = TASK.search(line) is not None, WRITER.search(line) is not None
    if colon:
        return (names and (hands or writer or task or assent)) or (hands and task and writer) or (assent and hands)
    return names and ((hands and (task or writer)) or (writer and task) or (assent and line.rstrip(_MARKS).endswith("!")))


def _short(line: str) -> str:
    bare = " ".join(line.split())
    return bare if len(bare) <= 60 else f"{bare[:59]}…"
