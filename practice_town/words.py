"""Words that say little about what a text is about, and texts as bags of the others."""

from __future__ import annotations

import re

_STOP = """
the and for that with was were are has have had not but from they this which who will would can could its their there
been one two three all any more than then them when what where how why out into over under after before about only also
our your you she her his him him's says said say does did done each every other another some such very much many most
own same too just like between during until without within per cent year years last first new now get got may
"""
_PLAIN = """
kind kinds every four five seven eight nine eleven twelve twenty thirty forty fifty hundred thousand half third those these people place
places days weeks months times time monday tuesday wednesday thursday friday saturday sunday january february march april june july
august september october november december morning evening night noon spring summer autumn winter office sort sorts topic topics number keep keeps want wants take takes come comes grow grows given gives made make
good best better well once twice whole long back down still even ever never again already need needs operative
"""
_ASKING = """
about after again all also and any are article articles ask been before best choose each editor every find found from
give have into latest list look make more most name news once page pages people piece post posts publish read recent
report search send short sheet site some stories story tell text that the their them then there these they this three
title titles town what when where which with words write your
"""
STOP = frozenset(_STOP.split())
PLAIN = frozenset(_PLAIN.split())
#: Words of requests, which are not what is asked about.
ASKING = frozenset(_ASKING.split())
_SMALL = frozenset(
    ["the", "and", "for", "with", "that", "this", "from", "into", "its", "our", "new", "all", "when", "what", "has", "was"]
)
_WORDS = re.compile(r"[a-z]{3,}")
_URL = re.compile(r"https?://[^\s<>\"”,]+")


def bag(text: str) -> list[str]:
    """The words of a text by their beginnings, each once, in order."""
    return list(dict.fromkeys(w[:5] for w in _WORDS.findall(_URL.sub("", text.lower())) if w not in _SMALL))
