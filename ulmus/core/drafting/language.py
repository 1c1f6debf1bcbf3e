"""The language of a text, told by its letters."""

from __future__ import annotations

from py3langid.langid import MODEL_FILE, LanguageIdentifier

# Read once, when this module is first needed: it takes a second.
_KNOWN = LanguageIdentifier.from_model_file(MODEL_FILE)
FEW_WORDS = 6


def language_of(text: str) -> str:
    """An ISO 639-1 code; empty for a text too short to tell."""
    return str(_KNOWN.classify(text[:4000])[0]) if len(text.split()) >= FEW_WORDS else ""
