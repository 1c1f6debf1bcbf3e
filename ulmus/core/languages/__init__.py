"""The parts of the core that depend on a language, behind one interface."""

from .english import ENGLISH
from .language import Language

LANGUAGES = {language.code: language for language in (ENGLISH,)}


def language(code: str = "en") -> Language:
    """The language of a code; English where there is none of it here."""
    return LANGUAGES.get(code, ENGLISH)


__all__ = ["ENGLISH", "LANGUAGES", "Language", "language"]
