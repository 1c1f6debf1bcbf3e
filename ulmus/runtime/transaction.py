"""One transaction of the house: what is written in it, and what is to follow from it once it is committed.

Everything that follows (runs woken, others cancelled, screens told) belongs to the transaction and dies with it: what was
rolled back has never happened, and nobody hears of it.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.orm import Session

from ..core.cost import Usage
from .bus import Bus, Topic

ROWS_AT_ONCE = 500


class Transaction:
    """A connection and the moment `now` (seconds since the epoch); `session` is made of it where one is needed. Journal rows,
    projections, timers and spending are gathered and put into the database together by `flush`."""

    def __init__(self, connection: Connection, now: float) -> None:
        self.connection = connection
        self.now = now
        self._session: Session | None = None
        self._rows: list[tuple[int, int, str]] = []
        self._runs: dict[int, tuple[Any, ...]] = {}
        self._timers: dict[tuple[int, str], float] = {}
        self._spending: dict[tuple[str, int], Usage] = {}
        self._then: list[Callable[[], None]] = []
        self._notices: list[tuple[Topic, dict[str, Any]]] = []

    @property
    def session(self) -> Session:
        """A session within the transaction."""
        if self._session is None:
            self._session = Session(self.connection, expire_on_commit=False)
        return self._session

    def close(self) -> None:
        """The session is not needed any more."""
        if self._session is not None:
            self._session.close()

    # -- what follows -------------------------------------------------------------------------------

    def then(self, call: Callable[[], None]) -> None:
        """Have `call` made after the commit, and only then."""
        self._then.append(call)

    def publish(self, topic: Topic, **what: Any) -> None:
        """Tell whoever listens, after the commit."""
        if (topic, what) not in self._notices:
            self._notices.append((topic, what))

    def follow(self, bus: Bus) -> None:
        """What was to follow, in the order it was asked for. Called once, after the commit."""
        for topic, what in self._notices:
            bus.publish(topic, **what)
        for call in self._then:
            call()

    # -- what is written ----------------------------------------------------------------------------

    def append(self, run_id: int, seq: int, event: str) -> None:
        """A row of a journal, the event in its JSON text."""
        self._rows.append((run_id, seq, event))

    def set_run(self, run_id: int, row: tuple[Any, ...]) -> None:
        """A run's row as it is now: state, step, message, cost, tokens, whether it has ended, whether it is idle."""
        self._runs[run_id] = (*row[:5], self.now if row[5] else None, row[6], self.now, run_id)

    def set_timer(self, run_id: int, address: str, due: float) -> None:
        """Have the run hear at `due` that its wait at `address` is over."""
        self._timers[run_id, address] = due

    def spend(self, day: str, workflow_id: int, usage: Usage) -> None:
        """Book what was used on a day (YYYY-MM-DD)."""
        self._spending[day, workflow_id] = self._spending.get((day, workflow_id), Usage()) + usage

    def flush(self) -> None:
        """Put everything gathered into the database."""
        connection = self.connection
        if self._session is not None:
            self._session.flush()
        # Many rows in one statement: after each, a thread waits its turn with the interpreter anew.
        for at in range(0, len(self._rows), ROWS_AT_ONCE):
            rows = self._rows[at : at + ROWS_AT_ONCE]
            values = ", ".join(["(?, ?, ?)"] * len(rows))
            flat = tuple(itertools.chain.from_iterable(rows))
            connection.exec_driver_sql(f"INSERT INTO journal (run_id, seq, event) VALUES {values}", flat)
        if self._runs:
            connection.exec_driver_sql(
                "UPDATE runs SET state = ?, step = ?, message = ?, cost = ?, tokens = ?, ended_at = ?, idle = ?, changed_at = ?"
                " WHERE id = ?",
                list(self._runs.values()),
            )
        if self._timers:
            connection.exec_driver_sql(
                "INSERT INTO timers (run_id, address, due, made_at) VALUES (?, ?, ?, ?)"
                " ON CONFLICT DO UPDATE SET due = excluded.due, made_at = excluded.made_at",
                [(run_id, address, due, self.now) for (run_id, address), due in self._timers.items()],
            )
        for (day, workflow_id), usage in self._spending.items():
            connection.exec_driver_sql(
                "INSERT INTO spending (day, workflow_id, cost, tokens) VALUES (?, ?, ?, ?)"
                " ON CONFLICT DO UPDATE SET cost = cost + excluded.cost, tokens = tokens + excluded.tokens",
                (day, workflow_id, usage.cost, usage.tokens_in + usage.tokens_out),
            )
        self._rows, self._runs, self._timers, self._spending = [], {}, {}, {}
