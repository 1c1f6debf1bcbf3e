"""Publish: one place on the page that leads to several destinations, each a line of its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel, Field

from ...core.workflow.plans import DestinationsPlan
from ..api import Holds, Settings


class DestinationsSettings(Settings):
    """Nothing: what goes where is said by the lines inside."""


class Destination(BaseModel):
    to: str = Field("", description="What the channel is called.")
    link: str = Field("", description="The address of what went out there, where it has one.")
    text: str = Field("", description="The text that went out there.")
    state: str = Field("", description="“out”, “failed”, “passed over” or “muted”.")
    why: str = Field("", description="Why nothing went out there.")


class DestinationsOutput(BaseModel):
    results: list[Destination] = Field([], description="What became of each, in the order of the lines.")
    out: int = Field(0, description="How many it went out to.")
    failed: int = Field(0, description="How many failed; the others went on.")
    links: str = Field("", description="The links of all, a line each.")


def says(output: Mapping[str, Any]) -> str:
    """Where it goes out, and where not."""
    by_state: dict[str, list[str]] = {}
    for one in output.get("results") or []:
        by_state.setdefault(str(one.get("state")), []).append(str(one.get("to")))
    out = by_state.pop("out", [])
    parts = [", ".join(out)] if out else []
    parts += [f"{', '.join(names)} {state}" for state, names in by_state.items()]
    return " · ".join(parts) or "no destination"


KIND = Holds(
    name="destinations",
    stage="publish",
    title="Several destinations",
    about="Publishes in several places side by side: each line inside is a destination of its own, with its own text where it needs one. One that is muted or fails leaves the others alone; what became of all is one list.",
    sentence="Publish in each of these places",
    offer="Publish in several places at once",
    words="several many channels networks everywhere cross post destinations each all",
    called="destinations",
    settings=DestinationsSettings,
    output=DestinationsOutput,
    plan=lambda s: DestinationsPlan(),
    says=says,
)
