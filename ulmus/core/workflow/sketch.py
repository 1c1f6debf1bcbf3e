"""A page from a description: what a model is asked, and the page its answer stands for.

The model only chooses kinds of line from a menu and words the drafts; everything a line needs besides is put in as the
finder would. What the answer names that is not on the menu is left out and told.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from . import finder
from .controls import Cells, SheetKey, settings_of, with_control
from .edits import EditError, Place, add, with_lanes
from .finder import Offer
from .kinds import BlockSpec, Kinds, KindSpec, StartSpec
from .model import Lane, Line, Workflow
from .world import World

MOST_LINES = 24
MOST_LANES = 6
LONGEST = 4000
_ASK = (
    "You turn a description of a workflow into a page of lines, in the order they are carried out. Choose only from the menu, "
    "by the name before the colon. The start says what sets a run off. Give each line the words of the description it stands "
    "for; an address or mail address it names under “address”, and what is to be searched for under “query”; for a schedule its “rule” as in RFC 5545, "
    "such as FREQ=WEEKLY;BYDAY=MO;BYHOUR=8;BYMINUTE=0. For a draft, give a title of two or three words and a prompt that says what to write. For “for_each”, put what is "
    "done with each item under “inside”. For “fork”, give its “lanes”: each with a condition under “when”, such as "
    'page.text contains "seed" or start.count is more than 3, and what is done then under “inside”; the last, without a '
    "condition, is for everything else. A line’s values are named by the name after “called”. Put in nothing the description does not ask for."
)


@dataclass(frozen=True)
class Sketch:
    """A page made from a description, and notes on what could not be placed."""

    workflow: Workflow
    notes: list[str] = field(default_factory=list)


def messages(description: str, kinds: Kinds, world: World) -> list[dict[str, str]]:
    """The messages to the model: the menu, with what there is here to choose from, and the description."""
    starts = [_entry(spec, world) for spec in kinds.values() if isinstance(spec, StartSpec)]
    steps = [_entry(spec, world) for spec in kinds.values() if not isinstance(spec, StartSpec)]
    menu = "\n".join(["Starts:", *sorted(starts), "", "Lines:", *sorted(steps)])
    return [
        {"role": "system", "content": f"{_ASK}\n\n<menu>\n{menu}\n</menu>"},
        {"role": "user", "content": f"<description>\n{description.strip()}\n</description>"},
    ]


def answer_schema(kinds: Kinds) -> dict[str, Any]:
    """The JSON Schema of the answer."""
    starts = sorted(spec.name for spec in kinds.values() if isinstance(spec, StartSpec))
    steps = sorted(spec.name for spec in kinds.values() if not isinstance(spec, StartSpec))
    parts = {name: {"type": "string"} for name in ("words", "title", "prompt", "address", "query", "rule")}

    def line(names: list[str], **more: Any) -> dict[str, Any]:
        properties = {"kind": {"type": "string", "enum": names}, **parts, **more}
        return {"type": "object", "properties": properties, "required": ["kind", "words"], "additionalProperties": False}

    inner = {"type": "array", "items": line([n for n in steps if not isinstance(kinds[n], BlockSpec)]), "maxItems": MOST_LINES}
    lane = {"type": "object", "properties": {"when": {"type": "string"}, "inside": inner}, "additionalProperties": False}
    lanes = {"type": "array", "items": lane, "maxItems": MOST_LANES}
    return {
        "type": "object",
        "properties": {
            "name": {"type": "string", "maxLength": 80},
            "start": line(starts),
            "steps": {"type": "array", "items": line(steps, inside=inner, lanes=lanes), "maxItems": MOST_LINES},
        },
        "required": ["name", "start", "steps"],
        "additionalProperties": False,
    }


def page_of(answer: Mapping[str, Any], blank: Workflow, kinds: Kinds, world: World, who: str = "") -> Sketch:
    """The page an answer stands for, begun on `blank` (its name and brand hold where the answer gives none)."""
    notes: list[str] = []
    page = blank
    if not blank.name.strip() or blank.name == UNNAMED:
        page = page.model_copy(update={"name": str(answer.get("name") or UNNAMED).strip()[:120] or UNNAMED})
    told = answer.get("start")
    start = _chosen(told, finder.find(page, kinds, "", "", world, who), kinds, notes)
    if start is not None:
        page = page.model_copy(update={"start": finder.made(start, kinds, page)})
    steps = answer.get("steps")
    page = _put(page, steps if isinstance(steps, list) else [], Place(), kinds, world, who, notes)
    if not page.steps:
        notes.append("The description named no line that could be put on the page. Add the first with “Add a line”.")
    return Sketch(page, notes)


UNNAMED = "A page from a description"


def _put(page: Workflow, told: list[Any], place: Place, kinds: Kinds, world: World, who: str, notes: list[str]) -> Workflow:
    for one in told[:MOST_LINES]:
        offer = _chosen(one, finder.find(page, kinds, page.start.id, "", world, who, place), kinds, notes)
        if offer is None:
            continue
        try:
            page, (name,) = add(page, [finder.made(offer, kinds, page)], place, kinds)
        except EditError as error:
            notes.append(str(error))
            continue
        place = Place(place.parent, place.index + 1)
        inside = one.get("inside") if isinstance(one, dict) else None
        block = kinds[offer.kind]
        if isinstance(inside, list) and isinstance(block, BlockSpec) and not block.has_lanes:
            page = _put(page, inside, Place(name), kinds, world, who, notes)
        lanes = one.get("lanes") if isinstance(one, dict) else None
        if isinstance(lanes, list) and isinstance(block, BlockSpec) and block.has_lanes:
            page = _put_lanes(page, name, [lane for lane in lanes if isinstance(lane, dict)], kinds, world, who, notes)
    return page


def _put_lanes(
    page: Workflow, fork: str, told: list[dict[str, Any]], kinds: Kinds, world: World, who: str, notes: list[str]
) -> Workflow:
    """The lanes of a fork with what stands in them. A condition that cannot be read is kept: its lane shows what is wrong."""
    fitting = [lane for lane in told if str(lane.get("when") or "").strip()][: MOST_LANES - 1]
    rest = next((lane for lane in told if not str(lane.get("when") or "").strip()), {})
    made = [
        *(Lane(id=f"{fork}_{n}", when=str(lane["when"]).strip()[:2000]) for n, lane in enumerate(fitting, 1)),
        Lane(id=f"{fork}_otherwise"),
    ]
    page = with_lanes(page, fork, made)
    for lane, what in zip(made, [*fitting, rest], strict=True):
        inside = what.get("inside")
        page = _put(page, inside if isinstance(inside, list) else [], Place(lane.id), kinds, world, who, notes)
    return page


def _chosen(answer: Any, offers: list[Offer], kinds: Kinds, notes: list[str]) -> Offer | None:
    """The offer that fits best what the model chose, with what it worded put in."""
    if not isinstance(answer, dict):
        return None
    name, words = str(answer.get("kind") or ""), str(answer.get("words") or "")
    fitting = [offer for offer in offers if offer.kind == name]
    if not fitting:
        notes.append(f"“{(words or name)[:80]}” could not be placed: there is no such line here.")
        return None
    spoken, always = finder.stems(words), finder.stems(re.sub(r"\{\w+\}", "", kinds[name].offer))
    best = max(
        fitting, key=lambda offer: (len(spoken & (finder.stems(offer.title) - always)), len(spoken & finder.stems(offer.title)))
    )
    settings = dict(best.settings)
    sheet = with_control(kinds[name].settings, SheetKey)
    if sheet and sheet.name in settings and len(fitting) > 1 and not spoken & (finder.stems(best.title) - always):
        # Which one is meant is not said; a wrong sheet is worse than none.
        of_sheet = {
            n for n, one in settings_of(kinds[name].settings).items() if one.needs == sheet.name or isinstance(one.control, Cells)
        }
        settings = {n: value for n, value in settings.items() if n != sheet.name and n not in of_sheet}
    said: set[str] = set()
    for n, setting in settings_of(kinds[name].settings).items():
        told = str(answer.get(setting.told) or "").strip()[:LONGEST] if setting.told and setting.told not in said else ""
        if not told:
            continue
        try:
            value = setting.control.described(told, setting)
        except ValueError as error:
            notes.append(str(error))
            continue
        if value is not None:
            said.add(setting.told)
            settings[n] = f"{value}{settings.get(n, '')}" if setting.told == "prompt" else value
    return Offer(best.kind, best.stage, best.title, best.about, settings, best.lacks)


def _entry(spec: KindSpec[Any], world: World) -> str:
    here = ", ".join(finder.named(spec, world))
    here = f" Here: {here}." if here else ""
    return f"- {spec.name}: {spec.title}. {spec.about}{here} ({spec.words}) called {spec.called or spec.name}"


def blank_page(name: str, brand: str | None, kinds: Kinds) -> Workflow:
    """A page with nothing but the start that blank pages begin with."""
    start = next(spec.name for spec in kinds.values() if isinstance(spec, StartSpec) and spec.begins_blank_pages)
    return Workflow(name=name.strip()[:120] or UNNAMED, brand=brand or None, start=Line(id="start", kind=start), steps=[])
