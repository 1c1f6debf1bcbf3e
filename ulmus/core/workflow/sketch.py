"""A page from a description: what a model is asked, and the page its answer stands for.

The model only chooses kinds of line from a menu and words the drafts; everything a line needs besides is put in as the
finder would. What the answer names that is not on the menu is left out and told.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from . import finder, saying
from .checks import check
from .controls import Cells, Setting, settings_of
from .edits import EditError, Place, add, with_lanes, with_settings
from .finder import Offer
from .kinds import BlockSpec, Kinds, KindSpec, SendSpec, StartSpec, WriteSpec, points_at
from .model import Guess, Lane, Line, Workflow
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
    return [
        {"role": "system", "content": f"{_ASK}\n\n<menu>\n{menu(kinds, world)}\n</menu>"},
        {"role": "user", "content": f"<description>\n{description.strip()}\n</description>"},
    ]


def menu(kinds: Kinds, world: World) -> str:
    """Every kind of start and of line, with what there is here to choose from."""
    starts = [_entry(spec, world) for spec in kinds.values() if isinstance(spec, StartSpec)]
    steps = [_entry(spec, world) for spec in kinds.values() if not isinstance(spec, StartSpec)]
    return "\n".join(["Starts:", *sorted(starts), "", "Lines:", *sorted(steps)])


def line_schema(names: list[str], **more: Any) -> dict[str, Any]:
    """The JSON Schema of one line of an answer, of one of some kinds."""
    parts = {name: {"type": "string"} for name in ("words", "title", "prompt", "address", "query", "rule")}
    properties = {"kind": {"type": "string", "enum": names}, **parts, **more}
    return {"type": "object", "properties": properties, "required": ["kind", "words"], "additionalProperties": False}


def answer_schema(kinds: Kinds) -> dict[str, Any]:
    """The JSON Schema of the answer."""
    starts = sorted(spec.name for spec in kinds.values() if isinstance(spec, StartSpec))
    steps = sorted(spec.name for spec in kinds.values() if not isinstance(spec, StartSpec))
    inner = {
        "type": "array",
        "items": line_schema([n for n in steps if not isinstance(kinds[n], BlockSpec)]),
        "maxItems": MOST_LINES,
    }
    lane = {"type": "object", "properties": {"when": {"type": "string"}, "inside": inner}, "additionalProperties": False}
    lanes = {"type": "array", "items": lane, "maxItems": MOST_LANES}
    return {
        "type": "object",
        "properties": {
            "name": {"type": "string", "maxLength": 80},
            "start": line_schema(starts),
            "steps": {"type": "array", "items": line_schema(steps, inside=inner, lanes=lanes), "maxItems": MOST_LINES},
        },
        "required": ["name", "start", "steps"],
        "additionalProperties": False,
    }


def page_of(answer: Mapping[str, Any], blank: Workflow, kinds: Kinds, world: World, who: str = "", description: str = "") -> Sketch:
    """The page an answer stands for, begun on `blank` (its name and brand hold where the answer gives none). Whom, which brand, which
    sheet, which channel and which rules the description names is found in its own words, whatever the answer says."""
    notes: list[str] = []
    page = blank
    if not blank.name.strip() or blank.name == UNNAMED:
        page = page.model_copy(update={"name": str(answer.get("name") or UNNAMED).strip()[:120] or UNNAMED})
    if not page.brand and (brand := saying.named_in(description, world.brands)):
        page = page.model_copy(update={"brand": brand})
    drawing = Drawing(kinds, world, who, description, notes)
    told = answer.get("start")
    start = drawing.line(page, told, finder.find(page, kinds, "", "", world, who))
    if start is not None:
        page = page.model_copy(update={"start": start})
    steps = answer.get("steps")
    page = drawing.put(page, steps if isinstance(steps, list) else [], Place())
    if not page.steps:
        notes.append("The description named no line that could be put on the page. Add the first with “Add a line”.")
    return Sketch(within_channels(page, kinds, world), notes)


UNNAMED = "A page from a description"


class Drawing:
    """A page being drawn from a description: what was said, and what was spoken of last."""

    def __init__(self, kinds: Kinds, world: World, who: str, description: str, notes: list[str]) -> None:
        self.kinds, self.world, self.who, self.whole, self.notes = kinds, world, who, description, notes
        self.sheets = {key: title for key, (title, _) in world.sheets.items()}

    def put(self, page: Workflow, told: list[Any], place: Place) -> Workflow:
        """The page with the lines of an answer put in, one after another."""
        for one in told[:MOST_LINES]:
            line = self.line(page, one, finder.find(page, self.kinds, page.start.id, "", self.world, self.who, place))
            if line is None:
                continue
            try:
                page, (name,) = add(page, [line], place, self.kinds)
            except EditError as error:
                self.notes.append(str(error))
                continue
            place = Place(place.parent, place.index + 1)
            inside, lanes = one.get("inside"), one.get("lanes")
            block = self.kinds[line.kind]
            if isinstance(inside, list) and isinstance(block, BlockSpec) and not block.has_lanes:
                page = self.put(page, inside, Place(name))
            if isinstance(lanes, list) and isinstance(block, BlockSpec) and block.has_lanes:
                page = self._lanes(page, name, [lane for lane in lanes if isinstance(lane, dict)])
        return page

    def _lanes(self, page: Workflow, fork: str, told: list[dict[str, Any]]) -> Workflow:
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
            page = self.put(page, inside if isinstance(inside, list) else [], Place(lane.id))
        return page

    def line(self, page: Workflow, answer: Any, offers: list[Offer]) -> Line | None:
        """The line that fits best what the model chose, with what was said put in, and what was guessed told on it."""
        if not isinstance(answer, dict):
            return None
        kind, words = str(answer.get("kind") or ""), str(answer.get("words") or "")
        fitting = [offer for offer in offers if offer.kind == kind]
        if not fitting:
            self.notes.append(f"“{(words or kind)[:80]}” could not be placed: there is no such line here.")
            return None
        offer, guesses = self.meant(page, fitting, words)
        settings = dict(offer.settings)
        said = saying.Said(words, self.whole, self.world.people, self.who)
        used: set[str] = set()
        for name, setting in settings_of(self.kinds[kind].settings).items():
            told = str(answer.get(setting.told) or "").strip()[:LONGEST] if setting.told and setting.told not in used else ""
            value = self.described(setting, told)
            if value is not None:
                used.add(setting.told)
                settings[name] = f"{value}{_material(settings, setting)}" if setting.told == "prompt" else value
            heard = setting.control.heard(said, setting, settings.get(name))
            # What the model made of it holds against a guess, where the description bears it out.
            borne_out = value is not None and (not self.whole or told in self.whole)
            if heard is not None and not (heard.why and borne_out):
                settings[name] = heard.value
                guesses.pop(name, None)
                if heard.why:
                    guesses[name] = heard.why
        if isinstance(self.kinds[kind], SendSpec):
            settings = {name: saying.sent_so(value, words) for name, value in settings.items()}
        made = finder.made(Offer(offer.kind, offer.stage, offer.title, offer.about, settings, offer.lacks), self.kinds, page)
        return made.model_copy(update={"guesses": {n: Guess(value=settings.get(n), why=why) for n, why in guesses.items()}})

    def described(self, setting: Setting, told: str) -> Any:
        """A setting’s value by the words meant for it; ``None`` where there are none or they do not fit."""
        if not told:
            return None
        try:
            return setting.control.described(told, setting)
        except ValueError as error:
            self.notes.append(str(error))
            return None

    def meant(self, page: Workflow, fitting: list[Offer], words: str) -> tuple[Offer, dict[str, str]]:
        """Which of the offers of one kind is meant: the connection or sheet that the words name, else the one the description spoke of;
        and what of it is a guess, by setting."""
        spec = self.kinds[fitting[0].kind]
        named = finder.named_setting(spec)
        by_key = {str(offer.settings[named]): offer for offer in fitting if named in offer.settings} if named else {}
        if not by_key:
            return fitting[0], {}
        of_sheets = settings_of(spec.settings)[named].control.points_at == "sheet"
        if of_sheets and isinstance(spec, WriteSpec) and (home := self._home(page)) in by_key:
            offer = by_key[home]
            if spec.own_row(spec.read(offer.settings)) and not saying.last_named(words, self.sheets):
                return offer, {}
        common = saying.stems(re.sub(r"\{\w+\}", "", spec.offer)) | {"sheet", "list", "row"}
        names = {key: self.sheets[key] if of_sheets else self.world.connections[key].name for key in by_key}
        other = self._columns(names) if of_sheets else {key: self.world.connections[key].kind for key in names}
        if of_sheets and (key := saying.named_in(saying.of_sheets(words), names, common)):
            return by_key[key], {}
        for among in (names, {key: key.replace("_", " ") for key in names}, other):
            if key := saying.named_in(words, among, common):
                return by_key[key], {}
        if len(by_key) == 1:
            return fitting[0], {}
        before = self.whole[: self.whole.find(words)] if words and words in self.whole else ""
        spoken = saying.last_named(before, names) or saying.named_in(self.whole, names, common)
        if spoken:
            return by_key[spoken], {named: f"“{names[spoken]}” was spoken of in the description."}
        if of_sheets:
            # Which one is meant is not said; a wrong sheet is worse than none.
            return self._without(fitting[0], spec, named), {}
        return fitting[0], {named: f"Which one was not said; there are {len(by_key)}: {', '.join(names.values())}."}

    def _home(self, page: Workflow) -> str:
        """The sheet the page's runs come from, if they come from one."""
        kind = self.kinds.get(page.start.kind)
        return next((key for _, key in points_at(kind, page.start.settings, "sheet")), "") if kind is not None else ""

    def _columns(self, names: Mapping[str, str]) -> dict[str, str]:
        return {key: " ".join(self.world.sheets[key][1]) for key in names}

    @staticmethod
    def _without(offer: Offer, spec: KindSpec[Any], sheet: str) -> Offer:
        """An offer without its sheet, and what is filled in by it."""
        of_sheet = {n for n, one in settings_of(spec.settings).items() if one.needs == sheet or isinstance(one.control, Cells)}
        settings = {n: value for n, value in offer.settings.items() if n != sheet and n not in of_sheet}
        return Offer(offer.kind, offer.stage, offer.title, offer.about, settings, offer.lacks)


def within_channels(page: Workflow, kinds: Kinds, world: World, stood: frozenset[str] = frozenset()) -> Workflow:
    """The page with its drafts kept within what the channels take that they go out on; not those that `stood` there before."""
    drafts = {line.id for line in page.every_step if (kind := kinds.get(line.kind)) is not None and kind.stage == "draft"} - stood
    for _ in range(MOST_LINES):
        found = next((p for p in check(page, kinds, world) if p.mend and p.settings is not None and p.step in drafts), None)
        if found is None or found.settings is None:
            break
        page = with_settings(page, found.step, dict(found.settings))
    return page


def _entry(spec: KindSpec[Any], world: World) -> str:
    here = ", ".join(finder.named(spec, world))
    here = f" Here: {here}." if here else ""
    return f"- {spec.name}: {spec.title}. {spec.about}{here} ({spec.words}) called {spec.called or spec.name}"


def blank_page(name: str, brand: str | None, kinds: Kinds) -> Workflow:
    """A page with nothing but the start that blank pages begin with."""
    start = next(spec.name for spec in kinds.values() if isinstance(spec, StartSpec) and spec.begins_blank_pages)
    return Workflow(name=name.strip()[:120] or UNNAMED, brand=brand or None, start=Line(id="start", kind=start), steps=[])


def _material(settings: Mapping[str, Any], setting: Setting) -> str:
    """What an offered prompt is made of, without the words it begins with where none were said."""
    return str(settings.get(setting.name, "")).removeprefix(str(setting.begins or ""))
