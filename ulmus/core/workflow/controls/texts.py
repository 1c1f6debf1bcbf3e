"""Controls of texts with slots, of conditions, and of texts by name."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from ... import slots
from ...mailings import READER, columns_read
from ...people import ADDRESS, addresses
from ...slots.tree import condition_values
from ..saying import Heard, Said, asked_by, people_in, said_to_me
from ..world import Around, LineProblem, World
from .base import Checking, Control, Offered, SentencePart, Setting, Spot, Text, sheet_of


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

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        if "address" not in setting.takes.split("|"):
            return None
        named = people_in(said.words, said.people)
        return Heard(", ".join(named)) if named else Heard(said.who) if said.who and said_to_me(said.words) else None

    def described(self, words: str, setting: Setting) -> Any:
        return None if setting.told == "address" and not words.startswith(("http://", "https://")) else words


class People(SlotText):
    """Mail addresses of people, parted by commas, or slots that give them."""

    name = "people"
    is_address = True
    told = "address"

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        return Offered((spot.who or None) if setting.required else None)

    def heard(self, said: Said, setting: Setting, value: Any) -> Heard | None:
        return asked_by(said) if setting.required else None

    def described(self, words: str, setting: Setting) -> Any:
        found, unknown = addresses(words)
        return ", ".join(found)[:1000] if found and not unknown else None

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        parts = slots.parse(str(at.value)).parts
        plain = ",".join("x@x" if isinstance(part, slots.Slot) else str(part) for part in parts)
        known = {name.casefold(): address for address, name in (at.world.people if at.world else {}).items()}
        for name in addresses(plain, known)[1]:
            yield at.problem(f"“{name[:60]}” is no mail address. Write one, such as ines@example.org, or a slot that gives one.")

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        out = []
        for part in super().words(value, setting, world) or []:
            text = part.text
            for address in ADDRESS.findall(text) if part.what == "value" else ():
                text = text.replace(address, world.people.get(address.casefold(), address))
            out.append(part._replace(text=text))
        return out


class LongSlotText(SlotText):
    """A text with slots that the kind fills in itself."""

    name = "longslots"
    as_written = True

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        if spot.as_tool:
            return super().offered(setting, settings, spot)
        begins = str(setting.begins or "")
        if not setting.takes:
            return Offered(begins if begins and (spot.for_brand or "<<brand." not in begins) else None)
        value = spot.each() or spot.material(setting.takes)
        return Offered(f"{begins}\n\n{value}" if value else None)


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
        title, columns = sheet_of(at)
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


def condition_reads(text: str) -> set[slots.Path]:
    """The values a condition in words reads."""
    condition = slots.parse_condition(text) if text.strip() else None
    if condition is None or isinstance(condition, slots.SlotError):
        return set()
    return {value.path for value in condition_values(condition)}
