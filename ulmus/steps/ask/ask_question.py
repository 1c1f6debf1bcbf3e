"""Ask: a question put to a person, answered in words. On the page, or as a tool of an assignment."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..api import Asks, AsksQuestion, Settings, setting


class _Question(Settings):
    question: str = setting("Question", control="slots", min_length=1, max_length=10_000)


class _Played(Settings):
    played: str = setting(
        "In proofs, the answer is",
        "Runs ask the person.",
        control="longtext",
        default="",
        max_length=4000,
    )


class QuestionSettings(_Played, AsksQuestion, _Question):
    """The question first, then the people: settings come in the order of the last base to the first."""


class QuestionOutput(BaseModel):
    text: str = Field("", description="The answer.")
    by: str = Field("", description="Who answered.")


KIND = Asks(
    name="ask_question",
    stage="ask",
    title="Ask a question",
    about="Puts a question to a person and waits for the answer in words.",
    sentence="Ask {who}: “{question}”",
    offer="Ask somebody a question",
    words="question answer person information decide choose feedback",
    called="answer",
    settings=QuestionSettings,
    output=QuestionOutput,
    plan=lambda s: s.asking(question=s.question, played=s.played),
    brief="{text}",
)
