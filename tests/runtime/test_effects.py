"""Many pieces in flight at a kill, on networks that are not kind. The short trials."""

from __future__ import annotations

from tests.runtime import effects


class ShortOnAKindList(effects.OnAKindList):
    kills = 1


class ShortOnALateList(effects.OnALateList):
    kills = 1


class ShortOfAllKinds(effects.OfAllKinds):
    kills = 2
    many = 15


class ShortOfAMailing(effects.OfAMailing):
    kills = 2
    many = 40
