"""Evidence: where the sources support a draft, sentence by sentence, and what in it they contradict or do not know."""

from .claims import Claim
from .judging import Evidence, Level, Support, evidence

__all__ = ["Claim", "Evidence", "Level", "Support", "evidence"]
