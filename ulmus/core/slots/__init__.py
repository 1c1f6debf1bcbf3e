"""The value language: slots such as ``<<page.text | shorten 400 words>>`` in running text.

`language` parses and prints, `filters` holds the filters, `render` fills templates in for a place,
`check` finds slots that name nothing. Nothing here calls code chosen by the text.
"""

from .check import Problem, check
from .filters import MISSING
from .language import Path, Slot, SlotError, Template, Text, parse
from .render import Rendered, look_up, render

__all__ = [
    "MISSING",
    "Path",
    "Problem",
    "Rendered",
    "Slot",
    "SlotError",
    "Template",
    "Text",
    "check",
    "look_up",
    "parse",
    "render",
]
