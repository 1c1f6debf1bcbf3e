"""Ask: a question put to a person, answered in words. On the page, or as a tool of an assignment."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ...core.workflow.plans import AskPlan
from ..api import Asks, Settings, setting, told_by_mail


class QuestionSettings(Settings):
    question: str = setting("Question", control="slots", min_length=1, max_length=10_000)
    who: str = setting(
        "Whom to ask", "A mail address. The person needs no account.", control="email", pattern=r"^[^@\s]+@[^@\s]+$", max_length=200
    )
    mail: str = told_by_mail()
    played: str = setting(
        "In proofs, the answer is",
        "Runs ask the person.",
        control="longtext",
        default="",
        max_length=4000,
    )


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
    plan=lambda s: AskPlan(who=s.who, mail=s.mail, question=s.question, played=s.played),
    brief="{text}",
)
