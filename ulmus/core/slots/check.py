"""Static checks: does every slot name something an earlier step gives?

A scope is a tree of names: ``{"feed": {"title": "text", "link": "text"}, "brand": {...}}``. A leaf is
the type's word (``text``, ``number``, ``list``, ``any``); below ``any`` and ``list`` everything is allowed.
"""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from .filters import FILTERS
from .language import Slot, SlotError, Template

Scope = Mapping[str, Any]


@dataclass(frozen=True)
class Problem:
    """What is wrong, and where in the text (characters, end exclusive)."""

    message: str
    start: int
    end: int
    severity: Literal["error", "warning"] = "error"


def check(template: Template, scope: Scope, maybe: frozenset[str] = frozenset()) -> list[Problem]:
    """Problems of `template` in `scope`. `maybe` names roots that may have no value (a muted step)."""
    problems: list[Problem] = []
    seen: dict[str, Slot] = {}
    for part in template.parts:
        if isinstance(part, SlotError):
            problems.append(Problem(part.message, part.start, part.end))
        elif isinstance(part, Slot):
            problems.extend(_path(part, scope))
            problems.extend(_filters(part))
            if part.path.root in maybe and not any(f.name == "otherwise" for f in part.filters):
                message = f'<<{part.path}>> may be missing: “{part.path.root}” is muted. Add | otherwise "…".'
                problems.append(Problem(message, part.start, part.end, "warning"))
            if str(part) in seen:
                problems.append(Problem(f"{part} stands here twice.", part.start, part.end, "warning"))
            seen[str(part)] = part
    return problems


def _path(slot: Slot, scope: Scope) -> list[Problem]:
    if slot.path.root not in scope:
        return [Problem(f"No earlier step is called “{slot.path.root}”.{_near(slot.path.root, scope)}", slot.start, slot.end)]
    here: Any = scope[slot.path.root]
    walked = slot.path.root
    for part in slot.path.parts[1:]:
        if here in ("any", "list", "object"):
            return []
        if not isinstance(here, Mapping):
            return [Problem(f"“{walked}” is a single value; nothing stands under it.", slot.start, slot.end)]
        if part not in here:
            return [Problem(f"“{walked}” gives no “{part}”.{_near(str(part), here)}", slot.start, slot.end)]
        here, walked = here[part], f"{walked}.{part}"
    if isinstance(here, Mapping):
        names = ", ".join(list(here)[:5])
        return [Problem(f"Choose one of the values of “{walked}”: {names}.", slot.start, slot.end)]
    return []


def _filters(slot: Slot) -> list[Problem]:
    problems = []
    for call in slot.filters:
        kind = FILTERS.get(call.name)
        if kind is None:
            message = f"There is no filter “{call.name}”.{_near(call.name, FILTERS)}"
        elif not kind.least <= len(call.arguments) <= kind.most:
            message = f"Write the filter like this: {kind.usage}."
        else:
            continue
        problems.append(Problem(message, slot.start, slot.end))
    return problems


def _near(word: str, names: Mapping[str, Any]) -> str:
    close = difflib.get_close_matches(word, list(names), n=1, cutoff=0.5)
    return f" Did you mean “{close[0]}”?" if close else ""
