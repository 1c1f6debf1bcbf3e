"""Ask: put a draft before a person; yes, no with a note, or declined."""

from __future__ import annotations

from pydantic import BaseModel, Field

from ..api import Asks, AsksPeople, Settings, setting


class _Draft(Settings):
    draft: str = setting("Draft to show", control="step", needs="draft", min_length=1, max_length=40)


class _Rounds(Settings):
    rounds: int = setting("At most", "Rounds of sending back before it must be decided.", control="number", default=3, ge=1, le=20)
    ahead: bool = setting(
        "Counted back from when it goes out",
        "The answer is due so long before the time its piece is to go.",
        control="switch",
        default=False,
        when="within",
        more=True,
    )
    played: str = setting(
        "In proofs, send it back with this note",
        "To see a rewrite. Empty: the proof is played as yes. Runs ask the person.",
        control="longtext",
        default="",
        max_length=4000,
    )


class AskSettings(_Rounds, AsksPeople, _Draft):
    """The form shows the draft first, then the people: settings come in the order of the last base to the first."""


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
    words="approve approval editor client review check person yes no human sign off ask me colleague boss",
    called="ask",
    settings=AskSettings,
    output=AskOutput,
    shows_a_draft=True,
    plan=lambda s: s.asking(draft=s.draft, rounds=s.rounds, played=s.played, ahead=s.ahead),
    brief="Passed by {by}",
)
