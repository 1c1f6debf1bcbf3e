"""Gather: what came back of a letter or a mailing that went out before."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ..api import Context, Performs, Result, Settings, setting


class ResultsSettings(Settings):
    of: str = setting(
        "Of what",
        "A mailing by its key, such as <<mailing.key>>, or a letter by its Message-ID.",
        control="slots",
        takes="key|message_id",
        min_length=1,
        max_length=1000,
    )


class ResultsOutput(BaseModel):
    answers: int = Field(0, description="How many people answered.")
    pressed: int = Field(0, description="How many pressed a link, where that is counted.")
    left: int = Field(0, description="How many left by it.")
    bounced: int = Field(0, description="How many could not be reached.")
    text: str = Field("", description="The first answer.")
    items: list[Any] = Field([], description="The answers: who, text.")


def perform(settings: ResultsSettings, context: Context) -> Result:
    """Look what came back so far."""
    counts, answers = context.workspace.results(settings.of.strip())
    return Result(
        {
            "answers": counts.get("answer", 0),
            "pressed": counts.get("press", 0),
            "left": counts.get("left", 0),
            "bounced": counts.get("bounce", 0),
            "text": answers[0]["text"] if answers else "",
            "items": answers,
        }
    )


def gives(settings: Any, world: Any) -> dict[str, Any]:
    """The answers."""
    return {"items": [{"who": "text", "text": "text"}]}


KIND = Performs(
    name="read_results",
    stage="gather",
    title="See what came back",
    about="Answers to a letter, or of a mailing how many answered, pressed a link, left or could not be reached. Put a wait before it.",
    sentence="See what came back of {of}",
    offer="See what came back",
    words="results answers replies clicks presses bounces response numbers",
    called="results",
    settings=ResultsSettings,
    output=ResultsOutput,
    perform=perform,
    gives=gives,
    gives_outside=True,
    brief="{answers} answered · {pressed} pressed · {left} left",
)
