"""Ask: what is missing, filled in by a person in a form; what they fill in are values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field, field_validator

from ..api import Asks, AsksQuestion, Settings, setting
from ..shared.fields import MOST_FIELDS, FormField, fields_of, names_are_unique


class _Form(Settings):
    question: str = setting("What is said above it", control="slots", min_length=1, max_length=10_000)
    fields: list[FormField] = setting("Fields", control="form", min_length=1, max_length=MOST_FIELDS)

    @field_validator("fields")
    @classmethod
    def _unique(cls, fields: list[FormField]) -> list[FormField]:
        return names_are_unique(fields)


class FillSettings(AsksQuestion, _Form):
    """The form first, then the people: settings come in the order of the last base to the first."""


class FillOutput(BaseModel):
    text: str = Field("", description="All that was filled in, a line each.")
    by: str = Field("", description="Who filled it in.")


def faults(settings: FillSettings) -> list[tuple[str, str]]:
    """What cannot be asked for."""
    taken = sorted({f.name for f in settings.fields} & set(FillOutput.model_fields))
    files = [f.label for f in settings.fields if f.type == "file"]
    return [("fields", f"The name “{name}” is taken; give the field another.") for name in taken] + [
        ("fields", f"“{label}” is a file; ask for its link, or begin the workflow with a form.") for label in files
    ]


def gives(settings: Mapping[str, Any], world: Any) -> dict[str, Any]:
    """The fields as values."""
    return fields_of(settings, world)


KIND = Asks(
    name="ask_form",
    stage="ask",
    title="Ask to fill in a form",
    about="Puts a form before a person and waits until it is filled in. What they fill in are values for the lines that follow.",
    sentence="Ask {who} to fill in: {question}",
    offer="Ask somebody to fill in what is missing",
    words="form fill in fields missing facts details input questions",
    called="filled",
    settings=FillSettings,
    output=FillOutput,
    gives=gives,
    faults=faults,
    plan=lambda s: s.asking(question=s.question, answer="fill", fields=tuple(s.fields)),
    brief="{text}",
)
