"""Ask: yes or no, with a reason where there is one. The lines that follow go by it."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from ..api import Asks, AsksQuestion, Settings, setting


class _Question(Settings):
    question: str = setting("Question", control="slots", min_length=1, max_length=10_000)


class _Played(Settings):
    played: Literal["yes", "no"] = setting(
        "In proofs, the answer is",
        "Runs ask the person.",
        control="choice",
        default="yes",
        labels={"yes": "yes", "no": "no"},
    )


class YesNoSettings(_Played, AsksQuestion, _Question):
    """The question first, then the people: settings come in the order of the last base to the first."""


class YesNoOutput(BaseModel):
    answer: str = Field("", description="“yes” or “no”, to go by in a condition.")
    yes: bool = Field(False, description="Whether it was a yes.")
    text: str = Field("", description="The answer with its reason.")
    reason: str = Field("", description="The reason, where they gave one.")
    by: str = Field("", description="Who answered.")


KIND = Asks(
    name="ask_yes_no",
    stage="ask",
    title="Ask yes or no",
    about="Puts a question to a person that is answered with yes or no, and a reason where they give one. Either way the page goes on.",
    sentence="Ask {who}, yes or no: “{question}”",
    offer="Ask somebody yes or no",
    words="yes no question decide confirm whether reason go ahead permission",
    called="word",
    settings=YesNoSettings,
    output=YesNoOutput,
    plan=lambda s: s.asking(question=s.question, answer="yes_no", played=s.played),
    brief="{text}",
)
