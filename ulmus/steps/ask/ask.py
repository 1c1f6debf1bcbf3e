"""Ask: put a draft before a person; yes, no with a note, or declined."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ...core.workflow.plans import AskPlan
from ..api import Asks, Settings, setting, told_by_mail


class AskSettings(Settings):
    draft: str = setting("Draft to show", control="step", needs="draft", min_length=1, max_length=40)
    who: str = setting(
        "Who decides", "A mail address. The person needs no account.", control="email", pattern=r"^[^@\s]+@[^@\s]+$", max_length=200
    )
    mail: str = told_by_mail()
    rounds: int = setting("At most", "Rounds of sending back before it must be decided.", control="number", default=3, ge=1, le=20)
    played: str = setting(
        "In proofs, send it back with this note",
        "To see a rewrite. Empty: the proof is played as yes. Runs ask the person.",
        control="longtext",
        default="",
        max_length=4000,
    )


class AskOutput(BaseModel):
    text: str = Field("", description="The text as approved.")
    by: str = Field("", description="Who approved it.")
    note: str = Field("", description="The last note.")
    rounds: int = Field(0, description="In which round it was approved.")
    edited: bool = Field(False, description="Whether the approver changed the text.")


KIND = Asks(
    name="ask",
    stage="ask",
    title="Ask a person",
    about="Shows the draft to a person and waits. A note sends it back to the model; the rewrite comes back for another look.",
    sentence="Ask {who}, at most {rounds} rounds",
    offer="Ask somebody to approve",
    words="approve approval editor client review check person yes no",
    called="ask",
    settings=AskSettings,
    output=AskOutput,
    shows_a_draft=True,
    plan=lambda s: AskPlan(who=s.who, mail=s.mail, draft=s.draft, rounds=s.rounds, played=s.played),
    brief="Passed by {by}",
)
