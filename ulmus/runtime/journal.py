"""Runs in memory: rebuilt from their journals, and what their rows in `runs` say of them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.workflow import Line, Workflow
from ..steps import kinds
from ..store import packed, tables
from . import execution
from .dependencies import roots_read
from .transaction import Transaction

MOST_PAGES = 500
SAYS_EVERY = 0.3
"""Seconds for which a run's row may lag behind where it stands, while it goes from step to step."""


@dataclass(frozen=True)
class Page:
    """A revision, read once: the workflow, its plan, its lines by name, and what is known of them from the page alone:
    the roots each line `reads`, those whose values come from `outside`, drafts that are `asked` about, lines that cost, and the
    connections a line `asks`."""

    workflow: Workflow
    plan: flow.Plan
    lines: dict[str, Line]
    reads: dict[str, frozenset[str]]
    outside: frozenset[str]
    asked: frozenset[str]
    paid: frozenset[str]
    asks: dict[str, tuple[str, ...]]
    loops: frozenset[str]


@dataclass
class Live:
    """An open run in memory: rebuilt from its journal whenever it is not here.

    `outside` are decisions that wait for the transaction to be over; `shown` is what its row in `runs` says.
    """

    run_id: int
    workflow_id: int
    page: Page
    state: flow.State
    seq: int
    outside: list[flow.Decision] = field(default_factory=list)
    shown: tuple[Any, ...] = ()
    shown_at: float = 0.0
    queued: bool = False
    booked: Usage = Usage()
    parent: tuple[int, str] | None = None
    depth: int = 0

    @property
    def workflow(self) -> Workflow:
        """The page the run is carried out from."""
        return self.page.workflow

    def line(self, step: str) -> Line:
        """The line called `step`."""
        return self.page.lines[step]

    def apply(self, tx: Transaction, event: flow.Event) -> None:
        """Take an event in and write it down. Encoded before it is applied: what cannot be kept changes nothing.

        Raises `FlowError` where it cannot happen, `NotPlain` where it cannot be kept.
        """
        text = flow.write_event(event)
        flow.apply(self.state, event)
        self.seq += 1
        tx.append(self.run_id, self.seq, text)

    def project(self, tx: Transaction, spent: Callable[[str, int, float], None]) -> bool:
        """Bring the run's row up to date, and book what it has cost since it was last looked at; gives whether the row says
        now where the run stands. A run that goes from step to step many times a second need not say each."""
        state, says = self.state, True
        hurries = self.shown and self.shown[0] == "running" and not self.is_behind(tx.now)
        if hurries and state.outcome is None and not state.held and not any(state.stands(word) for word in _PAUSES):
            says = False
        elif (row := _row(self)) != self.shown:
            self.shown, self.shown_at = row, tx.now
            tx.set_run(self.run_id, row)
        usage, before = self.state.usage, self.booked
        if (usage.cost, usage.tokens_in, usage.tokens_out) != (before.cost, before.tokens_in, before.tokens_out):
            more = Usage(
                cost=usage.cost - before.cost,
                tokens_in=usage.tokens_in - before.tokens_in,
                tokens_out=usage.tokens_out - before.tokens_out,
            )
            day = dt.datetime.fromtimestamp(tx.now).date().isoformat()
            tx.spend(day, self.workflow_id, more)
            tx.then(lambda: spent(day, self.workflow_id, more.cost))
            self.booked = usage
        return says

    def is_behind(self, now: float) -> bool:
        """Whether its row has not been written for a while."""
        return not 0 <= now - self.shown_at < SAYS_EVERY


_RUN = (
    "SELECT workflow_id, revision_id, state, step, message, cost, tokens, ended_at, idle, parent_id, parent_address, depth, packed"
    " FROM runs WHERE id = ?"
)


class Pages:
    """Revisions that have been read, by their number. They never change, so that they are kept."""

    def __init__(self) -> None:
        self._kept: dict[int, Page] = {}

    def get(self, session: Session, revision_id: int) -> Page:
        """The page of a revision."""
        page = self._kept.get(revision_id)
        if page is None:
            document = session.get_one(tables.Revision, revision_id).document
            if len(self._kept) >= MOST_PAGES:
                self._kept.clear()
            page = self._kept[revision_id] = self.make(Workflow.model_validate(document))
        return page

    @staticmethod
    def make(workflow: Workflow) -> Page:
        """What is kept of a workflow."""
        known = kinds()
        lines = {line.id: line for line in workflow.lines}
        return Page(
            workflow=workflow,
            plan=flow.plan(workflow, known),
            lines=lines,
            reads={name: roots_read(workflow, line) for name, line in lines.items()},
            outside=execution.outside_roots(workflow),
            asked=execution.asked_about(workflow),
            paid=frozenset(name for name, line in lines.items() if line.kind in known and known[line.kind].stage == "draft"),
            asks={name: keys for name, line in lines.items() if (keys := execution.asks(line))},
            loops=execution.loops_of(workflow),
        )

    def load(self, session: Session, run_id: int) -> Live:
        """A run rebuilt from its journal."""
        connection = session.connection()
        run = connection.exec_driver_sql(_RUN, (run_id,)).one()
        page = self.get(session, run.revision_id)
        found = connection.exec_driver_sql("SELECT seq, event FROM journal WHERE run_id = ? ORDER BY seq", (run_id,))
        rows = found if run.packed is None else packed.whole(connection, run_id, found.tuples().all())
        seq = -1

        def events() -> Any:
            nonlocal seq
            for number, text in rows:
                seq = number
                yield flow.read_event(text)

        state = flow.replay(page.plan, events())
        parent = (run.parent_id, run.parent_address) if run.parent_id is not None else None
        live = Live(run_id, run.workflow_id, page, state, seq, parent=parent, depth=run.depth, booked=state.usage)
        live.queued = run.state == "queued"
        live.shown = _row(live)
        if live.shown != (run.state, run.step, run.message, run.cost, run.tokens, run.ended_at is not None, bool(run.idle)):
            live.shown = ()
        return live


# In order of urgency: what stands first is what the run's row says.
_WORDS: tuple[flow.phases.Word, ...] = ("stuck", "unsure", "asking", "running", "waiting", "resting")
_PAUSES = tuple(word for word in _WORDS if word != "running")


def state_word(state: flow.State) -> str:
    """A run's state in a word, as its row says it."""
    if state.outcome is not None:
        return state.outcome
    if state.held:
        return "held"
    return next((word for word in _WORDS if state.stands(word)), "running")


def _row(live: Live) -> tuple[Any, ...]:
    state = live.state
    message = state.message or state.held
    if not message and state.outcome is None and (state.stands("stuck") or state.stands("unsure")):
        troubled = (s.phase for s in state.at.values() if isinstance(s.phase, flow.phases.Stuck | flow.phases.InDoubt))
        message = next(phase.message for phase in troubled)
    return (
        state_word(state),
        state.current.id if state.current else "",
        message,
        state.usage.cost,
        state.usage.tokens_in + state.usage.tokens_out,
        state.ended,
        state.idle,
    )
