"""Who points at what: the workflows whose pages use a connection or a sheet, so that nothing is deleted under them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.workflow import Workflow, points_at
from ..steps import kinds
from ..store import sight, tables


@dataclass(frozen=True)
class Pointing:
    """A workflow whose page points at something."""

    id: int
    name: str


def pointing(session: Session, what: str) -> dict[str, list[Pointing]]:
    """By key, the workflows whose pages point at a ``connection`` or ``sheet``: as they are written, or as they are live."""
    page, revision = tables.WorkflowRecord, tables.Revision
    found = select(page.id, page.name, page.document, revision.document)
    joined = found.outerjoin(revision, revision.id == page.revision_id).where(tables.THERE).order_by(page.name)
    out: dict[str, list[Pointing]] = {}
    for number, name, written, live in session.execute(joined):
        for key in dict.fromkeys(key for document in (written, live) if document for key in _keys(document, what)):
            out.setdefault(key, []).append(Pointing(number, name))
    return out


def _keys(document: dict[str, Any], what: str) -> Iterator[str]:
    known = kinds()
    for line in Workflow.model_validate(document).lines:
        kind = known.get(line.kind)
        for _, key in points_at(kind, line.settings, what) if kind is not None else ():
            if key:
                yield key


def why_not(users: list[Pointing], what: str) -> str:
    """Why something is not deleted, in words; empty where nothing points at it. `what` is as in “this sheet”."""
    if not users:
        return ""
    rest = f" and {len(users) - 1} more use" if len(users) > 1 else " uses"
    return f"“{users[0].name}”{rest} {what}. Choose another there, or delete the workflow, first."


def sheet_kept(session: Session, key: str) -> str:
    """Why a sheet is not deleted: pages use it, or another sheet finds rows in it. Empty where it can be."""
    if words := why_not(pointing(session, "sheet").get(key, []), "this sheet"):
        return words
    with sight.everything():
        if pointing(session, "sheet").get(key):
            return "A workflow of another brand uses this sheet. Ask somebody who sees all of the house."
        for other in session.scalars(select(tables.Sheet).where(tables.Sheet.key != key)):
            for column in other.columns:
                if (column.get("finds") or {}).get("sheet") == key:
                    return f"The column “{column['name']}” of “{other.name}” finds rows of this sheet. Change that column first."
    return ""


def brand_kept(session: Session, key: str) -> str:
    """Why a brand is not deleted: something is its own, or somebody is kept to it. Empty where it can be."""
    own: tuple[tuple[type[Any], str], ...] = (
        (tables.WorkflowRecord, "workflow"),
        (tables.Sheet, "sheet"),
        (tables.Connection, "connection"),
    )
    for table, called in own:
        there = [tables.THERE] if table is tables.WorkflowRecord else []
        names = list(session.scalars(select(table.name).where(table.brand == key, *there).order_by(table.name)))
        if names:
            rest = f" and {len(names) - 1} more" if len(names) > 1 else ""
            return f"The {called} “{names[0]}”{rest} {'belong' if rest else 'belongs'} to this brand. Give it to another, or delete it, first."
    for person in session.scalars(select(tables.User).where(tables.User.ended_at.is_(None), tables.User.brands.is_not(None))):
        if key in (person.brands or []):
            return f"{person.name or person.email} is kept to this brand. Change what they see first."
    return ""
