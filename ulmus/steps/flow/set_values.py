"""Set values: names for texts or values used further down."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from ...core.slots import MISSING, value_in
from ...core.workflow.briefs import row_in_brief
from ..api import Computes, Settings, setting


class SetSettings(Settings):
    values: dict[str, str] = setting("Values", "A name and what it stands for.", control="fields", min_length=1, max_length=60)


class SetOutput(BaseModel):
    """The names chosen in the settings."""


def work(
    settings: SetSettings, values: Mapping[str, Any], memory: dict[str, Any], seed: str
) -> tuple[dict[str, Any], dict[str, Any]]:
    """Each value: a lone slot keeps its value as it is (a list stays a list), anything else becomes text."""
    found = {name: value_in(text, values) for name, text in settings.values.items()}
    return {name: "" if value is MISSING else value for name, value in found.items()}, memory


KIND = Computes(
    name="set_values",
    stage="flow",
    title="Set values",
    about="Gives names to values or texts, to be used further down.",
    sentence="Set {values}",
    offer="Set values",
    words="name keep calculate combine texts variables variable compute count format date number fixed text",
    called="set",
    settings=SetSettings,
    output=SetOutput,
    gives=lambda settings, world: dict.fromkeys(settings.get("values") or {}, "any"),
    work=work,
    says=row_in_brief,
)
