"""English, as texts are compared in it."""

from __future__ import annotations

from .language import Language, words

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

ENGLISH = Language(
    code="en",
    stemmer="english",
    small=frozenset(_SMALL.split()),
    everyday=frozenset(_EVERYDAY.split()),
    months=(
        "january",
        "february",
        "march",
        "april",
        "may",
        "june",
        "july",
        "august",
        "september",
        "october",
        "november",
        "december",
    ),
    refusing=frozenset(
        words("""
    not no never none nobody nothing neither nor without cannot can't won't don't doesn't didn't isn't aren't wasn't
    weren't hasn't haven't hadn't shouldn't wouldn't couldn't hardly barely
""")
    ),
    titles=frozenset(
        words("""
    mr mrs ms mx dr prof st rev fr sr jr gen col capt lt sgt hon pres gov sen rep mt ft no nos vol pp p fig figs eq
    sec ch art ed eds al approx dept est cf vs viz i.e e.g
""")
    ),
)
