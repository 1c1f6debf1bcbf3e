"""Start: a form with a page of its own, filled in by anybody who has its address."""

from __future__ import annotations

from pydantic import BaseModel, Field, field_validator

from ...core.workflow.plans import FormPlan
from ..api import Settings, Start, setting
from ..shared.fields import MOST_FIELDS, FormField, fields_of, names_are_unique


class FormSettings(Settings):
    heading: str = setting("Heading", control="text", min_length=1, max_length=200)
    intro: str = setting("Introduction", "Shown above the fields.", control="longtext", default="", max_length=5000)
    fields: list[FormField] = setting("Fields", control="form", min_length=1, max_length=MOST_FIELDS)
    button: str = setting("Button", control="text", default="Send", min_length=1, max_length=60)
    thanks: str = setting(
        "Thanks", "Shown once it was sent.", control="longtext", default="Thank you. We have it.", min_length=1, max_length=2000
    )
    hourly: int = setting(
        "At most an hour",
        "From one address; more are refused for a while.",
        control="number",
        default=20,
        ge=1,
        le=10_000,
        more=True,
    )
    daily: int = setting(
        "At most a day",
        "From everybody together; more are refused until tomorrow.",
        control="number",
        default=1000,
        ge=1,
        le=100_000,
        more=True,
    )

    @field_validator("fields")
    @classmethod
    def _unique(cls, fields: list[FormField]) -> list[FormField]:
        return names_are_unique(fields)


class FormOutput(BaseModel):
    title: str = Field("", description="The first filled-in field.")
    sent: str = Field("", description="When it was sent (ISO 8601, UTC).")


KIND = Start(
    name="form",
    stage="start",
    title="A form is filled in",
    about="Gives the workflow a public page with a form. Each time it is sent, a run starts.",
    sentence="When the form “{heading}” is filled in",
    offer="A form somebody fills in",
    words="public page questions upload file",
    called="form",
    common=0.5,
    settings=FormSettings,
    output=FormOutput,
    plan=lambda s: FormPlan(
        heading=s.heading,
        intro=s.intro,
        fields=tuple(s.fields),
        button=s.button,
        thanks=s.thanks,
        hourly=s.hourly,
        daily=s.daily,
    ),
    gives=fields_of,
    gives_outside=True,
    brief="{title}",
)
