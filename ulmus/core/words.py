"""English words as texts are compared by them: without endings, and which of them say little."""

from __future__ import annotations

from functools import lru_cache

_SMALL = """
    a about after all also an and any are as at be been but by can could did do does down each for from had has have he
    her his how i if in into is it its just made make more most new no not now of off on once only or other our out over
    own said say says she so some such than that the their them then there these they this those to too under until up us
    very was we were what when where which while who why will with without would you your
"""
_EVERYDAY = """
    about after again also always another because been before being between both came come could does done down each even
    every from gets give goes going gone good have here into just keep kind know like little long look made make many mean
    more most much must need never only other over people quite really right said same says should some something still
    such take than that their them then there these they thing things think this those through time very want well went
    were what when where which while will with without would year years your yeah okay
"""
SMALL = frozenset(_SMALL.split())
"""Words that carry no meaning of their own."""
EVERYDAY = frozenset(_EVERYDAY.split())
"""Words of four letters and more that say nothing of what a text is about."""
_ENDINGS = ("ings", "ing", "edly", "ied", "ed", "ies", "es", "s", "ly")


@lru_cache(maxsize=50_000)
def stem(word: str) -> str:
    """A word in small letters without its most common endings: *seeds* and *seed*, *opened* and *opens* are the same."""
    word = word.removesuffix("'s").removesuffix("’s")
    for ending in _ENDINGS:
        if word.endswith(ending) and len(word) - len(ending) >= 3:
            return word[: -len(ending)].rstrip("e")
    return word.rstrip("e") if len(word) > 4 else word
