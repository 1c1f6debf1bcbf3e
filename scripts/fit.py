"""Fits the weights of evidence to labelled sentences, and says by cross-validation over sources how well it does.

``python -m scripts.fit`` prints what is reached; ``--write`` also keeps the weights. A logistic model with a quadratic penalty, whose
signs are held: a figure that stands nowhere never makes a sentence likelier to be borne out.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from scipy.optimize import minimize

from ulmus.core.evidence import judging
from ulmus.core.evidence.looking import FEATURES

LABELLED = Path("tests/labelled")
WEIGHTS = Path("ulmus/core/evidence/weights.py")
LIMIT = 0.45
SPEAKS_FOR = {"coverage", "coverage of the source", "facts stand there", "derived"}
FREE = {"few words", "no facts"}
PENALTY = 1.0
EXPECTED = {
    **dict.fromkeys(FEATURES, 0.0),
    **dict.fromkeys(
        ("figure in no source", "figure beside another", "date in no source", "name half known", "negated", "opposed"), 4.0
    ),
    **dict.fromkeys(("said by another", "quotation in no source", "link in no source"), 4.0),
    **dict.fromkeys(("figure elsewhere", "name in no source", "hardly known"), 3.0),
    **dict.fromkeys(("date elsewhere", "name elsewhere", "unknown noun", "another subject"), 2.0),
    "replaced words": 1.0,
    "coverage": -3.0,
    "facts stand there": -1.0,
}
"""What is expected of each before any example is seen; the penalty grows with the distance from it."""
BIAS = 0.3
TRUER = 2.0
"""How much more a true sentence counts than a false one: in real drafts there are many more of them."""


class Case(NamedTuple):
    """A labelled sentence: the source it belongs to, what was seen, and whether it is false (``None``: needs no support)."""

    group: str
    seen: Any
    false: bool | None
    kind: str


def cases() -> list[Case]:
    """All labelled sentences, looked at."""
    out = []
    training = json.loads((LABELLED / "training.json").read_text("utf-8"))
    for name, true, text in training["sentences"]:
        (seen, *_) = judging.looks(text, {name: training["sources"][name]})
        out.append(Case(name, seen, None if true is None else not true, "own"))
    data = json.loads((LABELLED / "evidence.json").read_text("utf-8"))
    for one in data["sentences"]:
        (seen, *_) = judging.looks(one["text"], {name: data["sources"][name] for name in one["sources"]})
        false = {"unsupported": True, "supported": False}.get(one["label"])
        out.append(Case(one["group"], seen, false, f"{one['kind']} {data['kinds'][one['kind']]}"))
    return out


def fit(some: Sequence[Case], limit: float = LIMIT) -> judging.Model:
    """Weights for the sentences that need support."""
    used = [case for case in some if case.false is not None]
    x = np.array([case.seen.vector() for case in used])
    y = np.array([float(bool(case.false)) for case in used])
    count = np.where(y > 0, 1.0, TRUER)
    expected = np.array([EXPECTED[name] for name in FEATURES])

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        z = w[0] + x @ w[1:]
        away, wrong = w[1:] - expected, count * (1 / (1 + np.exp(-z)) - y)
        value = (count * (np.logaddexp(0, z) - y * z)).sum() + PENALTY * (away**2).sum() / 2
        return float(value), np.concatenate([[wrong.sum()], x.T @ wrong + PENALTY * away])

    bounds = [(None, None)] + [(None, None) if n in FREE else (None, 0) if n in SPEAKS_FOR else (0, None) for n in FEATURES]
    found = minimize(loss, np.concatenate([[BIAS], [EXPECTED[n] for n in FEATURES]]), jac=True, bounds=bounds, method="L-BFGS-B").x
    return judging.Model(
        round(float(found[0]), 3), limit, {n: round(float(w), 3) for n, w in zip(FEATURES, found[1:], strict=True)}
    )


def figures(some: Sequence[Case], flags: Sequence[bool]) -> str:
    """Precision, recall, false alarms on true sentences and on those that need no support."""
    found = sum(f for f, c in zip(flags, some, strict=True) if c.false)
    true = [f for f, c in zip(flags, some, strict=True) if c.false is False]
    none = [f for f, c in zip(flags, some, strict=True) if c.false is None]
    false = sum(bool(c.false) for c in some)
    return (
        f"precision {found / max(1, sum(flags)):.2f}, recall {found / max(1, false):.2f}, false alarms on true sentences "
        f"{sum(true)}/{len(true)}, on greetings and calls {sum(none)}/{len(none)}"
    )


def main() -> int:
    everything = cases()
    groups = sorted({case.group for case in everything})
    for limit in (0.3, 0.4, 0.45, 0.5, 0.6):
        flags: dict[int, bool] = {}
        for group in groups:
            model = fit([case for case in everything if case.group != group], limit)
            flags |= {id(case): judging.judge(case.seen, model).flagged for case in everything if case.group == group}
        measured = [case for case in everything if case.kind != "own"]
        plain = [case for case in measured if not case.kind.startswith("H")]
        print(f"limit {limit}: left out by source, all {figures(everything, [flags[id(c)] for c in everything])}")
        print(f"   the labelled ones: {figures(measured, [flags[id(c)] for c in measured])}")
        print(f"   without paraphrases in other words: {figures(plain, [flags[id(c)] for c in plain])}")
        if limit == 0.5:
            for kind in sorted({c.kind for c in measured}):
                told = [flags[id(c)] for c in measured if c.kind == kind]
                print(f"      {kind}: {sum(told)} of {len(told)} flagged")
    if "--write" in sys.argv:
        model = fit(everything)
        lines = "".join(f"    {json.dumps(name)}: {weight},\n" for name, weight in model.weights.items())
        head = '"""The weights of evidence, written by ``make fit``."""'
        WEIGHTS.write_text(f"{head}\n\nBIAS, LIMIT = {model.bias}, {model.limit}\nWEIGHTS = {{\n{lines}}}\n", "utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
