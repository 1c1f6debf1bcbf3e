"""Ask: which of several drafts, pictures or texts it shall be."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ..api import Asks, AsksQuestion, Settings, setting


class _Choice(Settings):
    question: str = setting("Question", control="slots", default="Which one shall it be?", min_length=1, max_length=10_000)
    among: dict[str, str] = setting(
        "One of",
        "A name for each, and what stands behind it: a draft, a picture, a text.",
        control="fields",
        default={},
        max_length=20,
    )
    listed: str = setting(
        "Or one of a list", "Such as what a search found.", control="value", default="", max_length=200, takes="*list", more=True
    )


class _Played(Settings):
    played: str = setting(
        "In proofs, take", "The name of one; empty: the first. Runs ask the person.", control="text", default="", max_length=200
    )


class ChoiceSettings(_Played, AsksQuestion, _Choice):
    """What is chosen from first, then the people: settings come in the order of the last base to the first."""


class ChoiceOutput(BaseModel):
    text: str = Field("", description="What was chosen: the text, or the picture’s link.")
    name: str = Field("", description="Its name.")
    item: Any = Field(None, description="The chosen element itself, where it is one of a list.")
    number: int = Field(0, description="Which one, counting from 1.")
    reason: str = Field("", description="Why, where they said so.")
    by: str = Field("", description="Who chose.")


def faults(settings: ChoiceSettings) -> list[tuple[str, str]]:
    """A choice of nothing is none."""
    if not settings.listed.strip() and len(settings.among) < 2:
        return [("among", "Give at least two to choose from, or a list.")]
    return []


KIND = Asks(
    name="ask_choice",
    stage="ask",
    title="Ask which one",
    about="Shows several drafts, pictures or texts to a person, who chooses one.",
    sentence="Ask {who} which of {among}",
    offer="Ask somebody to choose one of several",
    words="choose pick select which one of several variants takes pictures drafts options decide",
    called="choice",
    settings=ChoiceSettings,
    output=ChoiceOutput,
    faults=faults,
    plan=lambda s: s.asking(question=s.question, answer="choose", among=s.among, listed=s.listed, played=s.played),
    brief="Chose {name}",
)
