"""The parts of the core that depend on a language, behind one interface."""

from .dutch import DUTCH
from .english import ENGLISH
from .french import FRENCH
from .german import GERMAN
from .italian import ITALIAN
from .language import Language, words
from .portuguese import PORTUGUESE
from .spanish import SPANISH

LANGUAGES = {one.code: one for one in (ENGLISH, GERMAN, FRENCH, SPANISH, ITALIAN, PORTUGUESE, DUTCH)}


def language(code: str = "en") -> Language:
    """The language of a code; English where there is none of it here."""
    return LANGUAGES.get(code, ENGLISH)


__all__ = ["ENGLISH", "LANGUAGES", "Language", "language", "words"]
