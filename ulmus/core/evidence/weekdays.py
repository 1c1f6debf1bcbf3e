"""Days of the week in a text, ranges of them too, in the languages known here."""

from __future__ import annotations

import re

_NAMES = (
    "monday mondays montag montags lundi lundis lunes lunedì segunda-feira segundas maandag maandags",
    "tuesday tuesdays dienstag dienstags mardi mardis martes martedì terça-feira terças dinsdag dinsdags",
    "wednesday wednesdays mittwoch mittwochs mercredi mercredis miércoles mercoledì quarta-feira quartas woensdag woensdags",
    "thursday thursdays donnerstag donnerstags jeudi jeudis jueves giovedì quinta-feira quintas donderdag donderdags",
    "friday fridays freitag freitags vendredi vendredis viernes venerdì sexta-feira sextas vrijdag vrijdags",
    "saturday saturdays samstag samstags sonnabend sonnabends samedi samedis sábado sábados sabato sabati zaterdag zaterdags",
    "sunday sundays sonntag sonntags dimanche dimanches domingo domingos domenica domeniche zondag zondags",
)
_NUMBERS = {name: n for n, names in enumerate(_NAMES) for name in names.split()}
_ONE = "|".join(sorted(map(re.escape, _NUMBERS), key=len, reverse=True))
_DAY = re.compile(rf"(?<!\w)({_ONE})(?!\w)", re.I)
_RANGE = re.compile(
    rf"(?<!\w)({_ONE})\s*(?:-|–|—|to|till|until|through|bis|au|à|a|al|hasta el|até|tot en met|t/m|tot)\s+(?:the\s+|zum\s+)?({_ONE})(?!\w)|(?<!\w)({_ONE})[-–]({_ONE})(?!\w)",
    re.I,
)
_SHUT = re.compile(
    r"(?<!\w)(?:closed|shut|rest day|except|geschlossen|ruhetag|zu|außer|fermée?s?|sauf|cerrad[oa]s?|excepto|chius[oaei]|tranne|fechad[oa]s?|exceto"
    r"|gesloten|behalve)(?!\w)",
    re.I,
)


def days_in(text: str) -> frozenset[int]:
    """The days a text names, Monday being 0; of a range (*Tuesday to Saturday*) all days in it."""
    found = {_NUMBERS[day.casefold()] for day in _DAY.findall(text)}
    for parts in _RANGE.findall(text):
        first, last = (_NUMBERS[part.casefold()] for part in parts if part)
        found |= {(first + n) % 7 for n in range((last - first) % 7 + 1)}
    return frozenset(found)


def other_days(sentence: str, passage: str) -> tuple[str, str] | None:
    """The days of a sentence and of a passage, as written, where the passage names days and not those; nothing where one of them tells
    when something is shut."""
    said, known = days_in(sentence), days_in(passage)
    if not said or not known or said <= known or _SHUT.search(sentence) or _SHUT.search(passage):
        return None
    wrong = next(day for day in _DAY.findall(sentence) if _NUMBERS[day.casefold()] not in known)
    span = _RANGE.search(passage)
    return wrong, span.group() if span else ", ".join(dict.fromkeys(_DAY.findall(passage)))
