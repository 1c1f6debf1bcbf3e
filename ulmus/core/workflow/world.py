"""What stands around a page, what a line of it may name, and what is found wrong with one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ..pieces import ANYTHING, Takes

BRAND_FACTS = ("name", "about", "audience", "promise", "voice", "never", "always", "editor")
BRAND_SCOPE = dict.fromkeys((*BRAND_FACTS, "liked", "disliked"), "text")
RUN_SCOPE = {"date": "text", "time": "text", "zone": "text", "number": "number", "link": "text"}


@dataclass(frozen=True)
class Known:
    """A connection as the checker needs it: its kind, its name, what it takes, the names of the `numbers` it gives of what went
    out, and whether it has a `timetable`."""

    kind: str
    name: str
    takes: Takes = ANYTHING
    numbers: tuple[str, ...] = ()
    timetable: bool = False


@dataclass(frozen=True)
class World:
    """What exists around the page: connections and sheets by key, brands' names by key, and workflows by number. `linked` are the values that
    rows of a sheet get from other sheets, `people` the names of those known by their mail address (in lower case)."""

    connections: Mapping[str, Known] = field(default_factory=dict)
    sheets: Mapping[str, tuple[str, tuple[str, ...]]] = field(default_factory=dict)
    brands: Mapping[str, str] = field(default_factory=dict)
    workflows: Mapping[str, str] = field(default_factory=dict)
    linked: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    people: Mapping[str, str] = field(default_factory=dict)


@dataclass
class Around:
    """What a line may name: a scope, and why some of it may have no value. `closing` is the scope at a block's end."""

    scope: dict[str, Any]
    maybe: dict[str, str]
    closing: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class LineProblem:
    """A finding on a line; `place` is the setting, `start`/`end` characters in its text where it has a place. Where it can
    be mended with one press, `mend` says how in words: `settings` is what the line's settings become, or the lines `moving` are
    put behind the line `after`, or the sheet `widens` gets the `columns` it lacks; or the setting `guess` is said to be right."""

    step: str
    message: str
    severity: Literal["error", "warning"] = "error"
    place: tuple[str, ...] = ()
    start: int | None = None
    end: int | None = None
    mend: str = ""
    settings: Mapping[str, Any] | None = None
    moving: tuple[str, ...] = ()
    after: str = ""
    widens: str = ""
    columns: tuple[str, ...] = ()
    guess: str = ""
