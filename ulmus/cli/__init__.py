"""The command line. With ``--json`` a command prints one JSON document on standard output and nothing else;
errors go to standard error, and the exit status is not zero."""

from __future__ import annotations

from . import data, drafts, house, pages, sources
from .common import main

__all__ = ["data", "drafts", "house", "main", "pages", "sources"]
