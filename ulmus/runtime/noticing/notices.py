"""Notices: what is wrong is raised once, told to whom it concerns, and mended quietly when it is over.

Who hears of it is said by rules, for the house or one workflow: by mail, in a team's room or as a push, at once or as one letter at a
time of day. What is raised and what is told of it stand in one transaction, so that nothing is told twice.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import html
import logging
import threading
from collections.abc import Callable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.pieces import Letter
from ...core.recurrence import RecurrenceError, zone_of
from ...protocols.errors import OutsideError
from ...store import tables
from .. import telling
from ..outsides import Outsides
from ..services import Services
from ..telling import NOTICE
from .troubles import standing

log = logging.getLogger("ulmus")
EVERY = 10.0
MOST_TOLD = 50


class Notices:
    """Looks every ten seconds at what is wrong. `push` is told of notices that go to browsers."""

    def __init__(self, services: Services, outsides: Outsides, push: Callable[[str, list[tables.Notice]], None]) -> None:
        self.services, self.outsides, self.push = services, outsides, push
        self._next = 0.0
        self._looking = threading.Lock()

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = 0.0

    def tick(self, now: float) -> None:
        """Look again when it is time."""
        if now >= self._next:
            self._next = now + EVERY
            self.outsides.submit("", self._look)

    def _look(self, refused: OutsideError | None) -> None:
        if self._looking.locked():
            return
        try:
            self.look(self.services.clock())
        except Exception:
            log.exception("looking for what is wrong met a fault and goes on")

    def look(self, now: float) -> None:
        """Raise what is wrong and was not, mend what is over, and have it told. One look at a time: two would each raise the same."""
        with self._looking:
            self._raise(now)

    def _raise(self, now: float) -> None:
        with self.services.store.read() as session:
            wrong = {one.key: one for one in standing(session, now, self.outsides.troubles())}
            open_ = {one.key: one.id for one in _open(session)}
            rules = list(session.scalars(select(tables.NoticeRule)))
        new = [one for key, one in wrong.items() if key not in open_]
        over = [number for key, number in open_.items() if key not in wrong]
        due = [rule for rule in rules if rule.at and _due(rule, now)]
        if not (new or over or due):
            return
        pushed: list[tuple[str, list[tables.Notice]]] = []
        with self.services.store.write() as session:
            for number in over:
                session.get_one(tables.Notice, number).mended_at = now
            raised = []
            for one in new:
                notice = tables.Notice(
                    key=one.key[:200], what=one.what, workflow_id=one.workflow, words=one.words, link=one.link, raised_at=now
                )
                session.add(notice)
                raised.append(notice)
            session.flush()
            for rule in rules:
                if rule.at:
                    continue
                told = [notice for notice in raised if _concerns(rule, notice)]
                if told and rule.way == "push":
                    pushed.append((rule.to, told))
                elif told:
                    _tell(session, rule, told, now)
            for rule in due:
                wanted = select(tables.Notice).where(
                    tables.Notice.mended_at.is_(None),
                    tables.Notice.raised_at > max(rule.since, rule.told_until),
                    tables.Notice.raised_at <= now,
                )
                told = [notice for notice in session.scalars(wanted.order_by(tables.Notice.id)) if _concerns(rule, notice)]
                session.merge(rule).told_until = now
                if told and rule.way == "push":
                    pushed.append((rule.to, told))
                elif told:
                    _tell(session, rule, told, now)
        for who, notices in pushed:
            self.push(who, notices)
        self.services.bus.publish("notice")


def _open(session: Session) -> Sequence[tables.Notice]:
    return session.scalars(select(tables.Notice).where(tables.Notice.mended_at.is_(None))).all()


def _concerns(rule: tables.NoticeRule, notice: tables.Notice) -> bool:
    of = rule.workflow_id is None or rule.workflow_id == notice.workflow_id
    return of and (not rule.what or notice.what in rule.what)


def _due(rule: tables.NoticeRule, now: float) -> bool:
    """Whether the time of day of a rule has come since it last told."""
    try:
        zone = zone_of(rule.zone) if rule.zone else None
    except RecurrenceError:
        zone = None
    at = dt.datetime.fromtimestamp(now, zone).astimezone(zone)
    hour, _, minute = rule.at.partition(":")
    last = at.replace(hour=int(hour), minute=int(minute), second=0, microsecond=0)
    if last > at:
        last -= dt.timedelta(days=1)
    return last.timestamp() > max(rule.told_until, rule.since)


def _tell(session: Session, rule: tables.NoticeRule, notices: Sequence[tables.Notice], now: float) -> None:
    numbers = [notice.id for notice in notices]
    mark = hashlib.sha256(f"{rule.id}/{numbers}".encode()).hexdigest()[:24]
    content = {"to": rule.to, "way": rule.way, "notices": numbers}
    telling.put(session, NOTICE, f"notice-{mark}", rule.connection, content, now)


def told(services: Services, piece: tables.Piece) -> Letter | str | None:
    """What a piece tells of what is wrong; nothing where all of it is mended by now."""
    with services.store.read() as session:
        numbers = [int(n) for n in piece.content.get("notices", [])]
        wanted = select(tables.Notice).where(tables.Notice.id.in_(numbers), tables.Notice.mended_at.is_(None))
        notices = list(session.scalars(wanted.order_by(tables.Notice.id)))
    if not notices:
        return None
    lines = [(notice.words, f"{services.public_url}{notice.link}") for notice in notices[:MOST_TOLD]]
    more = f"\n\nand {len(notices) - MOST_TOLD} more: {services.public_url}/" if len(notices) > MOST_TOLD else ""
    plain = "\n\n".join(f"{words}\n{link}" for words, link in lines) + more
    if piece.content.get("way") == "room":
        return plain
    head = lines[0][0] if len(lines) == 1 else f"{len(notices)} things are wrong"
    page = "".join(f'<p>{html.escape(words)}<br><a href="{html.escape(link)}">{html.escape(link)}</a></p>' for words, link in lines)
    return Letter(to=(str(piece.content["to"]),), subject=" ".join(head.split())[:120], text=plain, html=page)
