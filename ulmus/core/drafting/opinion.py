"""A second opinion on evidence: a model says which sentences the sources bear out, and has to show the passage.

What it shows is looked for in the sources by code: a passage that stands nowhere counts for nothing.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

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
    """What a model says of one sentence: its verdict, the passage it shows and in which source that stands (empty where it
    stands in none)."""

    number: int
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


def opinions_of(values: Mapping[str, Any], count: int, sources: Mapping[str, str]) -> list[Opinion]:
    """The opinions in an answer. *Supported* without a passage that stands in a source becomes *unsupported*."""
    plain = {name: _plain(text) for name, text in sources.items()}
    out: dict[int, Opinion] = {}
    for item in values.get("items", []):
        number = int(item.get("number") or 0)
        passage = str(item.get("passage") or "").strip(' “”"')
        passage = "" if passage.casefold() == "not stated" else passage
        wanted = _plain(passage)
        source = next((name for name, text in plain.items() if len(wanted) > 8 and wanted in text), "")
        verdict: Verdict = item["verdict"] if item.get("verdict") in ("supported", "contradicted") and source else "unsupported"
        if 1 <= number <= count:
            out.setdefault(number, Opinion(number, verdict, passage if source else "", source))
    return [out[n] for n in sorted(out)]


def _plain(text: str) -> str:
    return re.sub(r"\W+", " ", text).casefold().strip()
