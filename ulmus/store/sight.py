"""What of a house is seen: all of it, or only what belongs to some brands.

A member who is kept to brands reads through views that stand before the tables (temporary, in connections of their own), so that
no statement, however it is written, finds what is another's. Where they write, every query of objects is narrowed to the same
views, and what was written has to be seen by them: an object out of sight is as good as not there.

Who asks is told by `keep` for the rest of the context (a request), or by `only` and `everything` for a block. Threads see
everything unless the context is copied into them: the engine works for the house.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache
from typing import Any

from sqlalchemy import Connection, Engine, column, event, inspect, select, table, tuple_
from sqlalchemy.exc import NoResultFound
from sqlalchemy.orm import ORMExecuteState, Session, with_loader_criteria

from . import tables

_brands: ContextVar[frozenset[str] | None] = ContextVar("brands", default=None)
KEPT_TO = "kept_to"
"""The temporary table that holds the brands."""

_OF_WORKFLOW = f"workflow_id IN (SELECT id FROM temp.kept_{tables.WorkflowRecord.__tablename__})"
_OF_RUN = f"run_id IN (SELECT id FROM temp.kept_{tables.Run.__tablename__})"
_OF_PIECE = f"piece_id IN (SELECT id FROM temp.kept_{tables.Piece.__tablename__})"
_OF_SHEET = f"sheet IN (SELECT key FROM temp.kept_{tables.Sheet.__tablename__})"
_OF_CONNECTION = f"connection IN (SELECT key FROM temp.kept_{tables.Connection.__tablename__})"
_OURS = f"brand IN (SELECT brand FROM temp.{KEPT_TO})"

RULES: dict[type[tables.Base], str] = {
    tables.Brand: f"key IN (SELECT brand FROM temp.{KEPT_TO})",
    tables.WorkflowRecord: _OURS,
    tables.Sheet: _OURS,
    tables.AssistantKey: _OURS,
    tables.Connection: f"brand IS NULL OR {_OURS}",
    tables.User: f"brands IS NULL OR EXISTS (SELECT 1 FROM json_each(brands) WHERE value IN (SELECT brand FROM temp.{KEPT_TO}))",
    tables.Person: "who IN (SELECT lower(email) FROM temp.kept_users)",
    **dict.fromkeys(
        (
            tables.Revision,
            tables.Sample,
            tables.Judgement,
            tables.Start,
            tables.Seen,
            tables.Backlog,
            tables.StepMemory,
            tables.Spending,
            tables.Notice,
            tables.NoticeRule,
            tables.HubLine,
            tables.Run,
        ),
        _OF_WORKFLOW,
    ),
    tables.ProofCell: "sample_id IN (SELECT id FROM temp.kept_samples)",
    **dict.fromkeys((tables.JournalEntry, tables.Timer, tables.Arrival, tables.Approval), _OF_RUN),
    tables.Piece: f"{_OF_RUN} OR approval_id IN (SELECT id FROM temp.kept_approvals)",
    **dict.fromkeys((tables.MailingLetter, tables.Result, tables.NumbersLook), _OF_PIECE),
    **dict.fromkeys(
        (tables.SheetRow, tables.RowChange, tables.SheetView, tables.OutsideSheet, tables.SheetKey, tables.MailingList), _OF_SHEET
    ),
    **dict.fromkeys((tables.Timetable, tables.Use, tables.Listing, tables.MailboxLook), _OF_CONNECTION),
    tables.Leaver: "EXISTS (SELECT 1 FROM temp.kept_mailing_letters AS letter WHERE letter.folded = address)",
    tables.Tally: (
        "what = 'runs' AND of IN (SELECT CAST(id AS TEXT) FROM temp.kept_workflows) OR what = 'rows' AND of IN (SELECT key FROM temp.kept_sheets)"
    ),
    tables.Audit: "0",
}
"""Which rows of a table belong to the brands. Of those whose tables are not here, one knows only what one can name: a secret, or
a fingerprint of what it holds."""

_KEPT = [
    f"CREATE TEMP TABLE IF NOT EXISTS {KEPT_TO} (brand TEXT PRIMARY KEY)",
    *(
        f"CREATE TEMP VIEW IF NOT EXISTS kept_{kind.__tablename__} AS SELECT * FROM main.{kind.__tablename__} WHERE {rule}"
        for kind, rule in RULES.items()
    ),
]


class OutOfSight(NoResultFound):
    """It belongs to none of the brands that are seen."""


def brands() -> frozenset[str] | None:
    """The brands that are seen; ``None`` where all of the house is."""
    return _brands.get()


def keep(to: frozenset[str] | None) -> None:
    """See no more than this, for the rest of the context."""
    _brands.set(to)


@contextmanager
def only(to: frozenset[str] | None) -> Iterator[None]:
    """See no more than this within the block."""
    before = _brands.set(to)
    try:
        yield
    finally:
        _brands.reset(before)


@contextmanager
def everything() -> Iterator[None]:
    """See all of the house within the block: for what the house itself does when somebody asks."""
    with only(None):
        yield


def stand_before(engine: Engine) -> Engine:
    """Have every connection of an engine show only what is seen, under the tables' own names."""

    @event.listens_for(engine, "connect")
    def _views(connection: Any, _: Any) -> None:
        for statement in _KEPT:
            connection.execute(statement)
        for kind in RULES:
            name = kind.__tablename__
            connection.execute(f"CREATE TEMP VIEW {name} AS SELECT * FROM temp.kept_{name}")

    return engine


def show(connection: Connection, to: frozenset[str]) -> None:
    """Have a connection's views show what belongs to these brands."""
    connection.exec_driver_sql(f"DELETE FROM temp.{KEPT_TO}")
    for brand in sorted(to):
        connection.exec_driver_sql(f"INSERT INTO temp.{KEPT_TO} VALUES (?)", (brand,))


def watch(session: Session) -> None:
    """Have a session that writes find and write only what is seen."""
    if (seen := brands()) is None:
        return
    connection = session.connection()
    for statement in _KEPT:
        connection.exec_driver_sql(statement)
    show(connection, seen)
    event.listen(session, "do_orm_execute", _narrow)
    event.listen(session, "after_flush", _look)


def _narrow(asked: ORMExecuteState) -> None:
    if not asked.is_insert and _brands.get() is not None:
        asked.statement = asked.statement.options(*_criteria())


@cache
def _criteria() -> list[Any]:
    """For each of the tables, that its rows are among those seen."""
    out = []
    for kind in RULES:
        keys = list(kind.__table__.primary_key)
        seen = table(f"kept_{kind.__tablename__}", *(column(one.name) for one in keys), schema="temp")
        own = [getattr(kind, inspect(kind).get_property_by_column(one).key) for one in keys]
        among = select(*seen.c)
        out.append(with_loader_criteria(kind, (tuple_(*own) if len(own) > 1 else own[0]).in_(among), include_aliases=True))
    return out


def _look(session: Session, _: Any) -> None:
    """Raise where something was written that is not seen."""
    for one in (*session.new, *session.dirty):
        if type(one) not in RULES or isinstance(one, tables.Audit):
            continue
        mapper = inspect(type(one))
        where = " AND ".join(f'"{key.name}" = ?' for key in mapper.primary_key)
        found = f"SELECT 1 FROM temp.kept_{type(one).__tablename__} WHERE {where}"
        if session.connection().exec_driver_sql(found, tuple(mapper.primary_key_from_instance(one))).first() is None:
            raise OutOfSight()
