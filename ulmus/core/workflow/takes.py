"""Takes: several ways to write the same draft, each a line of its own for proofs. A run has the draft itself, or, where
live runs are shared, one take drawn by lot."""

from __future__ import annotations

import hashlib

from .controls import Takes, with_control
from .kinds import DraftSpec, Kinds
from .model import Line
from .plans import DraftPlan

MARK = "~"
MOST = 4


def plan_of(line: Line, kinds: Kinds) -> DraftPlan:
    """How a line writes a text; nothing of it for a line of another kind."""
    spec = kinds.get(line.kind)
    return spec.plan_of(line.settings) if isinstance(spec, DraftSpec) else DraftPlan()


def takes_of(line: Line, kinds: Kinds) -> list[Line]:
    """The other takes of a line, called ``post~2``, ``post~3`` and so on, with settings laid over the line's own."""
    spec = kinds.get(line.kind)
    setting = with_control(spec.settings, Takes) if spec is not None else None
    if setting is None or not line.settings.get(setting.name):
        return []
    own = {name: value for name, value in line.settings.items() if name != setting.name}
    out = []
    for n, (_, over) in enumerate(plan_of(line, kinds).takes[: MOST - 1], 2):
        out.append(line.model_copy(update={"id": f"{line.id}{MARK}{n}", "settings": {**own, **over}}))
    return out


def is_shared(line: Line, kinds: Kinds) -> bool:
    """Whether live runs are shared between the takes of a line."""
    plan = plan_of(line, kinds)
    return plan.shared and bool(plan.takes)


def drawn(line: Line, kinds: Kinds, lot: str) -> Line:
    """Which take writes in a live run: the draft itself, or where runs are shared the one `lot` falls on. The same lot
    always falls on the same take, and all are as likely."""
    takes = [line, *takes_of(line, kinds)] if is_shared(line, kinds) else [line]
    return takes[int.from_bytes(hashlib.sha256(lot.encode()).digest()[:8]) % len(takes)]


def take_name(line: Line, kinds: Kinds, take: str) -> str:
    """What a take is called; the draft itself is the first."""
    if MARK not in take:
        return "Take 1"
    n = int(take.split(MARK)[1])
    found = plan_of(line, kinds).takes
    return found[n - 2][0] or f"Take {n}" if n - 2 < len(found) else f"Take {n}"
