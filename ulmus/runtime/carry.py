"""Carrying out one line: settings filled in, the kind's function called. Used live and in proofs."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

from ..core import slots
from ..core.workflow import Line, Workflow
from ..core.workflow.file import read_settings
from ..core.workflow.kinds import field_control, map_templates
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context, Kind, Outgoing, Result

log = logging.getLogger("ulmus")


def filled(kind: Kind, line: Line, values: Mapping[str, Any]) -> BaseModel:
    """The line's settings with its texts filled in. Raises `OutsideError` where they cannot be read."""
    settings, wrong = read_settings(kind.settings, line.settings)
    if settings is None:
        raise OutsideError("This line is not set up: " + " ".join(words for _, words in wrong))
    long = {n for n, f in kind.settings.model_fields.items() if field_control(f).get("control") == "longslots"}

    def fill(name: str, text: str) -> str:
        return text if name in long else slots.render(slots.parse(text), values).text

    return map_templates(kind, settings, fill)


def perform(line: Line, context: Context) -> Result:
    """Carry out a line that gathers or drafts."""
    kind = kinds()[line.kind]
    assert kind.perform is not None
    return guarded(lambda: kind.perform(filled(kind, line, context.values), context))  # type: ignore[misc]


def piece(line: Line, context: Context) -> Outgoing:
    """What a publishing line would send."""
    kind = kinds()[line.kind]
    assert kind.piece is not None
    return guarded(lambda: kind.piece(filled(kind, line, context.values), context))  # type: ignore[misc]


def row(line: Line, context: Context) -> tuple[str, dict[str, Any]]:
    """What a recording line would write: the sheet's key and the cells."""
    kind = kinds()[line.kind]
    assert kind.row is not None
    return guarded(lambda: kind.row(filled(kind, line, context.values), context))  # type: ignore[misc]


def guarded(call: Any) -> Any:
    """Call; a fault of our own becomes an `OutsideError` in plain words, and is logged in full.

    It is ambiguous: where something was being sent, the other side may have it already.
    """
    try:
        return call()
    except OutsideError:
        raise
    except Exception as error:
        log.exception("a step failed in a way it should not")
        raise OutsideError(f"Ulmus made a mistake here ({type(error).__name__}); it has been logged.", ambiguous=True) from error


def outside_roots(workflow: Workflow) -> frozenset[str]:
    """The lines whose values come from outside, and are material and never instruction."""
    known = kinds()
    return frozenset(line.id for line in workflow.lines if line.kind in known and known[line.kind].gives_outside)


def asked_later(workflow: Workflow, draft: str) -> bool:
    """Whether a person will be shown this draft."""
    return any(line.kind == "ask" and not line.muted and line.settings.get("draft") == draft for line in workflow.steps)
