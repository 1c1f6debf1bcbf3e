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
    for one in fields:
        if one.name in seen:
            raise ValueError(f"two fields are called “{one.name}”")
        seen.add(one.name)
    return fields


def fields_of(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The fields as values."""
    out: dict[str, Any] = {}
    for one in settings.get("fields") or []:
        if isinstance(one, dict) and one.get("name"):
            kind = one.get("type")
            out[str(one["name"])] = (
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
    for one in fields:
        raw = given.get(one.name)
        empty = raw is None or (isinstance(raw, str) and not raw.strip()) or raw == {}
        if empty:
            values[one.name] = "" if one.type != "file" else {}
            if one.required:
                wrong[one.name] = "Please fill this in."
            continue
        try:
            values[one.name] = _read(one, raw)
        except ValueError as error:
            wrong[one.name] = str(error)
    known = {one.name for one in fields}
    for name in given:
        if name not in known:
            wrong[str(name)] = "There is no such field."
    return values, wrong


def _read(one: FormField, raw: Any) -> Any:
    if one.type == "file":
        if not isinstance(raw, dict):
            raise ValueError("Choose a file.")
        if raw.get("size", 0) > one.largest_mb * 1_000_000:
            raise ValueError(f"This file is too large; at most {one.largest_mb:g} MB.")
        name = str(raw.get("name", ""))
        if one.kinds and not any(name.lower().endswith(k.lower()) for k in one.kinds):
            raise ValueError(f"Only {', '.join(one.kinds)} can be taken here.")
        return raw
    if isinstance(raw, bool) or not isinstance(raw, str | int | float):
        raise ValueError("This is not a single value.")
    text = str(raw).strip()
    if one.type == "number":
        try:
            number = float(text.replace(",", "."))
        except ValueError:
            raise ValueError("Write a number.") from None
        if number != number or abs(number) > 1e15:
            raise ValueError("Write a number.")
        if one.least is not None and number < one.least:
            raise ValueError(f"At least {one.least:g}.")
        if one.greatest is not None and number > one.greatest:
            raise ValueError(f"At most {one.greatest:g}.")
        return int(number) if number.is_integer() else number
    if one.type == "date":
        try:
            return dt.date.fromisoformat(text).isoformat()
        except ValueError:
            raise ValueError("Write a date like 2026-03-09.") from None
    if one.type == "choice":
        if text not in one.choices:
            raise ValueError("Choose one of the list.")
        return text
    longest = LONGEST[one.type]
    if len(text) > longest:
        raise ValueError(f"Too long; at most {longest:,} characters.")
    return text
