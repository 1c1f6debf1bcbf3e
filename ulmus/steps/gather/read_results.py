"""Gather: what came back of a piece that went out before, so long after it did."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from ...core.workflow.plans import AfterPiece
from ..api import Context, Performs, Result, Settings, setting


class ResultsSettings(Settings):
    of: str = setting(
        "Of what",
        "A piece that went out above: a mailing by its key, a letter by its Message-ID, a post or an article by its link.",
        control="slots",
        takes="key@publish|message_id@publish|link@publish",
        min_length=1,
        max_length=2000,
    )
    after: float = setting(
        "How long after it went out", "It is waited for that long.", control="duration", default=172_800, ge=0, le=31_536_000
    )


class ResultsOutput(BaseModel):
    answers: int = Field(0, description="How many people answered.")
    pressed: int = Field(0, description="How many pressed a link, where that is counted.")
    left: int = Field(0, description="How many left by it.")
    bounced: int = Field(0, description="How many could not be reached.")
    text: str = Field("", description="The first answer.")
    items: list[Any] = Field([], description="The answers: who, text.")
    numbers: dict[str, Any] = Field({}, description="The numbers its channel gives, by name, such as numbers.likes.")


def perform(settings: ResultsSettings, context: Context) -> Result:
    """Look what came back so far."""
    back = context.workspace.results(settings.of.strip())
    return Result(
        {
            "answers": back.counts.get("answer", 0),
            "pressed": back.counts.get("press", 0),
            "left": back.counts.get("left", 0),
            "bounced": back.counts.get("bounce", 0),
            "text": back.answers[0]["text"] if back.answers else "",
            "items": back.answers,
            "numbers": dict(back.numbers),
        }
    )


def gives(settings: Any, world: Any) -> dict[str, Any]:
    """The answers, and the numbers that channels here give."""
    names = {name for channel in getattr(world, "connections", {}).values() for name in getattr(channel, "numbers", ())}
    return {"items": [{"who": "text", "text": "text"}], "numbers": dict.fromkeys(sorted(names), "number") or "any"}


def says(output: Any) -> str:
    """What came back, in one breath."""
    parts = [f"{number:g} {name}" for name, number in (output.get("numbers") or {}).items()]
    parts += [f"{output[name]} {name}" for name in ("answers", "pressed", "left", "bounced") if output.get(name)]
    return " · ".join(parts) or "nothing came back yet"


KIND = Performs(
    name="read_results",
    stage="gather",
    title="Wait for results",
    about="Waits, and then says what came back of a piece: answers, of a mailing also who pressed a link, left or could not be reached, and the numbers its channel gives.",
    sentence="Wait for the results of {of}, {after} after it went out",
    offer="Wait for results",
    words="results answers replies clicks presses bounces response numbers likes views statistics see what came back",
    called="results",
    settings=ResultsSettings,
    output=ResultsOutput,
    perform=perform,
    later=lambda s: AfterPiece(s.of, s.after) if s.after else None,
    gives=gives,
    gives_outside=True,
    says=says,
)
