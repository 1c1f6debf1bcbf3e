"""The value language: slots such as ``<<page.text | shorten 400 words>>`` in running text, and conditions in words.

`tree` says what a text is made of, `language` parses, `filters` holds the filters, `evaluate` looks values up and
decides conditions, `render` fills templates in for a place, `later` in two goes, `rename` calls a root by another name, `check` finds slots that name nothing. Nothing here
calls code chosen by the text.
"""

from .check import Problem, check, check_condition, check_value, type_of
from .evaluate import all_items, fits, holds, items_of, look_up, value_of
from .filters import MISSING
from .language import parse, parse_condition
from .later import Later, SetAside, Unbalanced, taken_apart
from .parts import Clause, clauses_of
from .rename import renamed, renamed_condition
from .render import Rendered, render, value_in
from .tree import Each, If, Path, Slot, SlotError, Template, Text

__all__ = [
    "all_items",
    "MISSING",
    "Clause",
    "Each",
    "If",
    "Later",
    "Path",
    "Problem",
    "Rendered",
    "SetAside",
    "Slot",
    "SlotError",
    "Template",
    "Text",
    "Unbalanced",
    "check",
    "check_condition",
    "check_value",
    "clauses_of",
    "fits",
    "holds",
    "items_of",
    "look_up",
    "parse",
    "parse_condition",
    "renamed",
    "renamed_condition",
    "render",
    "taken_apart",
    "type_of",
    "value_in",
    "value_of",
]
