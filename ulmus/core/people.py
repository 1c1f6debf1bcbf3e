"""Who is asked: addresses as people write them, and how many of several must say yes."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

Needs = Literal["one", "all", "order"]
"""Whose yes it takes: that of any `one`, of `all` of them, or of each in `order`, the next being asked when the one before said yes."""
ADDRESS = re.compile(r"[^\s@<>,;\"]+@[^\s@<>,;\"]+")
MOST = 20


@dataclass(frozen=True)
class Asked:
    """A person who is asked, by mail address, and whether they said yes."""

    who: str
    yes: bool = False


def addresses(text: str, names: Mapping[str, str] | None = None) -> tuple[list[str], list[str]]:
    """The addresses a text names, each once, parted by commas, semicolons or lines, alone or as “Name <address>” (RFC 5322, 3.4);
    and what in it names nobody. `names` gives addresses by a person's name in lower case."""
    found: dict[str, str] = {}
    unknown = []
    for part in re.split(r"[,;\n]+", text):
        part = part.strip()
        address = ADDRESS.search(part)
        known = (names or {}).get(part.casefold())
        if address is not None:
            found.setdefault(address[0].casefold(), address[0])
        elif known:
            found.setdefault(known.casefold(), known)
        elif part:
            unknown.append(part)
    return list(found.values())[:MOST], unknown


def waited_for(asked: Sequence[Asked], needs: Needs) -> list[str]:
    """Whose word is waited for now: nobody's, where all that is needed was said."""
    missing = [one.who for one in asked if not one.yes]
    match needs:
        case "one":
            return [] if len(missing) < len(asked) else missing
        case "order":
            return missing[:1]
        case _:
            return missing
