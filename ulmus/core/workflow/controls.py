"""The controls of settings: for each, how a setting of it is read, filled in, renamed, checked, said and offered.

A setting names its control in its JSON Schema under ``control``. What else a setting says there: ``needs``, of which kind the
thing it points at must be; ``takes``, which values a new line begins with there (names of outputs, nearest first, such as
``link|url``, or with the stage they come from, ``text@draft``); ``labels``, the words for a choice; ``told``, which words of a
description fill it in.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, ClassVar, Literal, NamedTuple, Protocol

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from .. import pieces, slots
from ..drafting.rules import Length, contradictions
from ..mailings import READER, columns_read
from ..recurrence import RecurrenceError, due, words_of
from ..slots.tree import condition_values
from .model import Line, Workflow
from .world import Around, LineProblem, World

_MAIL = re.compile(r"[^\s@<>]+@[^\s@<>]+\.[^\s@<>]+")
_SOME_DAY = dt.datetime(2026, 1, 1, tzinfo=dt.UTC)
LENGTH = str(Length.model_fields["rule"].default)
Text = tuple[tuple[str, ...], str]
"""A text with slots, and where it stands within its setting."""


class SentencePart(NamedTuple):
    """A run of a line's sentence and what it is."""

    what: Literal["text", "value", "slot", "gap"]
    text: str


@dataclass(frozen=True)
class Setting:
    """A setting of a kind: its name, title and control, and what it says of itself."""

    name: str
    title: str
    control: Control
    required: bool
    default: Any = field(hash=False)
    needs: str = ""
    takes: str = ""
    told: str = ""
    labels: Mapping[str, str] = field(default_factory=dict, hash=False)


@dataclass(frozen=True)
class Checking:
    """A setting that is checked: its line and the page it stands on (`above` are the lines before it), the settings as read, and
    what is around. `drafts` are the lines that write a text under rules, by name, with the rules' setting."""

    workflow: Workflow
    line: Line
    setting: Setting
    value: Any
    settings: BaseModel
    above: Sequence[Line]
    askable: frozenset[str]
    world: World | None
    drafts: Mapping[str, Setting]
    reads: frozenset[str]
    around: Around

    def problem(self, words: str, place: tuple[str, ...] | None = None) -> LineProblem:
        """A fault of this setting."""
        return LineProblem(self.line.id, words, place=(self.setting.name,) if place is None else place)


class Spot(Protocol):
    """The place a new line would stand at, as far as a setting can be filled in from it."""

    who: str
    world: World
    as_tool: bool

    def nearest(self, takes: str) -> str | None:
        """The nearest value of those wanted, as a slot."""

    def each(self) -> str | None:
        """The texts made for each item above, one after another, as text with slots."""

    def cells(self, columns: tuple[str, ...]) -> dict[str, str]:
        """What a row with these columns would hold."""

    def last_of(self, kind: str) -> str | None:
        """The name of the last line of a kind above."""


class Offered(NamedTuple):
    """What a new line's setting begins with, and what is not there yet that it needs."""

    value: Any = None
    lacks: str = ""


class Control:
    """A control. This one is that of a plain value, and what the others do where they do nothing else."""

    name: ClassVar[str] = ""
    points_at: ClassVar[Literal["", "connection", "sheet", "workflow", "step", "line"]] = ""
    is_address: ClassVar[bool] = False
    as_written: ClassVar[bool] = False
    """Whether its texts are left as written when a line's settings are filled in: the kind does it."""
    own_roots: ClassVar[frozenset[str]] = frozenset()
    """Roots that name something of its own in its texts, and nothing on the page."""
    told: ClassVar[str] = ""
    """Which words of a description fill it in, where the setting names none itself."""

    def texts(self, value: Any) -> Iterator[Text]:
        """Every text with slots in a value of any shape."""
        return iter(())

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        """The value with every text with slots changed."""
        return value

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        """The value, where lines are called by other names from now on."""
        return self.changed(value, lambda text: slots.renamed(text, names))

    def reads(self, value: Any) -> set[slots.Path]:
        """The values it reads beside those in its texts."""
        return set()

    def text_problems(self, text: str, around: Around) -> list[slots.Problem]:
        """What is wrong with the slots of one of its texts."""
        return slots.check(slots.parse(text), around.scope, around.maybe)

    def value_problems(self, value: Any, around: Around) -> list[slots.Problem]:
        """What is wrong with a value as a whole, as it stands on the page."""
        return []

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        """What is wrong with a value that could be read."""
        return iter(())

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        """The value in the line's sentence; ``None`` where it is a gap."""
        return [SentencePart("value", str(value))]

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        """What a new line begins with here, where its other settings are these."""
        return Offered(spot.nearest(setting.takes) if setting.takes else None)

    def described(self, words: str, setting: Setting) -> Any:
        """The value for words of a description that are meant for it; ``None`` where they do not fit. Raises `ValueError` with
        what is wrong, where that is worth a word."""
        return words


class SlotText(Control):
    """One line of text with slots."""

    name = "slots"

    def texts(self, value: Any) -> Iterator[Text]:
        if isinstance(value, str):
            yield (), value

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        return change(value) if isinstance(value, str) else value

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        parts = slots.parse(str(value)).parts
        return [SentencePart("slot", str(p.path)) if isinstance(p, slots.Slot) else SentencePart("value", str(p)) for p in parts]

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        if spot.as_tool and (setting.required or setting.takes):
            # A tool of an assignment: the model says what.
            return Offered(f"<<given.{setting.name}>>")
        return super().offered(setting, settings, spot)

    def described(self, words: str, setting: Setting) -> Any:
        return None if setting.told == "address" and not words.startswith(("http://", "https://")) else words


class LongSlotText(SlotText):
    """A text with slots that the kind fills in itself."""

    name = "longslots"
    as_written = True

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        if spot.as_tool or not setting.takes:
            return super().offered(setting, settings, spot)
        value = spot.each() or spot.nearest(setting.takes)
        return Offered(f"\n\n{value}" if value else None)


class ReaderLine(SlotText):
    """One line of text with slots that is filled in for each reader of the list that another setting (``needs``) names, by its
    columns."""

    name = "readerline"
    as_written = True
    own_roots = frozenset((READER,))

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return super().renamed(value, {old: new for old, new in names.items() if old not in self.own_roots})

    def text_problems(self, text: str, around: Around) -> list[slots.Problem]:
        return slots.check(slots.parse(text), {**around.scope, READER: {"*": "any"}}, around.maybe)

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        title, columns = _sheet_of(at)
        for column in sorted(columns_read([str(at.value)])) if columns is not None else ():
            if columns is not None and column not in columns:
                yield at.problem(f"The list “{title}” has no column “{column}”.")


class ReaderText(ReaderLine):
    """Several such lines."""

    name = "readertext"


class SlotValue(SlotText):
    """One slot, for the value itself."""

    name = "value"
    as_written = True

    def text_problems(self, text: str, around: Around) -> list[slots.Problem]:
        return slots.check_value(text, around.scope)


class LongSlotValue(SlotText):
    """A slot for a value, or several lines of text."""

    name = "longvalue"
    as_written = True

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        lines = [part for part in str(value).splitlines() if part.strip()]
        return [SentencePart("value", f"{len(lines)} lines")] if len(lines) > 1 else super().words(value, setting, world)


class Condition(Control):
    """A condition in words."""

    name = "condition"

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return slots.renamed_condition(value, names) if isinstance(value, str) else value

    def reads(self, value: Any) -> set[slots.Path]:
        return condition_reads(str(value or ""))

    def value_problems(self, value: Any, around: Around) -> list[slots.Problem]:
        return slots.check_condition(str(value or ""), around.closing or around.scope)


class Named(Control):
    """Texts with slots by names of one's own."""

    name = "fields"

    def texts(self, value: Any) -> Iterator[Text]:
        for name, text in value.items() if isinstance(value, dict) else ():
            if isinstance(text, str):
                yield (name,), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        if not isinstance(value, dict):
            return value
        return {name: change(text) if isinstance(text, str) else text for name, text in value.items()}

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", ", ".join(value))] if isinstance(value, dict) else super().words(value, setting, world)


class Cells(Named):
    """Texts with slots by the columns of the sheet that the line's other setting names."""

    name = "cells"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        title, columns = _sheet_of(at)
        for column in at.value if columns is not None else ():
            if columns is not None and column not in columns:
                yield at.problem(f"The sheet “{title}” has no column “{column}”.", (at.setting.name, column))

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        sheet = spot.world.sheets.get(str(settings.get(setting.needs, "")))
        return Offered(spot.cells(sheet[1]) or None if sheet else None)


class Column(Control):
    """A column of the sheet that another setting (``needs``) names."""

    name = "column"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        title, columns = _sheet_of(at)
        if columns is not None and at.value and at.value not in columns:
            yield at.problem(f"The sheet “{title}” has no column “{at.value}”.")

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        wanted = setting.takes.split("|") if setting.takes else [setting.name] if setting.required else []
        sheet = spot.world.sheets.get(str(settings.get(setting.needs, "")))
        columns = {column.lower(): column for column in sheet[1]} if sheet else {}
        found = next((columns[word] for word in wanted if word in columns), None)
        lacks = f"a column for it: {setting.title.lower()}" if sheet and setting.takes and setting.required and not found else ""
        return Offered(found, lacks)


class Rules(Control):
    """Rules of a draft."""

    name = "rules"

    def texts(self, value: Any) -> Iterator[Text]:
        for i, rule in enumerate(value if isinstance(value, list) else ()):
            text = rule.get("text") if isinstance(rule, dict) else getattr(rule, "text", None)
            if isinstance(text, str):
                yield (str(i), "text"), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        return [_rule_changed(rule, change) for rule in value] if isinstance(value, list) else value

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        return (at.problem(words) for words in contradictions(at.value))

    @staticmethod
    def keep_within(value: Any, takes: pieces.Takes) -> bool:
        """Whether rules of any shape keep a draft within what a channel takes, as it counts."""
        rules = value if isinstance(value, list) else []
        return any(
            rule.get("rule") == LENGTH
            and isinstance(most := rule.get("most"), int)
            and takes.length is not None
            and most <= takes.length
            and (rule.get("counting") or pieces.CHARACTERS.model_dump()) == takes.counting.model_dump()
            for rule in rules
            if isinstance(rule, dict)
        )

    @staticmethod
    def longest(value: Any) -> int | None:
        """The most characters that rules of any shape allow, as far as they can be read."""
        rules = value if isinstance(value, list) else []
        found = [rule.get("most") for rule in rules if isinstance(rule, dict) and rule.get("rule") == LENGTH]
        return min((most for most in found if isinstance(most, int)), default=None)

    @classmethod
    def within(cls, value: Any, takes: pieces.Takes) -> list[Any]:
        """The rules with one that keeps a draft within what a channel takes, instead of those of its length."""
        others = [rule for rule in value if not (isinstance(rule, dict) and rule.get("rule") == LENGTH)]
        counting = {} if takes.counting == pieces.CHARACTERS else {"counting": takes.counting.model_dump()}
        return [{"rule": LENGTH, "most": takes.length, **counting}, *others]


def _rule_changed(rule: Any, change: Callable[[str], str]) -> Any:
    if isinstance(rule, dict):
        return {**rule, "text": change(rule["text"])} if isinstance(rule.get("text"), str) else rule
    text = getattr(rule, "text", None)
    return rule.model_copy(update={"text": change(text)}) if isinstance(text, str) else rule


class Takes(Control):
    """Other ways to write a draft: each a name, and settings laid over the line's own (``needs`` says which, parted by blanks)."""

    name = "takes"
    as_written = True

    def texts(self, value: Any) -> Iterator[Text]:
        for i, take in enumerate(value if isinstance(value, list) else ()):
            for part, text in take.items() if isinstance(take, dict) else ():
                if isinstance(text, str) and part != "name":
                    yield (str(i), part), text

    def changed(self, value: Any, change: Callable[[str], str]) -> Any:
        if not isinstance(value, list):
            return value
        return [
            {part: change(text) if isinstance(text, str) and part != "name" else text for part, text in take.items()}
            if isinstance(take, dict)
            else take
            for take in value
        ]


class Step(Control):
    """The name of an earlier step of a kind, whose text is shown."""

    name = "step"
    points_at = "step"

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return names.get(value, value) if isinstance(value, str) else value

    def reads(self, value: Any) -> set[slots.Path]:
        return {slots.Path((str(value or ""), "text"))}

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        target = next((line for line in at.above if line.id == at.value), None)
        if target is None or target.kind != at.setting.needs:
            yield at.problem("Choose which draft above this line is shown.")
        elif target.id not in at.askable:
            yield at.problem(f"“{target.id}” stands outside this block; ask inside the block it stands in.")

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        found = spot.last_of(setting.needs)
        return Offered(found, "" if found else f"There is no {setting.needs} above it yet.")


class AnyLine(Control):
    """The name of any line of the page."""

    name = "line"
    points_at = "line"

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return names.get(value, value) if isinstance(value, str) else value

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.value and not any(step.id == at.value for step in at.workflow.every_step):
            shown = at.value if len(at.value) < 40 else f"{at.value[:40]}…"
            yield at.problem(f"There is no line called “{shown}”, so that nothing would be given. Choose a line.")


class OtherWorkflow(Control):
    """The number of another workflow."""

    name = "workflow"
    points_at = "workflow"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world and at.value not in at.world.workflows:
            yield at.problem("Choose which workflow is meant.")

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str | int):
            return None
        called = world.workflows.get(str(value))
        return [SentencePart("value", called) if called else SentencePart("gap", "a workflow")]


class ConnectionKey(Control):
    """The key of a connection of a kind (``needs``), or of one of several."""

    name = "connection"
    points_at = "connection"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world is None or (at.value == "" and not at.setting.required):
            return
        known = at.world.connections.get(at.value)
        if known is None:
            words = f"The connection “{at.value}” is not here yet." if at.value else "No connection chosen."
            yield at.problem(f"{words} Choose one, or add it under Connections.")
        elif known.kind not in at.setting.needs.split():
            yield at.problem(f"“{known.name}” is not a fitting connection here.")
        elif known.takes.length is not None:
            yield from self._too_long(at, known.name, known.takes)

    @staticmethod
    def _too_long(at: Checking, name: str, takes: pieces.Takes) -> Iterator[LineProblem]:
        """Drafts that go there with no rule that keeps them within what it takes."""
        for draft in at.workflow.every_step:
            rules = at.drafts.get(draft.id)
            if draft.id not in at.reads or rules is None:
                continue
            stand = draft.settings.get(rules.name, [])
            if not Rules.keep_within(stand, takes):
                words = f"“{name}” takes at most {takes.length} {takes.counting.words}; no rule keeps the draft within that."
                mended = {**draft.settings, rules.name: Rules.within(stand if isinstance(stand, list) else [], takes)}
                mend = f"Keep it within {takes.length} characters"
                yield LineProblem(draft.id, words, "warning", (rules.name,), mend=mend, settings=mended)

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str):
            return None
        known = world.connections.get(value)
        return [SentencePart("value", known.name) if known else SentencePart("gap", value)]

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        here = spot.world.connections.items() if setting.required else ()
        return Offered(next((key for key, known in here if known.kind in setting.needs.split()), None))


class SheetKey(Control):
    """The key of a sheet."""

    name = "sheet"
    points_at = "sheet"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world and at.value not in at.world.sheets:
            yield at.problem(f"There is no sheet “{at.value}” here. Choose one.")

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str):
            return None
        known = world.sheets.get(value)
        return [SentencePart("value", known[0]) if known else SentencePart("gap", value)]


def _sheet_of(at: Checking) -> tuple[str, tuple[str, ...] | None]:
    """The sheet that a setting's columns are of: its name and columns, where it is here."""
    known = at.world.sheets.get(str(getattr(at.settings, at.setting.needs, ""))) if at.world else None
    return known if known is not None else ("", None)


class ItemName(Control):
    """What each item of a list is called inside a block."""

    name = "name"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.value in at.around.scope:
            yield at.problem(f"“{at.value}” is a name already; call the item something else.")


class Mail(Control):
    """A person's mail address."""

    name = "email"
    is_address = True
    told = "address"

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        return Offered(spot.who or None)

    def described(self, words: str, setting: Setting) -> Any:
        return words[:200] if _MAIL.fullmatch(words) else None


class Address(Control):
    """A web address."""

    name = "url"
    is_address = True
    told = "address"

    def described(self, words: str, setting: Setting) -> Any:
        return words[:2000] if words.startswith(("http://", "https://")) else None


class Duration(Control):
    """A number of seconds."""

    name = "duration"

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", duration(value))] if isinstance(value, int | float) else None


class Schedule(Control):
    """A recurrence rule (RFC 5545)."""

    name = "schedule"
    told = "rule"

    def described(self, words: str, setting: Setting) -> Any:
        try:
            due(words, "UTC", _SOME_DAY, 1)
        except RecurrenceError as error:
            raise ValueError(f"When it is due could not be read ({error}). Set it in the first line.") from None
        return words

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", words_of(str(value)))]


class Choice(Control):
    """One of several words."""

    name = "choice"

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        return [SentencePart("value", str(setting.labels.get(str(value), value)))] if isinstance(value, str | int | float) else None


PLAIN = Control()
CONTROLS: Mapping[str, Control] = {
    control.name: control()
    for control in (
        SlotText,
        LongSlotText,
        ReaderLine,
        ReaderText,
        SlotValue,
        LongSlotValue,
        Condition,
        Named,
        Cells,
        Column,
        Rules,
        Takes,
        Step,
        AnyLine,
        OtherWorkflow,
        ConnectionKey,
        SheetKey,
        ItemName,
        Mail,
        Address,
        Duration,
        Schedule,
        Choice,
    )
}
"""The controls by name; every other name is that of a plain value."""


def settings_of(model: type[BaseModel]) -> Mapping[str, Setting]:
    """The settings of a model, by name."""
    return _settings_of(model)


@cache
def _settings_of(model: type[BaseModel]) -> Mapping[str, Setting]:
    return {name: _setting(name, info) for name, info in model.model_fields.items()}


def _setting(name: str, info: FieldInfo) -> Setting:
    extra: Any = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    return Setting(
        name=name,
        title=info.title or name.replace("_", " "),
        control=CONTROLS.get(str(extra.get("control", "")), PLAIN),
        required=info.is_required(),
        default=None if info.is_required() else info.get_default(call_default_factory=True),
        needs=str(extra.get("needs", "")),
        takes=str(extra.get("takes", "")),
        told=str(extra.get("told", "")) or CONTROLS.get(str(extra.get("control", "")), PLAIN).told,
        labels=extra.get("labels", {}),
    )


def with_control(model: type[BaseModel], control: type[Control]) -> Setting | None:
    """The first setting of a model with a control."""
    return next((setting for setting in settings_of(model).values() if isinstance(setting.control, control)), None)


def condition_reads(text: str) -> set[slots.Path]:
    """The values a condition in words reads."""
    condition = slots.parse_condition(text) if text.strip() else None
    if condition is None or isinstance(condition, slots.SlotError):
        return set()
    return {value.path for value in condition_values(condition)}


def duration(seconds: float) -> str:
    """Seconds in words: “5 seconds”, “10 minutes”, “2 hours”."""
    for size, word in ((86400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size and seconds % size == 0:
            n = int(seconds // size)
            return f"{n} {word}{'s' if n != 1 else ''}"
    return f"{seconds:g} second{'s' if seconds != 1 else ''}"
