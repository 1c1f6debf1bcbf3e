"""What approvers' edits teach: of the drafts of one line, or of all of a brand."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.drafting.lessons import lessons
from ..store import tables

MOST = 200
"""So many of the last approved drafts are looked at."""


class LessonView(BaseModel):
    """What is changed again and again, in how many of how many changed drafts; the rule that would have it so, where there is one, and
    the line that would tell it to whoever writes."""

    says: str
    count: int
    of: int
    rule: dict[str, Any] | None = None
    line: str = ""


def of_line(session: Session, workflow_id: int, step: str) -> list[LessonView]:
    """What is changed in the drafts of a line."""
    return _told(session, tables.Run.workflow_id == workflow_id, tables.Approval.draft == step)


def of_brand(session: Session, brand: str) -> list[LessonView]:
    """What is changed in the drafts of a brand's workflows."""
    return _told(session, tables.WorkflowRecord.brand == brand, tables.Approval.draft != "")


def _told(session: Session, *which: Any) -> list[LessonView]:
    approval = tables.Approval
    found = (
        select(approval.text, approval.final_text)
        .join(tables.Run, tables.Run.id == approval.run_id)
        .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id)
        .where(approval.state == "approve", approval.final_text.not_in(("", approval.text)), *which)
        .order_by(approval.decided_at.desc())
        .limit(MOST)
    )
    edits = [(before, after) for before, after in session.execute(found)]
    return [
        LessonView(
            says=one.says,
            count=one.count,
            of=one.of,
            rule=one.rule.model_dump(mode="json", exclude_defaults=True) | {"rule": one.rule.rule}
            if one.rule is not None
            else None,
            line=one.line,
        )
        for one in lessons(edits)
    ]
