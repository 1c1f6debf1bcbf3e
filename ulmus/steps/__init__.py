"""The kinds of start, step and connection: one module each, in folders by stage.

A new kind is a new module with a `KIND` in the folder of its stage; what it may use is `ulmus.steps.api` alone. `registry`
finds the kinds that are here, those of other distributions too.
"""

from .api import ConnectionKind, Kind
from .registry import connection_kinds, kinds

__all__ = ["ConnectionKind", "Kind", "connection_kinds", "kinds"]
