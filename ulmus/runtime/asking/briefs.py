"""What a queue tells of a question at a glance: the piece's form, where and to whom it goes and when, what it breaks, what is doubtful.

It is worked out once, off the thread that opened the question, and kept with it; with it stands when an answer is due, where that is
counted back from the time the piece would go out.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Mapping
from typing import Any

from sqlalchemy import select

from ...core import pieces
from ...core.drafting import measure
from ...core.drafting.measuring import Known
from ...core.evidence import evidence
from ...core.values import NotPlain
from ...core.workflow import Workflow
from ...core.workflow.kinds import SendSpec
from ...core.workflow.plans import EachPlan
from ...protocols.errors import OutsideError
from ...protocols.languages import language_of
from ...steps import kinds
from ...store import tables
from .. import execution, timing
from ..journal import Live
from ..ports import Events, Gate
from ..services import Services, takes_of
from .approved import Change, as_approved, compose
from .words import ACT, QUESTION, AnswerRefused

log = logging.getLogger("ulmus")
AT_ONCE = 20
LONGEST_OPENING = 160
LONGEST_JUDGED = 20_000
"""Characters of a draft that are held against the sources for the queue; the desk judges all of it."""


class Briefs:
    """Works out what is not known yet of open questions."""

    def __init__(self, services: Services, events: Events, gate: Gate) -> None:
        self.services, self.events, self.gate = services, events, gate
        self._working = threading.Lock()
        self._known = -1

    def tick(self, now: float) -> None:
        """Begin, where there are questions that nothing is told of yet."""
        changes = self.services.store.written("approvals")
        if changes == self._known or self._working.locked():
            return
        with self.services.store.read() as session:
            waiting = session.scalar(_unknown(tables.Approval.id).limit(1))
        if waiting is None:
            self._known = changes
        else:
            self.gate.submit("", self._work)

    def _work(self, refused: OutsideError | None) -> None:
        if not self._working.acquire(blocking=False):
            return
        try:
            with self.services.store.read() as session:
                some = list(session.scalars(_unknown(tables.Approval).limit(AT_ONCE)))
            for approval in some:
                self.work_out(approval)
        finally:
            self._working.release()

    def work_out(self, approval: tables.Approval) -> None:
        """Work out and keep what is told of a question."""
        fill(self.services, self.events, approval)
        with self.services.store.write() as session:
            record = session.get(tables.Approval, approval.id)
            if record is None or record.state != "open" or record.text != approval.text:
                return
            record.brief, record.goes_at = approval.brief, approval.goes_at
            record.deadline_at, record.due_at = approval.deadline_at, approval.due_at
        self.services.bus.publish("approval", id=approval.id)


def fill(services: Services, events: Events, approval: tables.Approval) -> None:
    """Work out what is told of a question that is not kept yet, into `approval`, which belongs to no session."""
    try:
        brief, goes_at = reckoned(services, events.live(approval.run_id), approval, services.clock())
    except Exception:
        log.exception("what is told of a question could not be worked out")
        brief, goes_at = {"opening": opening_of(approval.text)}, None
    approval.brief, approval.goes_at = brief, goes_at
    if approval.deadline.get("ahead") and goes_at is not None:
        # A time that has passed before anybody was asked is none: then it is due when it goes out.
        ahead = goes_at - float(approval.deadline["within"])
        approval.deadline_at = ahead if ahead > approval.created_at else goes_at
    approval.due_at = min((at for at in (approval.deadline_at, goes_at) if at is not None), default=None)


def _unknown(what: Any) -> Any:
    return select(what).where(tables.Approval.state == "open", tables.Approval.brief.is_(None)).order_by(tables.Approval.id)


def opening_of(text: str) -> str:
    """The opening words of a text, on one line."""
    words = " ".join(text.split())
    return words if len(words) <= LONGEST_OPENING else words[: LONGEST_OPENING - 1].rsplit(" ", 1)[0] + "…"


def reckoned(services: Services, live: Live, approval: tables.Approval, now: float) -> tuple[dict[str, Any], float | None]:
    """What is told of a question, and when its piece would go out if it were approved now; nothing where that is at once."""
    brief: dict[str, Any] = {"opening": opening_of(approval.text)}
    if approval.draft in (ACT, QUESTION):
        return brief | {"form": "question" if approval.draft == QUESTION else "act"}, None
    scope, change = live.state.scope(approval.address), Change().over(approval.edit)
    try:
        values = {**scope, **as_approved(live, approval, change)}
        outgoing = compose(services, live, approval, values, change.pieces)
    except (AnswerRefused, OutsideError, NotPlain):
        values, outgoing = dict(scope), []
    times: list[float] = []
    channels: list[str] = []
    with services.store.read() as session:
        for composed in outgoing:
            kind = kinds()[composed.line.kind]
            assert isinstance(kind, SendSpec)
            connection = session.get(tables.Connection, composed.connection)
            if connection is not None and connection.name not in channels:
                channels.append(connection.name)
            if composed.content and "form" not in brief:
                takes = takes_of(connection.kind, connection.settings) if connection is not None else pieces.ANYTHING
                told = pieces.in_brief(pieces.read(kind.form, composed.content), takes)
                brief |= {"form": told.form, "to": told.to, "head": told.head, "length": told.length, "limit": told.limit}
                brief["opening"] = opening_of(told.text or approval.text)
            try:
                goes = timing.goes(composed.line, values, now)
                at = timing.next_free(session, composed.connection, now) if goes.place else goes.at
                at = max(at or 0.0, goes.not_before or 0.0)
                times += [at] if at > now else []
            except OutsideError:
                continue
    line = live.workflow.line(approval.draft)
    text = str((values.get(approval.draft) or {}).get("text", approval.text))
    if line is not None:
        outside = execution.outside_roots(live.workflow)
        known = execution.known_of(line, values, text, outside, Known(language_of=language_of))
        findings = measure(text, execution.rules_of(line, values), known)
        brief["broken"] = [finding.says for finding in findings if not finding.kept][:10]
    brief["doubtful"] = len(doubtful(live.workflow, values, text))
    brief["wrong"] = [composed.wrong for composed in outgoing if composed.wrong][:3]
    brief["channels"] = channels
    return brief, min(times, default=None)


def sources_of(workflow: Workflow, values: Mapping[str, Any]) -> dict[str, str]:
    """The texts from outside that a draft was made from, by name: of its start, of what was gathered, of the item it is made for."""
    known = kinds()
    lines = [line for line in workflow.every_step if line.kind in known]
    names = {workflow.start.id, *(line.id for line in lines if known[line.kind].gives_outside)}
    names |= {plan.item for line in lines if isinstance(plan := execution.plan_of(line), EachPlan)}
    found = {}
    for name in sorted(names & values.keys()):
        value = values[name]
        for part in ("title", "link", "text", "summary"):
            if isinstance(value, Mapping) and isinstance(value.get(part), str) and value[part].strip():
                found[f"{name}.{part}"] = value[part]
    return found


def doubtful(workflow: Workflow, values: Mapping[str, Any], text: str) -> list[str]:
    """The sentences of a draft that its sources do not bear out; none where it was made from no source."""
    sources = sources_of(workflow, values)
    return [one.text for one in evidence(text[:LONGEST_JUDGED], sources).sentences if one.flagged] if sources else []
