"""Start: a person presses a button, and fills in fields where there are any."""

from __future__ import annotations

from pydantic import BaseModel, Field, field_validator

from ...core.workflow.plans import HandPlan
from ..api import Settings, Start, setting
from ..shared.fields import MOST_FIELDS, FormField, fields_of, names_are_unique


class ByHandSettings(Settings):
    fields: list[FormField] = setting(
        "Fields",
        "What is asked for each time; none is fine.",
        control="form",
        default=[],
        begins=[{"name": "topic", "label": "Topic", "type": "text", "required": True}],
        max_length=MOST_FIELDS,
    )

    @field_validator("fields")
    @classmethod
    def _unique(cls, fields: list[FormField]) -> list[FormField]:
        return names_are_unique(fields)


class ByHandOutput(BaseModel):
    title: str = Field("", description="What the run is called.")
    by: str = Field("", description="Who started it.")


KIND = Start(
    name="by_hand",
    stage="start",
    title="By hand",
    about="Starts when you press the button, with fields to fill in.",
    sentence="When started by hand",
    offer="By hand",
    words="button press manual start",
    called="start",
    common=0.7,
    settings=ByHandSettings,
    output=ByHandOutput,
    begins_blank_pages=True,
    plan=lambda s: HandPlan(fields=tuple(s.fields)),
    gives=fields_of,
    brief="{title}",
)
