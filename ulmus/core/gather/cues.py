"""What is said in a recording, and its chapters, as values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Fineness = Literal["few", "some", "many"]


@dataclass(frozen=True)
class Cue:
    """A stretch of speech: from and to in seconds, who speaks (or empty), what is said."""

    start: float
    end: float
    speaker: str
    text: str


@dataclass(frozen=True)
class Chapter:
    """One chapter: from and to in seconds, the words that set it apart, its opening words, and all that is said."""

    start: float
    end: float
    words: tuple[str, ...]
    opening: str
    text: str
