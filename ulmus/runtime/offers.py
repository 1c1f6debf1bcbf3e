"""Workflows that are offered to assistants outside, which run them by name and fields."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.workflow import Workflow
from ..steps.shared.fields import FormField, read_fields
from ..store import tables
from .called import fields_of
from .runs import Runs, title_of

LONGEST_NAME = 60


@dataclass(frozen=True)
class Offer:
    """A live workflow that assistants outside may run: its number, the name it is known by there, and what it is to them."""

    workflow: int
    name: str
    title: str
    purpose: str
    fields: tuple[FormField, ...]


class NotTaken(ValueError):
    """A run cannot begin, in words; `wrong` says what of the fields."""

    def __init__(self, words: str, wrong: dict[str, str] | None = None) -> None:
        super().__init__(words)
        self.wrong = wrong or {}


def offered(session: Session) -> list[Offer]:
    """The workflows that are offered and can be begun, by name."""
    out: list[Offer] = []
    taken: set[str] = set()
    record, revision = tables.WorkflowRecord, tables.Revision
    live = select(record.id, revision.document).join(revision, revision.id == record.revision_id).where(record.state == "live")
    for id_, document in session.execute(live.order_by(record.name, record.id)):
        page = Workflow.model_validate(document)
        fields = fields_of(page)
        if not page.offered or fields is None or any(field.type == "file" and field.required for field in fields):
            continue
        name = re.sub(r"[^a-z0-9]+", "_", page.name.lower()).strip("_")[:LONGEST_NAME] or "workflow"
        if name in taken:
            name = f"{name[: LONGEST_NAME - 10]}_{id_}"
        taken.add(name)
        out.append(Offer(id_, name, page.name, page.purpose, tuple(field for field in fields if field.type != "file")))
    return out


def begin(runs: Runs, offer: Offer, given: dict[str, Any], who: str, key: str = "") -> int:
    """Begin a run with what an assistant gave; gives its number. The same `key` begins one run. Raises `NotTaken`."""
    values, wrong = read_fields(offer.fields, given)
    if wrong:
        told = "; ".join(f"{name}: {words}" for name, words in wrong.items())
        raise NotTaken(f"Some fields need another look. {told}", wrong)
    item = {**values, "title": title_of(values) if values else f"{offer.title}, {who}", "by": who}
    pressed = f"assistant:{key}" if key else ""
    if pressed and (before := runs.begun_by(offer.workflow, pressed)) is not None:
        return before
    try:
        run = runs.push(offer.workflow, item, None, [pressed] if pressed else [])
    except ValueError:
        raise NotTaken("This workflow is not live at the moment. Nothing was begun.") from None
    if run is None:
        raise NotTaken("This was begun before.")
    return run
