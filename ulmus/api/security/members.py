"""Members who are kept to some brands: what an address names, what an event tells and what is made has to be theirs (see `sight`)."""

from __future__ import annotations

from typing import Any

from flask import request
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...store import Store, sight, tables
from ..http.base import Refusal

NAMED: dict[str, type[tables.Base]] = {
    "approvals": tables.Approval,
    "brands": tables.Brand,
    "connections": tables.Connection,
    "lists": tables.Sheet,
    "mailings": tables.Piece,
    "pieces": tables.Piece,
    "row-changes": tables.RowChange,
    "runs": tables.Run,
    "sheets": tables.Sheet,
    "workflows": tables.WorkflowRecord,
}
"""What the part of an address that follows ``/api/…/`` names."""

TOLD: dict[str, tuple[str, type[tables.Base]]] = {
    "approval": ("id", tables.Approval),
    "cell": ("key", tables.Sheet),
    "comparison": ("workflow", tables.WorkflowRecord),
    "here": ("id", tables.WorkflowRecord),
    "page": ("id", tables.WorkflowRecord),
    "piece": ("id", tables.Piece),
    "proof": ("workflow", tables.WorkflowRecord),
    "run": ("id", tables.Run),
    "sheet": ("key", tables.Sheet),
    "workflow": ("id", tables.WorkflowRecord),
}
"""What news of a topic is about. Of the others is told that there is something, and not what."""


def of(user: tables.User) -> frozenset[str] | None:
    """The brands a member is kept to; ``None`` for those who see all of the house, as its owners do."""
    return None if user.brands is None or user.role == "owner" else frozenset(map(str, user.brands))


def look(store: Store) -> None:
    """Refuse (404) a request whose address names what is out of sight, also where nothing is read for the answer."""
    _, _, what, *rest = request.url_rule.rule.split("/") if request.url_rule is not None else ("", "", "")
    if sight.brands() is None or what not in NAMED or not rest or not rest[0].startswith("<"):
        return
    key = (request.view_args or {}).get(rest[0].strip("<>").rpartition(":")[2])
    with store.read() as session:
        if session.get(NAMED[what], key) is None:
            raise sight.OutOfSight()


class Ears:
    """What a member hears of the events, as things stand. The account is read anew only where accounts have changed."""

    def __init__(self, store: Store, person: int) -> None:
        self._store, self._person = store, person
        self._read_at = -1
        self._there = False
        self._brands: frozenset[str] | None = None

    def heard(self, batch: list[dict[str, Any]]) -> list[dict[str, Any]] | None:
        """Those of some events that they hear; ``None`` where they have no account any more."""
        now = self._store.written(tables.User.__tablename__)
        if now != self._read_at:
            with sight.everything(), self._store.read() as session:
                user = session.get(tables.User, self._person)
            self._there = user is not None and user.ended_at is None
            self._brands = of(user) if user is not None else None
            self._read_at = now
        if not self._there:
            return None
        if self._brands is None:
            return batch
        with sight.only(self._brands), self._store.read() as session:
            return [message for message in batch if _is_seen(session, message)]


def _is_seen(session: Session, message: dict[str, Any]) -> bool:
    topic = message["topic"]
    if topic not in TOLD:
        return topic in ("notice", "bringing")
    name, kind = TOLD[topic]
    return session.get(kind, message[name]) is not None


def whole_house(words: str) -> None:
    """Refuse (403) members who are kept to some brands."""
    if sight.brands() is not None:
        raise Refusal(words, 403)


def page_of(session: Session, document: dict[str, Any]) -> dict[str, Any]:
    """A page that is made, as it is made by who is kept to some brands: for one of them."""
    seen = sight.brands()
    if seen is None or document.get("brand") in seen:
        return document
    return document | {"brand": whose(session, "")}


def stays(brand: str | None) -> None:
    """Refuse (422) to give a page to a brand that is out of sight, or to none."""
    seen = sight.brands()
    if seen is not None and brand not in seen:
        raise Refusal("Choose one of your brands for this page.", 422)


def whose(session: Session, brand: str) -> str | None:
    """Whose something new is to be, by the key of a brand; where none is named, the house's, or the one brand a member is kept to."""
    seen = sight.brands()
    if not brand and seen is not None:
        if len(seen) != 1:
            raise Refusal("Say which brand it is for.", 422)
        (brand,) = seen
    if brand and session.scalar(select(tables.Brand.key).where(tables.Brand.key == brand)) is None:
        raise Refusal("There is no such brand here (any more).", 422)
    return brand or None
