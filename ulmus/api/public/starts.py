"""What forms and calls have in common: the start they stand for."""

from __future__ import annotations

from ...core.workflow import Line, Workflow
from ...store import tables
from ..http.base import house


def start_of(workflow_id: int) -> tuple[tables.WorkflowRecord | None, Line | None]:
    """The start a workflow listens with: that of its live revision, or of the page where it was never live."""
    with house().services.store.read() as session:
        record = session.get(tables.WorkflowRecord, workflow_id)
        if record is None:
            return None, None
        revision = session.get(tables.Revision, record.revision_id) if record.revision_id else None
    return record, Workflow.model_validate(revision.document if revision else record.document).start
