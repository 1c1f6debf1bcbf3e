"""Runs in memory, and the writing of their journals: rows are gathered and put into the database together."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.orm import Session

from ..core import flow
from ..core.cost import Usage
from ..core.workflow import Line, Workflow
from ..steps import kinds
from ..store import tables
from . import carry

MOST_PAGES = 500
ROWS_AT_ONCE = 500


@dataclass(frozen=True)
class Page:
    """A revision, read once: the workflow, its plan, its lines by name, and what is known of them from the page alone."""

    workflow: Workflow
    plan: flow.Plan
    lines: dict[str, Line]
    outside: frozenset[str]
    asked: frozenset[str]
    paid: frozenset[str]
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


class Pages:
    """Revisions that have been read, by their number. They never change, so that they are kept."""

    def __init__(self) -> None:
        self._kept: dict[int, Page] = {}

    def get(self, session: Session, revision_id: int) -> Page:
        """The page of a revision."""
        found = self._kept.get(revision_id)
        if found is None:
            document = session.get_one(tables.Revision, revision_id).document
            if len(self._kept) >= MOST_PAGES:
                self._kept.clear()
            found = self._kept[revision_id] = self.make(Workflow.model_validate(document))
        return found

    @staticmethod
    def make(workflow: Workflow) -> Page:
        """What is kept of a workflow."""
        lines = {line.id: line for line in workflow.lines}
        return Page(
            workflow=workflow,
            plan=flow.plan(workflow, kinds()),
            lines=lines,
            outside=carry.outside_roots(workflow),
            asked=frozenset(name for name in lines if carry.asked_later(workflow, name)),
            paid=frozenset(name for name, line in lines.items() if line.kind in kinds() and kinds()[line.kind].stage == "draft"),
            loops=carry.loops_of(workflow),
        )

    def load(self, session: Session, run_id: int) -> Live:
        """A run rebuilt from its journal."""
        run = session.get_one(tables.Run, run_id)
        page = self.get(session, run.revision_id)
        rows = session.connection().exec_driver_sql("SELECT seq, event FROM journal WHERE run_id = ? ORDER BY seq", (run_id,))
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
        if live.shown != (run.state, run.step, run.message, run.cost, run.tokens, run.ended_at is not None):
            live.shown = ()
        return live


class Writing:
    """One transaction's worth of journal: rows, projections and spending, put into the database by `flush`.

    `then` are calls for after the commit.
    """

    session: Session

    def __init__(self, now: float) -> None:
        self.now = now
        self._rows: list[tuple[int, int, str]] = []
        self._runs: dict[int, tuple[Any, ...]] = {}
        self._unbooked: dict[tuple[str, int], Usage] = {}
        self.spent: dict[tuple[str, int], Usage] = {}
        self.then: list[Callable[[], None]] = []

    def append(self, live: Live, event: flow.Event) -> None:
        """Write an event into the run's journal."""
        live.seq += 1
        self._rows.append((live.run_id, live.seq, flow.write_event(event)))

    def project(self, live: Live) -> None:
        """Bring the run's row up to date, and book what it has cost since it was last looked at."""
        row = _row(live)
        if row != live.shown:
            live.shown = row
            self._runs[live.run_id] = (*row[:5], self.now if row[5] else None, self.now, live.run_id)
        usage = live.state.usage
        if usage.cost != live.booked.cost or usage.tokens_in + usage.tokens_out != live.booked.tokens_in + live.booked.tokens_out:
            place = (dt.datetime.fromtimestamp(self.now).date().isoformat(), live.workflow_id)
            more = Usage(
                cost=usage.cost - live.booked.cost,
                tokens_in=usage.tokens_in - live.booked.tokens_in,
                tokens_out=usage.tokens_out - live.booked.tokens_out,
            )
            self._unbooked[place] = self._unbooked.get(place, Usage()) + more
            live.booked = usage

    def flush(self) -> None:
        """Put everything gathered into the database, within the transaction."""
        connection = self.session.connection()
        # Many rows in one statement: after each, a thread waits its turn with the interpreter anew.
        for at in range(0, len(self._rows), ROWS_AT_ONCE):
            rows = self._rows[at : at + ROWS_AT_ONCE]
            values = ", ".join(["(?, ?, ?)"] * len(rows))
            connection.exec_driver_sql(
                f"INSERT INTO journal (run_id, seq, event) VALUES {values}", tuple(itertools.chain.from_iterable(rows))
            )
        self._rows = []
        if self._runs:
            connection.exec_driver_sql(
                "UPDATE runs SET state = ?, step = ?, message = ?, cost = ?, tokens = ?, ended_at = ?, changed_at = ? WHERE id = ?",
                list(self._runs.values()),
            )
            self._runs = {}
        for (day, workflow_id), usage in self._unbooked.items():
            self.spent[day, workflow_id] = self.spent.get((day, workflow_id), Usage()) + usage
            connection.exec_driver_sql(
                "INSERT INTO spending (day, workflow_id, cost, tokens) VALUES (?, ?, ?, ?)"
                " ON CONFLICT DO UPDATE SET cost = cost + excluded.cost, tokens = tokens + excluded.tokens",
                (day, workflow_id, usage.cost, usage.tokens_in + usage.tokens_out),
            )
        self._unbooked = {}


# In order of urgency: what stands first is what the run's row says.
_WORDS = (
    ("stuck", "stuck"),
    ("unsure", "unsure"),
    ("asked", "asking"),
    ("permitting", "asking"),
    ("permit", "running"),
    ("ready", "running"),
    ("rewriting", "running"),
    ("queued", "running"),
    ("checking", "running"),
    ("called", "running"),
    ("waiting", "waiting"),
    ("between", "resting"),
    ("resting", "resting"),
    ("listening", "resting"),
)


def state_word(state: flow.State) -> str:
    """A run's state in a word, as its row says it."""
    if state.outcome is not None:
        return state.outcome
    if state.held:
        return "held"
    return next((word for phase, word in _WORDS if state.phases.get(phase)), "running")


def _row(live: Live) -> tuple[Any, ...]:
    state = live.state
    message = state.message or state.held
    if not message and state.outcome is None and (state.phases.get("stuck") or state.phases.get("unsure")):
        message = next(s.message for s in state.at.values() if s.phase in ("stuck", "unsure"))
    return (
        state_word(state),
        state.current.id if state.current else "",
        message,
        state.usage.cost,
        state.usage.tokens_in + state.usage.tokens_out,
        state.ended,
    )
