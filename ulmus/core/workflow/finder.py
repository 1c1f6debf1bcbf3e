"""What can come next: kinds of line and what they would use here, ranked by the words typed and by what makes sense there.

An offer comes with settings filled in as far as the page can tell: the nearest fitting values, the connection or sheet
it was offered for, the draft above it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..slots import Path
from .checks import World, surroundings
from .edits import add, after
from .kinds import BLOCKS, Kinds, KindSpec, field_control
from .model import Lane, Line, Workflow

# What follows what, from what people do most: 0 to 5.
_NEXT: dict[str, dict[str, int]] = {
    "start": {"gather": 5, "draft": 4, "flow": 3, "ask": 0, "publish": 1, "record": 1},
    "gather": {"draft": 5, "gather": 4, "flow": 3, "record": 2, "publish": 1, "ask": 0},
    "draft": {"ask": 5, "publish": 4, "draft": 3, "record": 3, "flow": 2, "gather": 1},
    "ask": {"publish": 5, "record": 4, "draft": 2, "flow": 2, "gather": 1, "ask": 0},
    "publish": {"record": 5, "publish": 4, "flow": 2, "draft": 2, "gather": 1, "ask": 0},
    "record": {"record": 3, "publish": 3, "flow": 3, "gather": 2, "draft": 2, "ask": 1},
}
_COLUMN = {"post": "text", "draft": "text", "url": "link", "address": "link", "when": "date", "day": "date", "headline": "title"}
_WORD = re.compile(r"\w+")


@dataclass(frozen=True)
class Offer:
    """A line that could be added; `lacks` says what is not there yet that it needs."""

    kind: str
    stage: str
    title: str
    about: str
    settings: dict[str, Any] = field(default_factory=dict)
    lacks: str = ""


def find(workflow: Workflow, kinds: Kinds, line: str, words: str, world: World, who: str = "") -> list[Offer]:
    """Offers for what follows `line`, the best first; for the start itself, kinds of start. `who` is the mail address of
    the person asking."""
    place = _Place(workflow, kinds, line, world, who)
    wanted = [w.lower() for w in _WORD.findall(words)]
    ranked: list[tuple[float, int, Offer]] = []
    for n, (spec, offer) in enumerate(place.offers()):
        found = _matches(wanted, spec, offer)
        if found is not None:
            ranked.append((found + place.sense(spec, offer), -n, offer))
    return [offer for *_, offer in sorted(ranked, key=lambda one: one[:2], reverse=True)]


def made(offer: Offer, kinds: Kinds) -> Line:
    """The line an offer stands for; a fork comes with a lane and an *otherwise* lane."""
    name = kinds[offer.kind].called or offer.kind
    lanes = [Lane(id=f"{name}_first"), Lane(id=f"{name}_otherwise")] if kinds[offer.kind].manner == "fork" else []
    return Line(id=name, kind=offer.kind, settings=offer.settings, lanes=lanes)


class _Place:
    """The place a line would stand at, and what is known there."""

    def __init__(self, workflow: Workflow, kinds: Kinds, line: str, world: World, who: str) -> None:
        self.workflow, self.kinds, self.world, self.who = workflow, kinds, world, who
        self.starts = line == ""
        self.scope: dict[str, Any] = {}
        self.stage = "start"
        self.above: list[Line] = []
        if not self.starts:
            self._look(line)

    def _look(self, line: str) -> None:
        # The scope behind a line is that of a line put there: a *stop* adds nothing and needs nothing.
        probe = Line(id="probe_here", kind="stop")
        page, (name,) = add(self.workflow, [probe], after(self.workflow, line, self.kinds), self.kinds)
        self.scope = surroundings(page, self.kinds, self.world)[name].scope
        for one in page.lines:
            if one.id == name:
                break
            self.above.append(one)
            stage = getattr(self.kinds.get(one.kind), "stage", "flow")
            self.stage = stage if stage != "flow" else self.stage

    def offers(self) -> Iterator[tuple[KindSpec, Offer]]:
        """Every kind that can stand here, once for each connection or sheet it names."""
        for spec in self.kinds.values():
            if (spec.manner == "start") != self.starts or ("given" in self.scope and not spec.can_be_a_tool):
                continue
            name = next(iter(re.findall(r"\{(\w+)\}", spec.offer)), "")
            choices = self._choices(spec, name) if name else {}
            if not choices:
                yield spec, self._offer(spec, spec.title if name else spec.offer or spec.title, {})
            for key, title in choices.items():
                yield spec, self._offer(spec, spec.offer.replace(f"{{{name}}}", title), {name: key})

    def _choices(self, spec: KindSpec, name: str) -> dict[str, str]:
        control = field_control(spec.settings.model_fields[name])
        if control.get("control") == "connection":
            return {k: c.name for k, c in self.world.connections.items() if c.kind == control.get("needs")}
        return {k: title for k, (title, _) in self.world.sheets.items()}

    def _offer(self, spec: KindSpec, title: str, settings: dict[str, Any]) -> Offer:
        lacks = ""
        for name, info in spec.settings.model_fields.items():
            control = field_control(info)
            what = control.get("control")
            value: Any = None
            if name in settings:
                continue
            if what == "connection" and info.is_required():
                value = next((k for k, c in self.world.connections.items() if c.kind == control.get("needs")), None)
            elif what == "step":
                value = next((one.id for one in reversed(self.above) if one.kind == control.get("needs")), None)
                lacks = lacks if value else f"There is no {control.get('needs')} above it yet."
            elif what == "email":
                value = self.who or None
            elif "given" in self.scope and what in ("slots", "value", "longslots") and (info.is_required() or control.get("takes")):
                # A tool of an assignment: the model says what.
                value = f"<<given.{name}>>"
            elif control.get("takes"):
                value = self._value(str(control["takes"]))
                value = f"\n\n{value}" if value and what == "longslots" else value
            elif what == "cells" and "sheet" in settings:
                value = self._cells(self.world.sheets[settings["sheet"]][1]) or None
            if value is not None:
                settings = {**settings, name: value}
        return Offer(spec.name, spec.stage, title, spec.about, settings, lacks)

    def _value(self, takes: str) -> str | None:
        """The nearest value of those wanted, as a slot."""
        for wanted in takes.split("|"):
            name, _, stage = wanted.partition("@")
            for root, known in self._roots(stage):
                if name == "*list":
                    path = next((n for n, t in known.items() if t == "list" or isinstance(t, list)), None)
                else:
                    path = name if name in known else None
                if path:
                    return f"<<{Path((root, path))}>>"
        return None

    def _roots(self, stage: str = "") -> Iterator[tuple[str, Mapping[str, Any]]]:
        stages = {line.id: getattr(self.kinds.get(line.kind), "stage", "") for line in self.above}
        for root, known in reversed(self.scope.items()):
            if isinstance(known, dict) and root not in ("brand", "run") and (not stage or stages.get(root) == stage):
                yield root, known

    def _cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        out = {}
        for column in columns:
            name = _COLUMN.get(column.lower(), column.lower())
            slot = self._value(f"{name}@draft|{name}@publish|{name}" if name in ("text", "link") else name)
            if "given" in self.scope and name != "date":
                slot = str(Path(("given", re.sub(r"\W+", "_", column.lower()).strip("_") or "text")))
                slot = f"<<{slot}>>"
            if slot or name == "date":
                out[column] = "<<run.date>>" if name == "date" else str(slot)
        return out

    def sense(self, spec: KindSpec, offer: Offer) -> float:
        """How much sense it makes here."""
        if self.starts:
            return 0.0
        score = float(_NEXT[self.stage].get(spec.stage, 1))
        if spec.manner in BLOCKS:
            lists = spec.manner == "each" and offer.settings
            score += 1.5 if lists else -1
        elif spec.stage == "flow":
            score -= 1.5
        return score + spec.common - (4 if offer.lacks else 0)


def _matches(wanted: list[str], spec: KindSpec, offer: Offer) -> float | None:
    """How well the typed words fit; ``None`` where one of them is not in it at all."""
    title = [w.lower() for w in _WORD.findall(offer.title)]
    other = [w.lower() for w in _WORD.findall(f"{spec.title} {spec.words} {spec.stage}")]
    about = [w.lower() for w in _WORD.findall(offer.about)]
    score = 0.0
    for word in wanted:
        if title[0].startswith(word):
            score += 7
        elif any(w.startswith(word) for w in title):
            score += 6
        elif any(w.startswith(word) for w in other):
            score += 4
        elif len(word) > 3 and any(w.startswith(word) for w in about):
            score += 1
        elif word not in _SMALL:
            return None
    return score


_SMALL = frozenset(
    [
        "a",
        "an",
        "the",
        "to",
        "of",
        "in",
        "on",
        "at",
        "for",
        "from",
        "with",
        "it",
        "and",
        "or",
        "then",
        "next",
        "is",
        "are",
        "this",
        "that",
        "some",
        "new",
    ]
)
