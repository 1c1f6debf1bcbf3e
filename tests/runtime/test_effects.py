"""Many pieces in flight at a kill, on networks that are not kind. The short trials."""

from __future__ import annotations

from tests.runtime import effects


class ShortOnAKindList(effects.OnAKindList):
    kills = 3


class ShortOnALateList(effects.OnALateList):
    kills = 2


class ShortOfAllKinds(effects.OfAllKinds):
    kills = 2
    many = 25


class ShortOfAMailing(effects.OfAMailing):
    kills = 2
    many = 60
