"""What a model is told of before: a draft that is to be made again, and what an assignment has done so far."""

from __future__ import annotations

from typing import Any, NamedTuple


class Rewrite(NamedTuple):
    """A draft is to be made again from `previous`, after the notes of the rounds so far."""

    previous: str
    notes: tuple[str, ...]


class Turn(NamedTuple):
    """One use of a tool in an assignment: in which round, what was said before it, the tool, what it was given, and what
    it gave, or why it gave nothing."""

    round: int
    said: str
    tool: str
    given: dict[str, Any]
    result: dict[str, Any] | None
    failed: str = ""
