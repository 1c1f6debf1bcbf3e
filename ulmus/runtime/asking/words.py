"""What every part of asking names alike: what is asked, the answers there are, and why one cannot be taken."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

Verdict = Literal["approve", "back", "decline"]
LONGEST_NOTE = 4000
MOST_REMINDERS = 3
QUESTION = "?"
"""What stands in the place of a draft's name where a question is asked."""
ACT = ""
"""The same for an act that an assignment asks leave for."""


class AnswerRefused(ValueError):
    """The answer cannot be taken; the message says why and what to do. `broken` are must-rules that the piece breaks, where
    it may be let out all the same."""

    def __init__(self, words: str, broken: Sequence[str] = ()) -> None:
        super().__init__(words)
        self.broken = list(broken)
