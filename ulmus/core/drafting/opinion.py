"""A second opinion on evidence: a model says which sentences the sources bear out, and has to show the passage.

What it shows is looked for in the sources by code: a passage that stands nowhere counts for nothing.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from ..evidence import Evidence, Support
from .prompts import as_material, material_note
from .shapes import Shape, ShapeField

Verdict = Literal["supported", "unsupported", "contradicted"]
MOST = 30
SHAPE = Shape(
    "list",
    (
        ShapeField(name="number", type="number", about="of the sentence"),
        ShapeField(name="verdict", type="choice", choices=["supported", "unsupported", "contradicted"]),
        ShapeField(name="passage", about="copied word for word from the material; empty where there is none", required=False),
    ),
)


@dataclass(frozen=True)
class Opinion:
    """What a model says of one sentence (`number`, from 1, of those it was asked about): its verdict, the passage it shows and in
    which source that stands (empty where it stands in none)."""

    number: int
    text: str
    verdict: Verdict
    passage: str
    source: str


def opinion_messages(sentences: Sequence[str], sources: Mapping[str, str]) -> list[dict[str, str]]:
    """What the model is asked."""
    system = (
        "You check sentences against source material. For each sentence say whether the material supports it, contradicts it, "
        "or does neither, and copy the passage you go by word for word. " + material_note()
    )
    told = "\n".join(f"{n}. {sentence}" for n, sentence in enumerate(sentences[:MOST], 1))
    material = "\n\n".join(as_material(name, text) for name, text in sources.items() if text.strip())
    return [{"role": "system", "content": system}, {"role": "user", "content": f"The sentences:\n{told}\n\n{material}"}]


def in_question(found: Evidence) -> list[str]:
    """The sentences a model is asked about: those code is blind for, and those it doubts; the blind ones first."""
    blind = [one.text for one in found.sentences if one.unsure]
    return list(dict.fromkeys([*blind, *(one.text for one in found.flagged)]))[:MOST]


def weighed(found: Evidence, opinions: Sequence[Opinion]) -> Evidence:
    """The evidence with a model's opinions on some sentences in it. An opinion counts by the passage it shows: a sentence code was
    blind for is borne out by it, or contradicted; without one it is doubtful, since neither found any. Doubts of code are cleared by
    none: figures and names are its to judge."""
    said = {one.text: one for one in opinions}
    return Evidence([_with(one, said[one.text]) if one.text in said else one for one in found.sentences])


def _with(one: Support, said: Opinion) -> Support:
    if one.unsure and said.source and said.verdict == "supported":
        return replace(one, source=said.source, passage=said.passage, reasons=("a model that was asked shows this passage",))
    if one.unsure and said.source and said.verdict == "contradicted":
        reason = "a model that was asked says that this passage speaks against it"
        return replace(one, level="contradicts a source", source=said.source, passage=said.passage, reasons=(reason,))
    if one.unsure:
        return replace(one, level="doubtful", reasons=("neither code nor a model that was asked found a passage for it",))
    words = {
        "supported": "a model that was asked finds it in the sources",
        "contradicted": "a model that was asked finds that the sources speak against it",
        "unsupported": "a model that was asked found no passage either",
    }
    return replace(one, reasons=(*one.reasons, words[said.verdict]))


def opinions_of(values: Mapping[str, Any], sentences: Sequence[str], sources: Mapping[str, str]) -> list[Opinion]:
    """The opinions on `sentences` in an answer. Without a passage that stands in a source each is *unsupported*."""
    plain = {name: _plain(text) for name, text in sources.items()}
    out: dict[int, Opinion] = {}
    for item in values.get("items", []):
        number = int(item.get("number") or 0)
        passage = str(item.get("passage") or "").strip(' “”"')
        passage = "" if passage.casefold() == "not stated" else passage
        wanted = _plain(passage)
        source = next((name for name, text in plain.items() if len(wanted) > 8 and wanted in text), "")
        verdict: Verdict = item["verdict"] if item.get("verdict") in ("supported", "contradicted") and source else "unsupported"
        if 1 <= number <= len(sentences):
            out.setdefault(number, Opinion(number, sentences[number - 1], verdict, passage if source else "", source))
    return [out[n] for n in sorted(out)]


def _plain(text: str) -> str:
    return re.sub(r"\W+", " ", text).casefold().strip()
