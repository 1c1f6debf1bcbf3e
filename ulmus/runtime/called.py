"""A workflow as those see it who run it: its name, what it is for, and the fields its start asks for."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from ..core.workflow import Workflow
from ..core.workflow.plans import FormPlan, HandPlan
from ..steps import kinds
from ..steps.api import Called
from ..steps.shared.fields import FormField
from ..store import tables
from .execution import plan_of


def called(session: Session, key: str) -> Called | None:
    """A workflow as an assignment knows it; ``None`` where it has never been live."""
    record = session.get(tables.WorkflowRecord, int(key)) if key.isdecimal() and len(key) < 19 else None
    revision = session.get(tables.Revision, record.revision_id) if record is not None and record.revision_id else None
    if record is None or revision is None:
        return None
    page = Workflow.model_validate(revision.document)
    fields = tuple((field.name, field.label, field.required) for field in fields_of(page) or ())
    return Called(page.name, page.purpose, fields)


def fields_of(page: Workflow) -> Sequence[FormField] | None:
    """What a start asks for; ``None`` where nobody can begin it by filling in fields."""
    plan = plan_of(page.start) if page.start.kind in kinds() else None
    return tuple(plan.fields) if isinstance(plan, HandPlan | FormPlan) else None
