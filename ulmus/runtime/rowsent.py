"""Rows of a sheet that a person chose, sent through a workflow that starts from that sheet."""

from __future__ import annotations

from functools import partial

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.workflow import Line, points_at
from ..steps import kinds
from ..steps.api import Row, SheetPoll, SheetStart
from ..store import tables
from . import execution
from .engine import Engine
from .polling import taken_in
from .runs import live_pages, title_of


def takers(session: Session, sheet: str) -> list[tuple[int, str]]:
    """The live workflows that start from rows of a sheet: their numbers and names."""
    found = [(number, name) for number, name, page in live_pages(session) if watches(page.start, sheet)]
    return sorted(found, key=lambda one: one[1])


def watches(start: Line, sheet: str) -> bool:
    """Whether a start watches rows of a sheet."""
    kind = kinds().get(start.kind)
    return isinstance(kind, SheetStart) and any(key == sheet for _, key in points_at(kind, start.settings, "sheet"))


def send_through(engine: Engine, workflow_id: int, sheet: str, ids: list[int], again: bool) -> tuple[int, int]:
    """Begin a run for each row; gives how many began, and how many rows were left out: empty ones, used ones, and, unless
    `again`, those the workflow has had. Raises `ValueError` where the workflow does not take rows of this sheet."""
    with engine.services.store.read() as session:
        record = session.get(tables.WorkflowRecord, workflow_id)
        if record is None or record.state != "live" or record.revision_id is None:
            raise ValueError("This workflow is not live at the moment.")
        start = engine.pages.get(session, record.revision_id).workflow.start
        if not watches(start, sheet):
            raise ValueError("This workflow does not start from rows of this sheet.")
        wanted = select(tables.SheetRow).where(tables.SheetRow.sheet == sheet, tables.SheetRow.id.in_(ids))
        rows = [Row(r.id, r.position, dict(r.cells)) for r in session.scalars(wanted.order_by(tables.SheetRow.position))]
    kind, settings, began = kinds()[start.kind], execution.read(start), 0
    assert isinstance(kind, SheetStart)
    for row in rows:
        polled = taken_in(execution.guarded(partial(kind.rows, settings, SheetPoll([row]))))
        for _, item in polled.items[:1]:
            # A row counts as this row, however its cells have changed since.
            run = engine.runs.push(workflow_id, {**item, "title": title_of(item)}, f"row:{row.id}", again=again)
            began += run is not None
    return began, len(ids) - began
