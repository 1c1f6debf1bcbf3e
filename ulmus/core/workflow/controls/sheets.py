"""Controls of sheets: which one, a column of it, and cells by column."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ... import slots
from ..world import Around, LineProblem, World
from .base import Checking, Control, Offered, SentencePart, Setting, Spot, sheet_of
from .texts import Named

ITEM = "item"
"""By which name texts that are filled in for each item of a list reach the item."""


class Cells(Named):
    """Texts with slots by the columns of the sheet that the line's other setting names."""

    name = "cells"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        title, columns = sheet_of(at)
        missing = [column for column in at.value if column not in columns] if columns is not None else []
        if missing:
            yield at.lacking(title, missing, (at.setting.name, missing[0]))

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        sheet = spot.world.sheets.get(str(settings.get(setting.needs, "")))
        if sheet is None or setting.takes == "nothing":
            return Offered()
        cells = spot.cells(sheet[1])
        if setting.takes == "made":
            # What the row itself gave is there already.
            cells = {column: text for column, text in cells.items() if text in spot.made}
        return Offered(cells or None)


class ItemCells(Cells):
    """The same, filled in for each item of the list that the line's other setting holds (a control ``value``); the item is `item`."""

    name = "itemcells"
    as_written = True
    own_roots = frozenset((ITEM,))

    def renamed(self, value: Any, names: Mapping[str, str]) -> Any:
        return super().renamed(value, {old: new for old, new in names.items() if old not in self.own_roots})

    def text_problems(self, text: str, around: Around) -> list[slots.Problem]:
        return slots.check(slots.parse(text), {**around.scope, ITEM: "any"}, around.maybe)

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        yield from super().problems(at)
        fields = type(at.settings).model_fields.items()
        lists = (
            name
            for name, one in fields
            if isinstance(one.json_schema_extra, dict) and one.json_schema_extra.get("control") == "value"
        )
        parts = [part for name in lists for part in slots.parse(str(getattr(at.settings, name))).parts]
        found = next((slots.type_of(part.value, at.around.scope) for part in parts if isinstance(part, slots.Slot)), None)
        known = found[0] if isinstance(found, list) and found and isinstance(found[0], dict) and "*" not in found[0] else None
        if known is None:
            return
        for place, text in self.texts(at.value):
            for path in slots.parse(text).reads:
                if path.root == ITEM and len(path.parts) > 1 and str(path.parts[1]) not in known:
                    yield at.problem(f"An item has no “{path.parts[1]}”.", (at.setting.name, *place))

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        sheet = spot.world.sheets.get(str(settings.get(setting.needs, "")))
        return Offered(spot.item_cells(sheet[1]) or None if sheet else None)


class Column(Control):
    """A column of the sheet that another setting (``needs``) names."""

    name = "column"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        title, columns = sheet_of(at)
        if columns is not None and at.value and at.value not in columns:
            yield at.lacking(title, [at.value])

    def offered(self, setting: Setting, settings: Mapping[str, Any], spot: Spot) -> Offered:
        wanted = setting.takes.split("|") if setting.takes else [setting.name] if setting.required else []
        sheet = spot.world.sheets.get(str(settings.get(setting.needs, "")))
        columns = {column.lower(): column for column in sheet[1]} if sheet else {}
        found = next((columns[word] for word in wanted if word in columns), None)
        lacks = f"a column for it: {setting.title.lower()}" if sheet and setting.takes and setting.required and not found else ""
        return Offered(found, lacks)


class SheetKey(Control):
    """The key of a sheet."""

    name = "sheet"
    points_at = "sheet"

    def problems(self, at: Checking) -> Iterator[LineProblem]:
        if at.world and (at.value or at.setting.required) and at.value not in at.world.sheets:
            yield at.problem(f"There is no sheet “{at.value}” here. Choose one." if at.value else "No sheet chosen.")

    def words(self, value: Any, setting: Setting, world: World) -> list[SentencePart] | None:
        if not isinstance(value, str):
            return None
        known = world.sheets.get(value)
        return [SentencePart("value", known[0]) if known else SentencePart("gap", value)]
