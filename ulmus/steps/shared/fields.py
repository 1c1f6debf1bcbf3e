"""Fields that a person fills in, for a form or when starting by hand; and checking what was filled in."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from pydantic import BaseModel, Field, model_validator

FieldType = Literal["text", "long", "number", "choice", "date", "file"]
LONGEST = {"text": 1000, "long": 100_000}
MOST_FIELDS = 60


class FormField(BaseModel):
    """One field. `name` is what slots call it, `label` what the person reads."""

    model_config = {"extra": "forbid", "frozen": True}

    name: str = Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")
    label: str = Field(min_length=1, max_length=200)
    type: FieldType = "text"
    required: bool = False
    help: str = Field("", max_length=500)
    choices: list[str] = Field(default_factory=list, max_length=100)
    least: float | None = None
    greatest: float | None = None
    largest_mb: float = Field(10, gt=0, le=100)
    kinds: list[str] = Field(default_factory=list, max_length=20, description="Endings such as .pdf; empty for any.")

    @model_validator(mode="after")
    def _choices_are_there(self) -> FormField:
        if self.type == "choice" and not self.choices:
            raise ValueError(f"the field “{self.label}” needs choices")
        return self


def names_are_unique(fields: list[FormField]) -> list[FormField]:
    """The fields, where no two share a name. Raises `ValueError`."""
    seen: set[str] = set()
    for field in fields:
        if field.name in seen:
            raise ValueError(f"two fields are called “{field.name}”")
        seen.add(field.name)
    return fields


def fields_of(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The fields as values."""
    out: dict[str, Any] = {}
    for setting in settings.get("fields") or []:
        if isinstance(setting, dict) and setting.get("name"):
            kind = setting.get("type")
            out[str(setting["name"])] = (
                {"name": "text", "type": "text", "size": "number", "link": "text"}
                if kind == "file"
                else "number"
                if kind == "number"
                else "text"
            )
    return out


def read_fields(fields: Sequence[FormField], given: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, str]]:
    """What was filled in, as values, and what is wrong with it by field. A file is an object with name, type and size."""
    values: dict[str, Any] = {}
    wrong: dict[str, str] = {}
    for field in fields:
        raw = given.get(field.name)
        empty = raw is None or (isinstance(raw, str) and not raw.strip()) or raw == {}
        if empty:
            values[field.name] = "" if field.type != "file" else {}
            if field.required:
                wrong[field.name] = "Please fill this in."
            continue
        try:
            values[field.name] = _read(field, raw)
        except ValueError as error:
            wrong[field.name] = str(error)
    known = {field.name for field in fields}
    for name in given:
        if name not in known:
            wrong[str(name)] = "There is no such field."
    return values, wrong


def _read(field: FormField, raw: Any) -> Any:
    if field.type == "file":
        if not isinstance(raw, dict):
            raise ValueError("Choose a file.")
        if raw.get("size", 0) > field.largest_mb * 1_000_000:
            raise ValueError(f"This file is too large; at most {field.largest_mb:g} MB.")
        name = str(raw.get("name", ""))
        if field.kinds and not any(name.lower().endswith(k.lower()) for k in field.kinds):
            raise ValueError(f"Only {', '.join(field.kinds)} can be taken here.")
        return raw
    if isinstance(raw, bool) or not isinstance(raw, str | int | float):
        raise ValueError("This is not a single value.")
    text = str(raw).strip()
    if field.type == "number":
        try:
            number = float(text.replace(",", "."))
        except ValueError:
            raise ValueError("Write a number.") from None
        if number != number or abs(number) > 1e15:
            raise ValueError("Write a number.")
        if field.least is not None and number < field.least:
            raise ValueError(f"At least {field.least:g}.")
        if field.greatest is not None and number > field.greatest:
            raise ValueError(f"At most {field.greatest:g}.")
        return int(number) if number.is_integer() else number
    if field.type == "date":
        try:
            return dt.date.fromisoformat(text).isoformat()
        except ValueError:
            raise ValueError("Write a date like 2026-03-09.") from None
    if field.type == "choice":
        if text not in field.choices:
            raise ValueError("Choose one of the list.")
        return text
    longest = LONGEST[field.type]
    if len(text) > longest:
        raise ValueError(f"Too long; at most {longest:,} characters.")
    return text
