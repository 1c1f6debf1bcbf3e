"""Drafting: the prompt that is sent, the rules a draft is measured by, and how it is sent back."""

from .measuring import Known, broken, measure
from .prompts import Prompt, assemble, fitted, material_note, with_demand
from .revise import best_round, note_message, reasons_message
from .rules import Finding, Rule

__all__ = [
    "Finding",
    "Known",
    "Prompt",
    "Rule",
    "assemble",
    "best_round",
    "broken",
    "fitted",
    "material_note",
    "measure",
    "note_message",
    "reasons_message",
    "with_demand",
]
