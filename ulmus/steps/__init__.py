"""The kinds of start and step. One module each; adding a kind is adding a module here with a `KIND`.

A package outside this repository brings kinds through the entry point group ``ulmus.steps``.
"""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache
from importlib.metadata import entry_points

from .base import Kind


@lru_cache(maxsize=1)
def kinds() -> dict[str, Kind]:
    """Every kind by name."""
    found: dict[str, Kind] = {}
    for module in pkgutil.iter_modules(__path__):
        kind = getattr(importlib.import_module(f"{__name__}.{module.name}"), "KIND", None)
        if isinstance(kind, Kind):
            found[kind.name] = kind
    for entry in entry_points(group="ulmus.steps"):
        kind = entry.load()
        if isinstance(kind, Kind):
            found[kind.name] = kind
    return found


__all__ = ["Kind", "kinds"]
