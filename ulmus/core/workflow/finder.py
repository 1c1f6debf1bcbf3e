"""What can come next: kinds of line and what they would use here, ranked by the words typed and by what makes sense there.

An offer comes with settings filled in as far as the page can tell: the nearest fitting values, the connection or sheet
it was offered for, the draft above it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from difflib import SequenceMatcher
from typing import Any

from ..slots import Path, Slot, parse, type_of
from .checks import from_its_row, surroundings
from .controls import ITEM, settings_of
from .edits import EditError, Place, add, after, free_name, is_destinations, places
from .kinds import BlockSpec, Kinds, KindSpec, SendSpec, StartSpec, StepSpec, WriteSpec
from .model import Lane, Line, Workflow
from .plans import EachPlan
from .saying import stems
from .takes import plan_of
from .world import World

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
# What a row's column may be called that holds such a value.
_CALLED = {
    "link": ("url", "address", "web address"),
    "site": ("website", "web site", "web page", "homepage", "home page", "domain"),
    "title": ("topic", "headline", "subject", "company", "idea"),
    "text": ("topic", "post", "body"),
}
# What of an item of a list goes into a column that is called otherwise.
_OF_AN_ITEM = {
    **dict.fromkeys(("site", "website", "url", "address", "page"), "link"),
    **dict.fromkeys(("company", "topic", "headline", "idea", "story", "name", "subject"), "title"),
    **dict.fromkeys(("notes", "about", "angle", "description"), "summary"),
}
_WORD = re.compile(r"\w+")
MOST_TOLD = 6
"""So many values of a start a prompt begins with."""
MOST_LOOSELY = 3
"""More words than these are a sentence, and no name of a line with a slip in it."""


@dataclass(frozen=True)
class Offer:
    """A line that could be added; `lacks` says what is not there yet that it needs. Where its kind is offered once for each of several,
    `target` is what this one is for, and `kind_title` what all of them are called."""

    kind: str
    stage: str
    title: str
    about: str
    settings: dict[str, Any] = field(default_factory=dict)
    lacks: str = ""
    target: str = ""
    kind_title: str = ""


def find(
    workflow: Workflow, kinds: Kinds, line: str, words: str, world: World, who: str = "", at: Place | None = None
) -> list[Offer]:
    """Offers for what follows `line` (or stands at a place), the best first; for the start itself, kinds of start. `who` is
    the mail address of the person asking."""
    place = _Place(workflow, kinds, line, world, who, at)
    wanted = [w.lower() for w in _WORD.findall(words)]
    offers = list(place.offers())
    ranked: list[tuple[float, int, Offer]] = []
    # What is in no offer at all may be a slip of the fingers.
    for loosely in (False, True) if len(wanted) <= MOST_LOOSELY else (False,):
        for n, (spec, offer) in enumerate(offers if not ranked else ()):
            found = _matches(wanted, spec, offer, loosely)
            if found is not None:
                ranked.append((found + place.sense(spec, offer), -n, offer))
    return [offer for *_, offer in sorted(ranked, key=lambda one: one[:2], reverse=True)]


def filled(workflow: Workflow, kinds: Kinds, line: str, settings: Mapping[str, Any], changed: str, world: World) -> dict[str, Any]:
    """What settings of a line become by what they mean, once another that they need was chosen: the cells of a sheet, say. Only
    those in which nothing stands yet. Raises `EditError` where the line is not there."""
    found = workflow.line(line)
    spec = kinds.get(found.kind) if found is not None else None
    if found is None or spec is None:
        raise EditError("This line is not on the page any more.")
    place = _Place(workflow, kinds, "" if line == workflow.start.id else line, world, "", places(workflow).get(line))
    out: dict[str, Any] = {}
    for name, setting in settings_of(spec.settings).items():
        if setting.needs == changed and not settings.get(name):
            value = setting.control.offered(setting, settings, place).value
            if value is not None:
                out[name] = value
    return out


def made(offer: Offer, kinds: Kinds, workflow: Workflow) -> Line:
    """The line an offer stands for, by a name that is free: what it points at is above it, and never itself. A fork comes
    with a lane and an *otherwise* lane."""
    spec = kinds[offer.kind]
    name = free_name(workflow, spec.called or offer.kind, workflow.start.id if isinstance(spec, StartSpec) else "")
    forks = isinstance(spec, BlockSpec) and spec.has_lanes
    lanes = [Lane(id=f"{name}_first"), Lane(id=f"{name}_otherwise")] if forks else []
    return Line(id=name, kind=offer.kind, settings=offer.settings, lanes=lanes)


def named(spec: KindSpec[Any], world: World) -> list[str]:
    """What a new line of this kind can be set to here: the names of connections or sheets."""
    name = named_setting(spec)
    return list(_choices(spec, name, world).values()) if name else []


def named_setting(spec: KindSpec[Any]) -> str:
    """The setting by which a kind is offered once for each connection or sheet; empty where it is offered once."""
    return next(iter(re.findall(r"\{(\w+)\}", spec.offer)), "")


def _choices(spec: KindSpec[Any], name: str, world: World) -> dict[str, str]:
    setting = settings_of(spec.settings)[name]
    if setting.control.points_at == "connection":
        return {k: c.name for k, c in world.connections.items() if c.kind in setting.needs.split()}
    return {k: title for k, (title, _) in world.sheets.items()}


def _can_be_a_tool(spec: KindSpec[Any]) -> bool:
    return isinstance(spec, StepSpec) and spec.can_be_a_tool


class _Place:
    """The place a line would stand at, and what is known there."""

    def __init__(self, workflow: Workflow, kinds: Kinds, line: str, world: World, who: str, at: Place | None) -> None:
        self.workflow, self.kinds, self.world, self.who = workflow, kinds, world, who
        self.starts = line == ""
        self.scope: dict[str, Any] = {}
        self.stage = "start"
        self.above: list[Line] = []
        self.as_tool = False
        self.beside: list[Line] | None = None
        if not self.starts:
            self._look(at or after(workflow, line, kinds))

    def _look(self, at: Place) -> None:
        # The scope behind a line is that of a line put there; one of no kind adds nothing and needs nothing.
        probe = Line(id="probe_here", kind="probe")
        page, (name,) = add(self.workflow, [probe], at, self.kinds)
        holder = page.line(at.parent)
        if holder is not None and is_destinations(holder, self.kinds):
            self.beside = holder.steps
        # A lane of what is no fork is not looked into.
        around = surroundings(page, self.kinds, self.world).get(name)
        self.scope = around.scope if around else {}
        self.as_tool = "given" in self.scope
        for line in page.lines:
            if line.id == name:
                break
            self.above.append(line)
            stage = getattr(self.kinds.get(line.kind), "stage", "flow")
            self.stage = stage if stage != "flow" else self.stage

    def offers(self) -> Iterator[tuple[KindSpec[Any], Offer]]:
        """Every kind that can stand here, once for each connection or sheet it names."""
        for spec in self.kinds.values():
            if isinstance(spec, StartSpec) != self.starts or (self.as_tool and not _can_be_a_tool(spec)):
                continue
            if self.beside is not None and not isinstance(spec, SendSpec):
                continue
            name = named_setting(spec)
            choices = _choices(spec, name, self.world) if name else {}
            if not choices:
                yield spec, self._offer(spec, spec.title if name else spec.offer or spec.title, {})
            for key, title in choices.items():
                offer = self._offer(spec, spec.offer.replace(f"{{{name}}}", title), {**self._as_beside(spec), name: key})
                yield spec, replace(offer, target=title, kind_title=spec.offer.replace(f"{{{name}}}", "…"))

    def _as_beside(self, spec: KindSpec[Any]) -> dict[str, Any]:
        """What a destination of the same kind has set here already: a new one goes out alike, until it is told otherwise."""
        return next((dict(line.settings) for line in self.beside or () if line.kind == spec.name), {})

    def _offer(self, spec: KindSpec[Any], title: str, settings: dict[str, Any]) -> Offer:
        lacks = ""
        for name, setting in settings_of(spec.settings).items():
            if name in settings:
                continue
            offered = setting.control.offered(setting, settings, self)
            lacks = offered.lacks or lacks
            if offered.value is not None:
                settings = {**settings, name: offered.value}
        return Offer(spec.name, spec.stage, title, spec.about, settings, lacks)

    def last_of(self, kind: str) -> str | None:
        """See `controls.Spot`."""
        return next((line.id for line in reversed(self.above) if line.kind == kind), None)

    def nearest(self, takes: str) -> str | None:
        """See `controls.Spot`."""
        for wanted in takes.split("|"):
            name, _, stage = wanted.partition("@")
            for root, known in self._roots(stage):
                if name == "*list":
                    path = next((n for n, t in known.items() if t == "list" or isinstance(t, list)), None)
                else:
                    path = _named_in(known, name)
                if path:
                    return f"<<{Path((root, path))}>>"
        return None

    @property
    def made(self) -> frozenset[str]:
        """See `controls.Spot`."""
        return frozenset(
            f"<<{Path((root, name))}>>" for root, known in self._roots() if root != self.workflow.start.id for name in known
        )

    def material(self, takes: str) -> str | None:
        """See `controls.Spot`; a text is shortened, so that a long one leaves room for what is asked."""
        start = self.workflow.start.id
        spec, known = self.kinds.get(self.workflow.start.kind), self.scope.get(start)
        told = known if isinstance(known, dict) else {}
        asked = [name for name in told if spec is not None and name not in spec.output.model_fields and told[name] != "any"]
        found = self.nearest(takes)
        if found is None or (asked and found.startswith(f"<<{start}.")):
            lines, found = asked[:MOST_TOLD], None
        else:
            lines = asked[:MOST_TOLD] or [name for name in ("title", "link") if name in told and found != f"<<{start}.{name}>>"]
        said = "\n".join(f"{name.replace('_', ' ').capitalize()}: <<{Path((start, name))}>>" for name in lines)
        if found is not None and found.endswith(".text>>"):
            found = f"{found[:-2]} | shorten 900 words>>"
        return "\n\n".join(part for part in (said, found) if part) or None

    @property
    def for_brand(self) -> bool:
        """See `controls.Spot`."""
        return bool(self.workflow.brand)

    def each(self) -> str | None:
        """See `controls.Spot`; there are such where what stands above is a block that made some."""
        block = next((line for line in reversed(self.above) if line.id in self.scope), None)
        results = self.scope[block.id].get("results") if block and isinstance(self.scope[block.id], dict) else None
        if block is None or not isinstance(results, list):
            return None
        texts = [
            step.id for step in block.steps if getattr(self.kinds.get(step.kind), "stage", "") == "draft" and step.id in results[0]
        ]
        slot = Path(("one", texts[-1], "text")) if texts else None
        return f"<<each {Path((block.id, 'results'))} as one>><<{slot}>>\n\n<<end>>" if slot else None

    def _roots(self, stage: str = "") -> Iterator[tuple[str, Mapping[str, Any]]]:
        kinds = {line.id: self.kinds.get(line.kind) for line in self.above}
        for root, known in reversed(self.scope.items()):
            kind = kinds.get(root)
            if isinstance(known, dict) and root not in ("brand", "run") and (not stage or (kind and kind.stage == stage)):
                left = kind.left_to_choose if kind is not None else ()
                # Settings of any shape make names of any shape.
                yield root, {name: shape for name, shape in known.items() if isinstance(name, str) and name not in left}

    def cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        """See `controls.Spot`."""
        out = {}
        for column in columns:
            name = _COLUMN.get(column.lower(), column.lower())
            slot = self.nearest(f"{name}@draft|{name}@publish|{name}" if name in ("text", "link") else name)
            if self.as_tool and name != "date":
                slot = str(Path(("given", re.sub(r"\W+", "_", column.lower()).strip("_") or "text")))
                slot = f"<<{slot}>>"
            slot = slot or self._drafted(column)
            if slot or name == "date":
                out[column] = "<<run.date>>" if name == "date" else str(slot)
        return out

    def item_cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        """See `controls.Spot`."""
        slot = self.nearest("*list")
        parts = [part for part in parse(slot).parts if isinstance(part, Slot)] if slot else []
        found = type_of(parts[0].value, self.scope) if parts else None
        known = found[0] if isinstance(found, list) and found and isinstance(found[0], dict) else {}
        out = {}
        for column in columns:
            wanted = _COLUMN.get(column.lower(), column.lower())
            alike = next((one for one in known if stems(one) & stems(column)), None)
            name = _named_in(known, wanted) or alike or _named_in(known, _OF_AN_ITEM.get(column.lower(), wanted))
            if name or wanted == "date":
                out[column] = f"<<{Path((ITEM, name))}>>" if name else "<<run.date>>"
        return out

    def _drafted(self, column: str) -> str | None:
        """The text of the nearest draft whose title shares a word with the column’s name."""
        wanted = {column.lower(), *stems(column)}
        for line in reversed(self.above):
            plan = plan_of(line, self.kinds)
            title = plan.title
            if line.id in self.scope and title and wanted & {title.lower(), *stems(title)}:
                return f"<<{Path((line.id, 'text'))}>>"
        return None

    def sense(self, spec: KindSpec[Any], offer: Offer) -> float:
        """How much sense it makes here."""
        if self.starts:
            return spec.common
        score = float(_NEXT[self.stage].get(spec.stage, 1))
        if isinstance(spec, WriteSpec) and spec.own_row(spec.read(offer.settings)):
            # Beside the row a run comes from, where it comes from one; else it is rarely meant.
            line = Line(id="probe_here", kind=spec.name, settings=offer.settings)
            score += 1 if from_its_row(self.workflow, line, spec, self.kinds) else -2
        for line in self.beside or ():
            # Another place for the same comes first; the same place once more comes last.
            same = line.kind == spec.name and (name := named_setting(spec)) and line.settings.get(name) == offer.settings.get(name)
            score += -8 if same else 2 if line.kind == spec.name else 0
        if isinstance(spec, BlockSpec):
            lists = offer.settings and isinstance(spec.plan_of(offer.settings), EachPlan)
            score += 1.5 if lists else -1
        elif spec.stage == "flow":
            score -= 1.5
        return score + spec.common - (4 if offer.lacks else 0)


def _named_in(known: Mapping[str, Any], wanted: str) -> str | None:
    """The name a value goes by among those known: its own, whatever its capitals, or what a column of it is called."""
    if wanted in known:
        return wanted
    plain = {name.lower(): name for name in known}
    return next((plain[name] for name in (wanted, *_CALLED.get(wanted, ())) if name in plain), None)


def _matches(wanted: list[str], spec: KindSpec[Any], offer: Offer, loosely: bool = False) -> float | None:
    """How well the typed words fit; ``None`` where one of them is not in it at all. `loosely`: small mistakes are seen through."""
    title = [w.lower() for w in _WORD.findall(offer.title)]
    other = [w.lower() for w in _WORD.findall(f"{spec.title} {spec.words} {spec.stage}")]
    about = [w.lower() for w in _WORD.findall(offer.about)]
    score = 0.0
    for word in wanted:
        if title[0].startswith(word):
            score += 8
        elif _begins(title, word):
            score += 7
        elif _begins(other, word):
            score += 5.5
        elif len(word) > 3 and _begins(about, word):
            score += 0.5
        elif loosely and len(word) > 3 and _nearly([*title, *other], word):
            score += 2
        elif word not in _SMALL:
            return None
    return score


def _begins(words: list[str], typed: str) -> bool:
    """Whether one of the words begins with what was typed, or is it but for an ending ("teams", "posting")."""
    return any(w.startswith(typed) or (len(w) > 3 and typed.startswith(w) and typed[len(w) :] in _ENDINGS) for w in words)


_ENDINGS = ("s", "es", "d", "ed", "r", "er", "ing")


def _nearly(words: list[str], typed: str) -> bool:
    """Whether one of the words was meant, with a letter too many, too few, another, or two in each other's place."""
    return any(
        w[0] == typed[0] and abs(len(w) - len(typed)) <= 2 and SequenceMatcher(None, w, typed).ratio() >= 0.8
        for w in words
        if len(w) > 3
    )


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
