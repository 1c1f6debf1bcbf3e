"""Sheets that are lists of readers: what leaving, bouncing and joining write into them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.pieces import Mailing, read
from ..protocols import mail
from ..store import tables

JOINED, LEFT, BOUNCED = "joined", "left", "bounced"


def note(session: Session, content: Mapping[str, Any]) -> None:
    """Remember that a mailing's sheet is a list, and which of its columns are the address and the state."""
    mailing = read("mailing", content)
    assert isinstance(mailing, Mailing)
    if session.get(tables.Sheet, mailing.sheet) is None:
        return
    known = session.get(tables.MailingList, mailing.sheet)
    if known is None:
        session.add(tables.MailingList(sheet=mailing.sheet, address=mailing.address, state=mailing.state))
    else:
        known.address, known.state = mailing.address, mailing.state or known.state


def mark(session: Session, address: str, state: str) -> None:
    """Write a state beside an address in every list that has a column for it."""
    for known in session.scalars(select(tables.MailingList).where(tables.MailingList.state != "")):
        for row in rows_of(session, known, address):
            row.cells = {**row.cells, known.state: state}


def rows_of(session: Session, known: tables.MailingList, address: str) -> Iterator[tables.SheetRow]:
    """The rows of a list that are for an address."""
    wanted = address.strip().casefold()
    cell = func.json_extract(tables.SheetRow.cells, f"$.{_quoted(known.address)}")
    maybe = select(tables.SheetRow).where(tables.SheetRow.sheet == known.sheet, func.instr(func.lower(cell), wanted) > 0)
    for row in session.scalars(maybe):
        if mail.bare(str(row.cells.get(known.address) or "").strip()).casefold() == wanted:
            yield row


def _quoted(column: str) -> str:
    """A column's name in a path of SQLite's JSON functions."""
    escaped = column.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
