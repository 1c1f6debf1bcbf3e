"""Takes: several ways to write the same draft, each a line of its own for proofs. A run has the draft itself, or, where
live runs are shared, one take drawn by lot."""

from __future__ import annotations

import hashlib

from .kinds import Kinds, controls_of
from .model import Line

MARK = "~"
MOST = 4
OVERRIDES = ("prompt", "standing", "model", "temperature")


def takes_of(line: Line, kinds: Kinds) -> list[Line]:
    """The other takes of a line, called ``post~2``, ``post~3`` and so on, with settings laid over the line's own."""
    name = _setting(line, kinds)
    found = line.settings.get(name) if name else None
    if not isinstance(found, list):
        return []
    own = {k: v for k, v in line.settings.items() if k != name}
    out = []
    for n, take in enumerate(found[: MOST - 1], 2):
        if isinstance(take, dict):
            over = {k: take[k] for k in OVERRIDES if take.get(k) not in ("", None)}
            out.append(line.model_copy(update={"id": f"{line.id}{MARK}{n}", "settings": {**own, **over}}))
    return out


def drawn(line: Line, kinds: Kinds, lot: str) -> Line:
    """Which take writes in a live run: the draft itself, or where runs are shared the one `lot` falls on. The same lot
    always falls on the same take, and all are as likely."""
    takes = [line, *takes_of(line, kinds)] if line.settings.get("shared") else [line]
    return takes[int.from_bytes(hashlib.sha256(lot.encode()).digest()[:8]) % len(takes)]


def take_name(line: Line, take: str) -> str:
    """What a take is called; the draft itself is the first."""
    if MARK not in take:
        return "Take 1"
    n = int(take.split(MARK)[1])
    found = line.settings.get("takes") or []
    return str(found[n - 2].get("name") or f"Take {n}") if n - 2 < len(found) else f"Take {n}"


def _setting(line: Line, kinds: Kinds) -> str:
    spec = kinds.get(line.kind)
    controls = controls_of(spec.settings) if spec else {}
    return next((name for name, control in controls.items() if control == "takes"), "")
