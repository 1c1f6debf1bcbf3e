"""The controls of settings: for each, how a setting of it is read, filled in, renamed, checked, said and offered.

A setting names its control in its JSON Schema under ``control``. What else a setting says there: ``needs``, of which kind the
thing it points at must be; ``takes``, which values a new line begins with there (names of outputs, nearest first, such as
``link|url``, or with the stage they come from, ``text@draft``); ``labels``, the words for a choice; ``told``, which words of a
description fill it in.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import Any

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from .base import Checking, Control, Offered, SentencePart, Setting, Spot, Text
from .pages import AnyLine, ConnectionKey, ItemName, OtherWorkflow, Step
from .plain import Address, Choice, Duration, Mail, Schedule, duration
from .sheets import ITEM, Cells, Column, ItemCells, SheetKey
from .texts import (
    Condition,
    LongSlotText,
    LongSlotValue,
    Named,
    People,
    ReaderLine,
    ReaderText,
    SlotText,
    SlotValue,
    condition_reads,
)
from .writing import Rules, Takes, Tests

__all__ = [
    "Address",
    "AnyLine",
    "CONTROLS",
    "Cells",
    "Checking",
    "Choice",
    "Column",
    "Condition",
    "ConnectionKey",
    "Control",
    "Duration",
    "ITEM",
    "ItemCells",
    "ItemName",
    "LongSlotText",
    "LongSlotValue",
    "Mail",
    "Named",
    "Offered",
    "OtherWorkflow",
    "PLAIN",
    "People",
    "ReaderLine",
    "ReaderText",
    "Rules",
    "Schedule",
    "SentencePart",
    "Setting",
    "SheetKey",
    "SlotText",
    "SlotValue",
    "Spot",
    "Step",
    "Takes",
    "Tests",
    "Text",
    "condition_reads",
    "duration",
    "settings_of",
    "with_control",
]

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
        ItemCells,
        Column,
        Rules,
        Takes,
        Tests,
        Step,
        AnyLine,
        OtherWorkflow,
        ConnectionKey,
        SheetKey,
        ItemName,
        Mail,
        People,
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
        begins=extra.get("begins"),
        told=str(extra.get("told", "")) or CONTROLS.get(str(extra.get("control", "")), PLAIN).told,
        labels=extra.get("labels", {}),
    )


def with_control(model: type[BaseModel], control: type[Control]) -> Setting | None:
    """The first setting of a model with a control."""
    return next((setting for setting in settings_of(model).values() if isinstance(setting.control, control)), None)
