"""What the practice model answers where it has to choose or judge: pages for a purpose, whether sources bear sentences out,
titles of chapters, a guide to a voice."""

from __future__ import annotations

import re
from typing import Any

from .words import bag


def judge(material: str, ask: str, schema: dict[str, Any]) -> dict[str, Any] | None:
    """Whether the material bears out each sentence, with the nearest passage; ``None`` where that is not what is asked."""
    item = schema.get("properties", {}).get("items", {}).get("items", {})
    told = re.search(r"The sentences:\n((?:\d+\. .+\n?)+)", ask)
    if "verdict" not in item.get("properties", {}) or not told:
        return None
    passages = [p.strip() for p in re.split(r"(?<=[.!?])\s+|\n", material) if len(p.split()) > 2]
    out = []
    for number, sentence in _NUMBERED.findall(told.group(1)):
        said, figures = set(bag(sentence)), set(re.findall(r"\d+", sentence))
        near = max(passages, key=lambda p: len(said & set(bag(p))), default="")
        shared = len(said & set(bag(near))) / max(1, len(said))
        good = shared >= 0.5 and figures <= set(re.findall(r"\d+", near))
        verdict = "supported" if good else "contradicted" if shared >= 0.5 else "unsupported"
        out.append({"number": int(number), "verdict": verdict, "passage": near if shared >= 0.5 else "not stated"})
    return {"items": out}


def guide(ask: str) -> str | None:
    """A guide to a voice from what was measured of its examples; ``None`` where that is not what is asked."""
    told = dict(re.findall(r"^- ([\w ]+): (.+)$", ask, re.MULTILINE))
    if "guide to its voice" not in ask or "sentences" not in told:
        return None
    number = {name: float(found.group()) if (found := re.search(r"[\d.]+", value)) else 0.0 for name, value in told.items()}
    lines = [f"Write about {number['length']:.0f} words, in sentences of about {number['sentences']:.0f}."]
    lines.append({"nobody": "Speak of the matter and not of yourself."}.get(told["speaks as"], f"Speak as “{told['speaks as']}”."))
    lines.append(f"Begin with {told['begins with']}.")
    lines.append("Give figures where there are any." if number["figures"] >= 2 else "Use figures sparingly.")
    lines.append("Choose short words." if number["long words"] < 25 else "Long words are welcome where they are exact.")
    wanted = [f"{number[n]:.0f} {n}" for n in ("hashtags", "emoji", "questions", "exclamation marks") if number.get(n, 0) >= 1]
    never = [n for n in ("hashtags", "emoji", "questions", "exclamation marks") if number.get(n, 0) < 0.5]
    lines += [f"Use {' and '.join(wanted)}."] if wanted else []
    lines += [f"Use no {', no '.join(never)}."] if never else []
    return " ".join(lines)


_NUMBERED = re.compile(r"^(\d+)\. (.+)$", re.MULTILINE)
_CHAPTER = re.compile(r"^Chapter (\d+)\n(.*?)(?=^Chapter \d+\n|\Z)", re.MULTILINE | re.DOTALL)


def choose(material: str, ask: str, schema: dict[str, Any], invent: bool = False) -> dict[str, Any] | None:
    """Numbers of a list chosen for a purpose, by the words they share; ``None`` where that is not what is asked.
    With `invent`, one that is not on the list comes with them."""
    item = schema.get("properties", {}).get("items", {}).get("items", {})
    offered = _NUMBERED.findall(material)
    purpose = re.search(r"Purpose: (.+)", ask)
    if "number" not in item.get("properties", {}) or not offered or not purpose:
        return None
    most = int(found.group(1)) if (found := re.search(r"at most (\d+)", ask)) else 3
    wanted = set(bag(purpose.group(1)))
    usual = {"about": 1.5, "custo": 1.5, "produ": 1.4, "news": 1.0, "legal": -5.0, "priva": -5.0, "home": -1.0}
    scored = []
    for number, words in offered:
        said = bag(words)
        score = 4.0 * len(wanted & set(said)) + sum(usual.get(word, 0.0) for word in said)
        scored.append((-score, int(number), words.split(" — ")[0]))
    items = [{"number": n, "reason": f"It speaks of {words.lower()}."} for _, n, words in sorted(scored)[:most]]
    return {"items": [*([{"number": 900 + len(offered), "reason": "It ought to be there."}] if invent else []), *items]}


def titles(material: str, ask: str) -> dict[str, Any] | None:
    """A title for each chapter of a recording; ``None`` where that is not what is asked."""
    parts = _CHAPTER.findall(material)
    if not parts or "title" not in ask.lower():
        return None
    out = []
    for _, text in parts:
        told = re.search(r"Now to this: ([^.?!]+)", text)
        sentences = [one for one in re.split(r"(?<=[.!?])\s+", text.strip()) if len(one.split()) > 4]
        words = (told.group(1) if told else sentences[0] if sentences else text).split()[:8]
        out.append(" ".join(words).strip(" ,.;:"))
    return {"items": out}
