"""The language of a text, told by its letters."""

from __future__ import annotations

from functools import cache
from typing import Any

FEW_WORDS = 6


def language_of(text: str) -> str:
    """An ISO 639-1 code; empty for a text too short to tell."""
    return str(_known().classify(text[:4000])[0]) if len(text.split()) >= FEW_WORDS else ""


@cache
def _known() -> Any:
    # Read once, when it is first needed: it is large, and takes a second.
    from py3langid.langid import MODEL_FILE, LanguageIdentifier

    return LanguageIdentifier.from_model_file(MODEL_FILE)
