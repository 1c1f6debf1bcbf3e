"""A person's answer to what was put before them, at the desk or behind a signed link, and how it is taken."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from ...readmodels import approvals
from ...readmodels.approvals import Measured
from ...runtime import asking
from ..http.base import Body, Refusal, house


class Answer(Body):
    """The verdict, with what was changed: the text, or `parts` of the draft by name. `despite` lets a piece out although it
    breaks a must-rule."""

    verdict: Literal["approve", "back", "decline"]
    text: str | None = Field(None, max_length=200_000)
    note: str = Field("", max_length=10_000)
    parts: dict[str, Any] = {}
    despite: bool = False


class Text(Body):
    """A text, or parts of the draft by name, being changed."""

    text: str | None = Field(None, max_length=200_000)
    parts: dict[str, Any] = {}


def take(approval_id: int, body: Answer, by: str) -> None:
    """Take an answer. Raises `Refusal` with the rules that are broken, where that is why."""
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
        )
    except asking.AnswerRefused as error:
        broken = [{"where": "rule", "message": words} for words in error.broken]
        raise Refusal(str(error), 409, code="broken_rule" if broken else "", problems=broken) from None


def measure(approval_id: int, body: Text, trying: bool = True) -> Measured:
    """The rules on a change. Without `trying` no link is tried: whoever types it has no account."""
    try:
        change = asking.Change(body.text, body.parts)
        return approvals.measured(house().services, house().engine, approval_id, change, trying)
    except asking.AnswerRefused as error:
        raise Refusal(str(error), 409) from None
