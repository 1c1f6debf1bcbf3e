"""The language of a text, told by its letters."""

from __future__ import annotations

from functools import cache
from typing import Any

import regex

from ..core.drafting.rules import LANGUAGES
from ..core.text import words

FEW_WORDS = 12
"""From so many words on, a language rules can ask for is not preferred to one they cannot."""
SURE, FAR = 8.0, 20.0
"""By how much (in natural logarithms of likelihood) the likeliest language must lead, and a language rules cannot ask for."""
LOOKED_AT = 4000
_SCRIPTS = {
    r"\p{Hiragana}\p{Katakana}": "ja",
    r"\p{Hangul}": "ko",
    r"\p{Han}": "zh",
    r"\p{Thai}": "th",
    r"\p{Greek}": "el",
    r"\p{Hebrew}": "he",
    r"\p{Devanagari}": "hi",
}
_LETTER = regex.compile(r"\p{L}")
_OF_SCRIPT = [(regex.compile(f"[{letters}]"), code) for letters, code in _SCRIPTS.items()]
_LATIN = regex.compile(r"\p{Latin}")
_NO_PROSE = regex.compile(r"[#@]\w+|\d+")


def language_of(text: str) -> str:
    """An ISO 639-1 code; empty where it cannot be told. Short texts count too, where one language leads clearly."""
    bare = " ".join(_NO_PROSE.sub(" ", text[:LOOKED_AT]).split())
    letters = len(_LETTER.findall(bare))
    if letters < 3:
        return ""
    for script, code in _OF_SCRIPT:
        share = len(script.findall(bare)) / letters
        if share > (0.1 if code == "ja" else 0.5):
            return code
    if len(_LATIN.findall(bare)) < letters / 2:
        return str(_known().classify(bare)[0])
    ranked = [("no" if code in ("nb", "nn") else code, float(likely)) for code, likely in _known().rank(bare.lower())]
    asked = [(code, likely) for code, likely in ranked if code in LANGUAGES]
    (best, likely), second = asked[0], next(likely for code, likely in asked if code != asked[0][0])
    many = words(bare) >= FEW_WORDS
    if many and ranked[0][1] - likely > FAR:
        return str(ranked[0][0])
    return best if likely - second > SURE or (many and likely > second) else ""


@cache
def _known() -> Any:
    # Read once, when it is first needed: it is large, and takes a second.
    from py3langid.langid import MODEL_FILE, LanguageIdentifier

    return LanguageIdentifier.from_model_file(MODEL_FILE)
