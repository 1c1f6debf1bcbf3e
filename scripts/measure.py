"""How rightly rules and evidence are answered, on the labelled drafts; written into docs/drafting.md between its marks.

``python -m scripts.measure`` prints it, ``--write`` writes it. The tests hold what it says not to fall.
"""

from __future__ import annotations

import json
import sys
from collections import Counter
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from ulmus.core.drafting import Known, measure
from ulmus.core.drafting.rules import Rule
from ulmus.core.evidence import evidence
from ulmus.protocols.languages import language_of

LABELLED = Path("tests/labelled")
PAGE = Path("docs/drafting.md")
BEGIN, END = "<!-- measured -->", "<!-- /measured -->"
RULES: TypeAdapter[list[Any]] = TypeAdapter(list[Rule])


def rules() -> dict[str, Counter[str]]:
    """By rule: how many drafts were answered rightly, how many broken ones were missed, how many false alarms there were."""
    out: dict[str, Counter[str]] = {}
    for name, group in json.loads((LABELLED / "rules.json").read_text("utf-8")).items():
        if name == "length_links23":
            continue  # how a link counts is a setting of its channel
        told = out[name] = Counter()
        for case in group["cases"]:
            (found,) = measure(case["draft"], RULES.validate_python([case["rule"]]), Known(language_of=language_of))
            told["right" if found.kept == case["keeps"] else "missed" if found.kept else "false alarm"] += 1
    return out


def claims() -> tuple[dict[str, Counter[str]], dict[str, Counter[str]]]:
    """Evidence, by class of sentence and by language: how many were flagged, how many of those that should be, and of how many."""
    data = json.loads((LABELLED / "evidence.json").read_text("utf-8"))
    by_kind: dict[str, Counter[str]] = {}
    by_tongue: dict[str, Counter[str]] = {}
    for case in data["sentences"]:
        sources = {name: data["sources"][name] for name in case["sources"]}
        flagged = any(one.flagged for one in evidence(case["text"], sources).sentences)
        false = case["label"] == "unsupported"
        for told in (
            by_kind.setdefault(f"{case['kind']} {data['kinds'][case['kind']]}", Counter()),
            by_tongue.setdefault(case["lang"], Counter()),
        ):
            told["of"] += 1
            told["flagged"] += flagged
            told["false"] += false
            told["found"] += flagged and false
            told["alarm"] += flagged and not false
    return by_kind, by_tongue


def page() -> str:
    """The figures as Markdown."""
    told = rules()
    right, all_ = sum(t["right"] for t in told.values()), sum(t.total() for t in told.values())
    lines = [
        f"Rules: {right} of {all_} labelled drafts are answered rightly.",
        "",
        "| rule | drafts | right | missed | false alarm |",
        "|---|---|---|---|---|",
    ]
    lines += [f"| {n} | {t.total()} | {t['right']} | {t['missed']} | {t['false alarm']} |" for n, t in told.items()]
    by_kind, by_tongue = claims()
    whole = sum(by_tongue.values(), Counter[str]())
    precision = whole["found"] / max(1, whole["flagged"])
    recall = whole["found"] / max(1, whole["false"])
    alarms = whole["alarm"] / max(1, whole["of"] - whole["false"])
    lines += [
        "",
        f"Evidence: false sentences are found with precision {precision:.2f} and recall {recall:.2f}; {alarms:.0%} of the others are flagged.",
        "",
        "| sentences | how many | flagged | should be |",
        "|---|---|---|---|",
    ]
    lines += [f"| {kind} | {t['of']} | {t['flagged']} | {t['false']} |" for kind, t in by_kind.items()]
    lines += ["", "| language | precision | recall |", "|---|---|---|"]
    lines += [
        f"| {tongue} | {t['found'] / max(1, t['flagged']):.2f} | {t['found'] / max(1, t['false']):.2f} |"
        for tongue, t in by_tongue.items()
    ]
    return "\n".join(lines)


def main() -> int:
    told = page()
    print(told)
    if "--write" in sys.argv:
        text = PAGE.read_text("utf-8")
        before, _, rest = text.partition(BEGIN)
        PAGE.write_text(f"{before}{BEGIN}\n{told}\n{END}{rest.partition(END)[2]}", "utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
