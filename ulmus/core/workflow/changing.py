"""A page changed by what somebody says: what a model is asked, and the page that its answer stands for.

The model only says which lines are added, taken off or changed, and by which words; what the words name is found by code, as for a
whole page (see `sketch`).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from . import edits, finder, saying
from .controls import settings_of
from .edits import EditError, Place
from .kinds import STAGES, BlockSpec, Kinds, StartSpec
from .model import Guess, Line, Workflow
from .sentences import sentence
from .sketch import MOST_LINES, Drawing, Sketch, line_schema, menu, within_channels
from .takes import plan_of
from .world import World

_ASK = (
    "You change a page of lines as somebody says. Answer with the changes alone, in order. “add” puts a line of a kind from the menu "
    "after the line named under “line”; “remove” takes that line off, “mute” passes it over, “unmute” takes it up again; “change” "
    "changes its settings. Give each change the words it stands for, an address they name under “address”, what is to be searched "
    "for under “query”, for a schedule its “rule” as in RFC 5545, for a draft what it says besides under “prompt”. Change nothing "
    "that was not spoken of."
)
WHATS = ("add", "remove", "mute", "unmute", "change")


def messages(said: str, page: Workflow, kinds: Kinds, world: World) -> list[dict[str, str]]:
    """The messages to the model: the menu, the page line by line, and what was said."""
    lines = [f"- {line.id}: {_read(line, kinds, world)}" for line in page.lines]
    stands = "\n".join(lines)
    return [
        {"role": "system", "content": f"{_ASK}\n\n<menu>\n{menu(kinds, world)}\n</menu>"},
        {"role": "user", "content": f"<page>\n{stands}\n</page>\n\n<said>\n{said.strip()}\n</said>"},
    ]


def answer_schema(kinds: Kinds) -> dict[str, Any]:
    """The JSON Schema of the answer."""
    names = sorted(spec.name for spec in kinds.values() if not isinstance(spec, StartSpec))
    what = {"what": {"type": "string", "enum": list(WHATS)}, "line": {"type": "string"}}
    inner = {
        "type": "array",
        "items": line_schema([n for n in names if not isinstance(kinds[n], BlockSpec)]),
        "maxItems": MOST_LINES,
    }
    one = line_schema(names, **what, inside=inner)
    return {
        "type": "object",
        "properties": {"changes": {"type": "array", "items": {**one, "required": ["what", "words"]}, "maxItems": MOST_LINES}},
        "required": ["changes"],
        "additionalProperties": False,
    }


def changed(
    answer: Mapping[str, Any], page: Workflow, kinds: Kinds, world: World, who: str = "", said: str = "", at: str = ""
) -> Sketch:
    """The page an answer stands for. With `at`, only lines are added, behind the line of that name."""
    notes: list[str] = []
    drawing = Drawing(kinds, world, who, said, notes)
    told = answer.get("changes")
    behind, stood = at, frozenset(line.id for line in page.lines)
    for one in told[:MOST_LINES] if isinstance(told, list) else ():
        if not isinstance(one, dict):
            continue
        what, words = one.get("what"), str(one.get("words") or "")
        try:
            if what == "add":
                place = edits.after(page, behind, kinds) if behind else _place(page, one, kinds)
                before = {line.id for line in page.lines}
                page = drawing.put(page, [one], place)
                new = [line.id for line in page.lines if line.id not in before]
                behind = new[0] if behind and new else behind
            elif not at:
                line = _meant(page, one, words, kinds)
                if line is None:
                    notes.append(f"Which line “{words[:80]}” is about could not be told.")
                    continue
                page = _done(page, line, str(what), one, drawing)
        except EditError as error:
            notes.append(str(error))
    # What was not spoken of stays as it is, though a channel takes less.
    return Sketch(within_channels(page, kinds, world, stood), notes)


def _done(page: Workflow, line: Line, what: str, told: Mapping[str, Any], drawing: Drawing) -> Workflow:
    match what:
        case "remove":
            return edits.remove(page, line.id)
        case "mute" | "unmute":
            return edits.with_line(page, line.id, lambda one: one.model_copy(update={"muted": what == "mute"}))
        case "change":
            after = _changed(page, line, told, drawing)
            if after == line:
                drawing.notes.append(f"“{str(told.get('words') or '')[:80]}” changes nothing that could be told.")
            return edits.with_line(page, line.id, lambda one: after)
    drawing.notes.append(f"“{what[:40]}” is no change that can be made.")
    return page


def _changed(page: Workflow, line: Line, told: Mapping[str, Any], drawing: Drawing) -> Line:
    """A line with what was said put into its settings."""
    spec, words = drawing.kinds[line.kind], str(told.get("words") or "")
    settings: dict[str, Any] = dict(line.settings)
    offers = finder.find(page, drawing.kinds, line.id, "", drawing.world, drawing.who) if not isinstance(spec, StartSpec) else []
    named = finder.named_setting(spec)
    offer, unsure = drawing.meant(page, [one for one in offers if one.kind == line.kind], words) if offers and named else (None, {})
    if offer is not None and named not in unsure and named in offer.settings:
        settings[named] = offer.settings[named]
    said = saying.Said(words, words, drawing.world.people, drawing.who)
    guesses: dict[str, Guess] = dict(line.guesses)
    for name, setting in settings_of(spec.settings).items():
        value = drawing.described(setting, str(told.get(setting.told) or "").strip()) if setting.told else None
        if value is not None and setting.told == "prompt":
            value = f"{settings.get(name, '')}\n\n{value}".strip()
        if value is not None and setting.told != "title":
            settings[name] = value
        heard = setting.control.heard(said, setting, settings.get(name))
        if heard is not None and not heard.why:
            settings[name] = heard.value
            guesses.pop(name, None)
    return line.model_copy(update={"settings": settings, "guesses": guesses})


def _meant(page: Workflow, told: Mapping[str, Any], words: str, kinds: Kinds) -> Line | None:
    """The line a change is about: the one it names, else the one its words speak of."""
    found = page.line(str(told.get("line") or ""))
    if found is not None:
        return found
    names = {
        line.id: f"{line.id.replace('_', ' ')} {plan_of(line, kinds).title if line.kind in kinds else ''}" for line in page.lines
    }
    key = saying.named_in(words, names) or saying.named_in(
        words, {line.id: f"{kinds[line.kind].title} {kinds[line.kind].words}" for line in page.lines if line.kind in kinds}
    )
    return page.line(key) if key else None


def _place(page: Workflow, told: Mapping[str, Any], kinds: Kinds) -> Place:
    """Where a line is added: behind the one that is named, else behind the last of its stage, else before what comes later."""
    named = page.line(str(told.get("line") or ""))
    if named is not None and named.id != page.start.id:
        return edits.after(page, named.id, kinds)
    spec = kinds.get(str(told.get("kind") or ""))
    stage = STAGES.index(spec.stage) if spec is not None else len(STAGES)
    at = 0
    for n, line in enumerate(page.steps, start=1):
        if line.kind in kinds and STAGES.index(kinds[line.kind].stage) <= stage:
            at = n
    return Place("", at)


def _read(line: Line, kinds: Kinds, world: World) -> str:
    return "".join(part.text for part in sentence(line, kinds.get(line.kind), world))
