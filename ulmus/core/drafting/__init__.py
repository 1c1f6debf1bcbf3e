"""Drafting: the prompt that is sent, the rules a draft is measured by, and how it is sent back."""

from .prompts import Prompt, assemble, fitted, material_note, with_demand
from .revise import note_message, reasons_message
from .rules import Finding, Rule, measure

__all__ = [
    "Finding",
    "Prompt",
    "Rule",
    "assemble",
    "fitted",
    "material_note",
    "measure",
    "note_message",
    "reasons_message",
    "with_demand",
]
