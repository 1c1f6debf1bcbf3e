"""What is wrong now, read from what the house keeps: each trouble with a key that stays the same as long as it is the same trouble.

A workflow that fails again and again for one reason is one trouble, and is over when a later run of it went well.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import re
import statistics
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...store import tables
from .. import quotas
from ..outsides import Trouble as Closed

What = Literal["failed", "stuck", "held", "unsure", "start", "silent", "refused", "quota", "deadline"]
NAMES: dict[What, str] = {
    "failed": "a run failed",
    "stuck": "a run asks how to go on",
    "held": "something is held back",
    "unsure": "it is not sure whether a piece went out",
    "start": "a start cannot look",
    "silent": "a start finds nothing any more",
    "refused": "a connection does not answer",
    "quota": "a quota or a budget is nearly used up",
    "deadline": "nobody answered in time",
}
DAYS = 7
"""Runs that failed longer ago are told of no more."""
NEAR = 0.9
LATEST = 20
LEAST_SILENT = 3 * 86_400.0
MOST = 200
CONNECTED = "connection:"


@dataclass(frozen=True)
class Trouble:
    """Something that is wrong: what, in words, of which workflow, and where it is dealt with (a path of the screens)."""

    key: str
    what: What
    words: str
    link: str
    workflow: int | None = None


def standing(session: Session, now: float, closed: Sequence[Closed]) -> list[Trouble]:
    """All that is wrong now. `closed` are the outsides that do not answer."""
    found = [
        *_runs(session, now),
        *_pieces(session),
        *_starts(session, now),
        *_approvals(session),
        *_quotas(session, now),
        *_budgets(session, now),
        *(
            Trouble(f"refused:{one.key}", "refused", f"{_name(session, one)} does not answer: {one.says}", "/connections")
            for one in closed
        ),
    ]
    return list({one.key: one for one in found}.values())


def _name(session: Session, closed: Closed) -> str:
    record = session.get(tables.Connection, closed.key.removeprefix(CONNECTED)) if closed.key.startswith(CONNECTED) else None
    return f"“{record.name}”" if record is not None else closed.name


def _same(words: str) -> str:
    """A mark of a reason: the same where it differs in numbers and addresses only."""
    plain = re.sub(r"https?://\S+|\d+", "#", words.casefold())
    return hashlib.sha256(plain.encode()).hexdigest()[:12]


def _runs(session: Session, now: float) -> Iterator[Trouble]:
    run, workflow = tables.Run, tables.WorkflowRecord
    for state in ("failed", "stuck", "held"):
        latest = (
            select(run.id, run.workflow_id, run.message, run.title, workflow.name, run.changed_at)
            .join(workflow, workflow.id == run.workflow_id)
            .where(run.state == state, run.changed_at > now - DAYS * 86_400)
            .order_by(run.changed_at.desc())
            .limit(MOST)
        )
        well: dict[int, float] = {}
        for number, of, message, title, name, at in session.execute(latest).all():
            if state == "failed":
                if of not in well:
                    done = select(func.max(run.changed_at)).where(run.workflow_id == of, run.state == "done")
                    well[of] = session.scalar(done) or 0.0
                if well[of] > at:
                    continue
            what: What = state
            says = {"failed": "failed", "stuck": "asks how to go on", "held": "is paused"}[state]
            yield Trouble(
                f"{state}:{of}:{_same(message)}", what, f"{name} {says}: “{title}”. {message}".strip(), f"/runs/{number}", of
            )


def _pieces(session: Session) -> Iterator[Trouble]:
    piece, run = tables.Piece, tables.Run
    some = (
        select(piece.id, piece.state, piece.message, piece.connection, run.title, run.workflow_id)
        .join(run, run.id == piece.run_id)
        .where(piece.state.in_(("unsure", "held")), piece.message.not_like("Held by%"))
        .order_by(piece.id.desc())
        .limit(MOST)
    )
    for number, state, message, connection, title, workflow in session.execute(some):
        if state == "unsure":
            words = f"It is not sure whether this went out: “{title}”. {message}"
            yield Trouble(f"unsure:{number}", "unsure", words, "/", workflow)
        else:
            words = f"“{title}” is held back. {message}"
            yield Trouble(f"held-piece:{connection}:{_same(message)}", "held", words, "/calendar", workflow)


def _starts(session: Session, now: float) -> Iterator[Trouble]:
    start, workflow, run = tables.Start, tables.WorkflowRecord, tables.Run
    live = select(start, workflow).join(workflow, workflow.id == start.workflow_id).where(workflow.state == "live")
    for one, record in session.execute(live):
        if one.failed:
            words = f"{record.name} cannot look for what is new: {one.found}"
            yield Trouble(f"start:{record.id}", "start", words, f"/workflows/{record.id}", record.id)
            continue
        if one.looked_at is None:
            continue
        begun = select(run.started_at).where(run.workflow_id == record.id).order_by(run.started_at.desc()).limit(LATEST)
        times = list(session.scalars(begun))
        gaps = [later - earlier for later, earlier in pairwise(times)]
        if len(gaps) < 4:
            continue
        usual = max(LEAST_SILENT, 3 * max(gaps), 10 * statistics.median(gaps))
        if now - times[0] > usual:
            days = round((now - times[0]) / 86_400)
            words = f"{record.name} has found nothing for {days} days; until then it did every {_lasting(statistics.median(gaps))}."
            yield Trouble(f"silent:{record.id}:{times[0]:.0f}", "silent", words, f"/workflows/{record.id}", record.id)


def _lasting(seconds: float) -> str:
    for size, word in ((86_400, "day"), (3600, "hour"), (60, "minute")):
        if seconds >= size:
            n = round(seconds / size)
            return f"{n} {word}s" if n != 1 else word
    return "minute"


def _approvals(session: Session) -> Iterator[Trouble]:
    approval, run = tables.Approval, tables.Run
    late = (
        select(approval.id, approval.who, run.title, run.workflow_id)
        .join(run, run.id == approval.run_id)
        .where(approval.state == "open", approval.lapsed_at.is_not(None))
        .limit(MOST)
    )
    for number, who, title, workflow in session.execute(late):
        words = f"Nobody answered in time: “{title}” waits for {who}."
        yield Trouble(f"deadline:{number}", "deadline", words, f"/approvals/{number}", workflow)


def _quotas(session: Session, now: float) -> Iterator[Trouble]:
    for record in session.scalars(select(tables.Connection)):
        room, quota = quotas.left(session, record.key, now)
        most = [int(record.settings[name]) for name in quotas.WORDS if record.settings.get(name)]
        if room is not None and most and room <= (1 - NEAR) * min(most):
            left = f"{room} left of {quota}" if room else f"nothing left of {quota}"
            day = dt.datetime.fromtimestamp(now).date()
            yield Trouble(f"quota:{record.key}:{day:%Y-%m}", "quota", f"“{record.name}”: {left}.", "/connections")


def _budgets(session: Session, now: float) -> Iterator[Trouble]:
    month = dt.datetime.fromtimestamp(now).strftime("%Y-%m")
    spent = dict(
        session.execute(
            select(tables.Spending.workflow_id, func.sum(tables.Spending.cost))
            .where(tables.Spending.day.between(f"{month}-01", f"{month}-31"))
            .group_by(tables.Spending.workflow_id)
        ).all()
    )
    by_brand: dict[str, float] = {}
    for record in session.scalars(select(tables.WorkflowRecord).where(tables.WorkflowRecord.id.in_(spent))):
        cost = float(spent[record.id] or 0)
        if record.brand:
            by_brand[record.brand] = by_brand.get(record.brand, 0.0) + cost
        limit = (record.document.get("limits") or {}).get("month_money")
        if limit and cost >= NEAR * float(limit):
            words = f"{record.name} has spent {cost:.2f} of {float(limit):g} this month."
            yield Trouble(f"quota:workflow {record.id}:{month}", "quota", words, f"/workflows/{record.id}", record.id)
    for brand in session.scalars(select(tables.Brand).where(tables.Brand.key.in_(by_brand))):
        limit = (brand.limits or {}).get("month_money")
        if limit and by_brand[brand.key] >= NEAR * float(limit):
            words = f"{brand.name} has spent {by_brand[brand.key]:.2f} of {float(limit):g} this month."
            yield Trouble(f"quota:brand {brand.key}:{month}", "quota", words, f"/brands/{brand.key}")
