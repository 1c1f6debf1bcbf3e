"""For how long what workflows did is kept: of each brand, and of the house for those that have no terms of their own.

A run of which nothing stays (no piece went out, no row was written) is removed when its term is over, with its journal, questions and
proofs of delivery that failed. Of any other only the journal goes: when it ran, who decided, what went out and where stay on record, and
with them all that keeps a thing from being done twice.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, Field, field_validator
from sqlalchemy import JSON, Connection, Text, select
from sqlalchemy.orm import Session

from ..store import Store, packed, tables
from ..store.db import set_fact

DAY = 86_400.0
FACT = "keeps"
LEAST = 62
PROOFS = 180.0
"""Days for which a proof that stands in no cell is kept: pressing *run* again would make it anew."""


class Terms(BaseModel):
    """Days after its end for which a run is kept, of which nothing went out (`nothing`) or something did (`something`); 0 for ever. What
    a month costs is reckoned from its runs: they are kept for more than one."""

    nothing: int = Field(0, ge=0, le=36_500)
    something: int = Field(0, ge=0, le=36_500)

    @field_validator("nothing", "something")
    @classmethod
    def _more_than_a_month(cls, days: int) -> int:
        if 0 < days < LEAST:
            raise ValueError(f"Runs are kept for at least {LEAST} days.")
        return days


@dataclass(frozen=True)
class Ripe:
    """A run whose term is over; `whole` where nothing of it stays."""

    run: int
    whole: bool


def of_house(session: Session) -> Terms:
    """The terms of the house."""
    found = session.connection().exec_driver_sql("SELECT value FROM house WHERE name = ?", (FACT,)).scalar()
    return Terms.model_validate(json.loads(str(found))) if found else Terms()


def of_brands(session: Session) -> dict[str, Terms]:
    """The terms of the brands that have their own."""
    return {brand.key: Terms.model_validate(brand.keeps) for brand in session.scalars(select(tables.Brand)) if brand.keeps}


def set_terms(session: Session, brand: str, terms: Terms | None) -> None:
    """Set the terms of a brand, ``None`` for those of the house; of the house itself for no brand. Raises `KeyError`."""
    if not brand:
        set_fact(session.connection(), FACT, (terms or Terms()).model_dump_json())
        return
    found = session.get(tables.Brand, brand)
    if found is None:
        raise KeyError(brand)
    found.keeps = terms.model_dump() if terms else {}


_STAYS = (
    "(EXISTS (SELECT 1 FROM pieces WHERE pieces.run_id = runs.id AND pieces.state = 'sent')"
    " OR EXISTS (SELECT 1 FROM mailing_letters JOIN pieces ON pieces.id = mailing_letters.piece_id WHERE pieces.run_id = runs.id)"
    " OR EXISTS (SELECT 1 FROM row_changes WHERE row_changes.run_id = runs.id))"
)
_OVER = (
    "FROM runs JOIN workflows ON workflows.id = runs.workflow_id WHERE runs.ended_at < ? AND runs.emptied IS NULL"
    " AND NOT EXISTS (SELECT 1 FROM pieces WHERE pieces.run_id = runs.id AND pieces.state NOT IN ('sent', 'failed'))"
    " AND NOT EXISTS (SELECT 1 FROM runs AS other WHERE other.ended_at IS NULL AND (other.id = runs.parent_id OR other.parent_id = runs.id))"
)
"""Runs that ended before a time, of which nothing is on its way and that none waits for."""


def ripe(session: Session, now: float, most: int) -> list[Ripe]:
    """Runs whose term is over, the oldest of each kind first."""
    out: list[Ripe] = []
    for where, values, terms in _groups(session):
        for days, whole in ((terms.nothing, True), (terms.something, False)):
            if days and len(out) < most:
                asked = f"SELECT runs.id {_OVER} AND {where} AND {'NOT ' if whole else ''}{_STAYS} ORDER BY runs.ended_at LIMIT ?"
                found = session.connection().exec_driver_sql(asked, (now - days * DAY, *values, most - len(out)))
                out += [Ripe(run, whole) for run in found.scalars()]
    return out


def count(session: Session, now: float) -> tuple[int, int]:
    """How many runs the next nights remove, and of how many they remove the journal."""
    counts = {True: 0, False: 0}
    for where, values, terms in _groups(session):
        for days, whole in ((terms.nothing, True), (terms.something, False)):
            if days:
                asked = f"SELECT count(*) {_OVER} AND {where} AND {'NOT ' if whole else ''}{_STAYS}"
                counts[whole] += session.connection().exec_driver_sql(asked, (now - days * DAY, *values)).scalar() or 0
    return counts[True], counts[False]


def _groups(session: Session) -> list[tuple[str, tuple[Any, ...], Terms]]:
    """Workflows by whose terms hold for them: a condition, its values, the terms."""
    own = of_brands(session)
    others = f"(workflows.brand IS NULL OR workflows.brand NOT IN ({', '.join('?' * len(own))}))" if own else "1"
    return [("workflows.brand = ?", (key,), terms) for key, terms in own.items()] + [(others, tuple(own), of_house(session))]


def carry_out(store: Store, one: Ripe, now: float) -> None:
    """Remove what is to go of a run, and the kept files that nothing else names."""
    for sha in packed.empty(store, one.run, now, one.whole) or ():
        forget_file(store, sha)


def forget_file(store: Store, sha: str) -> bool:
    """Remove a kept file where nothing names it any more; gives whether it did."""
    with store.read() as session:
        if _named(session.connection(), sha):
            return False
    with store.writing() as connection:
        if _named(connection, sha):
            return False
        connection.exec_driver_sql("DELETE FROM files WHERE sha = ?", (sha,))
    (store.folder / "files" / sha[:2] / sha).unlink(missing_ok=True)
    return True


def _named(connection: Connection, sha: str) -> bool:
    """Whether a packed journal or any text of the database names a kept file."""
    if connection.exec_driver_sql("SELECT 1 FROM packed_files WHERE sha = ? LIMIT 1", (sha,)).scalar():
        return True
    for table in tables.Base.metadata.sorted_tables:
        texts = [f'"{column.name}"' for column in table.columns if isinstance(column.type, JSON | Text)]
        if texts and table.name not in ("files", "packed_files"):
            where = " OR ".join(f"{name} LIKE ?" for name in texts)
            if connection.exec_driver_sql(f"SELECT 1 FROM {table.name} WHERE {where} LIMIT 1", (f"%{sha}%",) * len(texts)).scalar():
                return True
    return False


def forget_proofs(store: Store, now: float, most: int) -> int:
    """Remove proofs made long ago that stand in no cell; gives how many."""
    with store.writing() as connection:
        done = connection.exec_driver_sql(
            "DELETE FROM proofs WHERE key IN (SELECT key FROM proofs WHERE at < ? AND key NOT IN (SELECT key FROM proof_cells) LIMIT ?)",
            (now - PROOFS * DAY, most),
        )
        return int(done.rowcount)


def sizes(store: Store) -> dict[str, tuple[int, int]]:
    """What takes room in the data folder: bytes, and how many there are."""

    def of(*patterns: str) -> tuple[int, int]:
        found = [path for pattern in patterns for path in store.folder.glob(pattern) if path.is_file()]
        return sum(path.stat().st_size for path in found), len(found)

    with store.read() as session:
        rows = {
            name: session.connection().exec_driver_sql(f"SELECT count(*) FROM {table}").scalar() or 0 for name, table in _COUNTED
        }
    database = of("*.db", "*.db-wal", "*.sqlite", "*.sqlite-wal")[0]
    return {
        "database": (database, 0),
        "journals": of(f"{packed.FOLDER}/*/*.gz"),
        "files": of("files/*/*"),
        "backups": of("backups/**/*"),
        **{name: (0, number) for name, number in rows.items()},
    }


_COUNTED = (("runs", "runs"), ("pieces", "pieces"), ("rows", "sheet_rows"), ("proofs", "proofs"))
