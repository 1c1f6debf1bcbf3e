"""A person's answer to what was put before them, at the desk or behind a signed link, and how it is taken."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from ...readmodels import approvals
from ...readmodels.approvals import Measured
from ...runtime import asking
from ...store import tables
from ..http.base import Body, Refusal, house


class Answer(Body):
    """The verdict, with what was changed: the text, or `parts` of the draft by name; and with what was chosen (`number`), said (`yes`) or filled in. `despite` lets a piece out although it
    breaks a must-rule."""

    verdict: Literal["approve", "back", "decline"]
    text: str | None = Field(None, max_length=200_000)
    note: str = Field("", max_length=10_000)
    parts: dict[str, Any] = {}
    despite: bool = False
    given: dict[str, Any] = {}
    pieces: dict[str, dict[str, Any]] = {}


class Text(Body):
    """A text, or parts of the draft by name, being changed."""

    text: str | None = Field(None, max_length=200_000)
    parts: dict[str, Any] = {}
    pieces: dict[str, dict[str, Any]] = {}


def take(approval_id: int, body: Answer, by: str, person: str | None) -> None:
    """Take an answer, in the name of the `person` with that mail address; of all who are asked, where it is nobody's. Raises `Refusal` with the rules that are broken, where that is why."""
    try:
        asking.answer(
            house().services,
            house().engine.writer,
            approval_id,
            body.verdict,
            by,
            body.text,
            body.note,
            parts=body.parts,
            despite=body.despite,
            given=body.given,
            pieces=body.pieces,
            person=person,
        )
    except asking.AnswerRefused as error:
        broken = [{"where": "rule", "message": words} for words in error.broken]
        raise Refusal(str(error), 409, code="broken_rule" if broken else "", problems=broken) from None


def measure(approval_id: int, body: Text, trying: bool = True) -> Measured:
    """The rules on a change. Without `trying` no link is tried: whoever types it has no account."""
    try:
        change = asking.Change(body.text, body.parts, body.pieces)
        return approvals.measured(house().services, house().engine, approval_id, change, trying)
    except asking.AnswerRefused as error:
        raise Refusal(str(error), 409) from None


def not_taken(approval_id: int, by: str) -> None:
    """Take back what a model read as a yes. Raises `Refusal` where there is none (any more)."""
    with house().services.store.read() as session:
        record = session.get(tables.Approval, approval_id)
    if record is None or record.state != "open" or not record.taken:
        raise Refusal("There is nothing to take back here any more.", 409)
    house().engine.answering.take_back(approval_id, by)
