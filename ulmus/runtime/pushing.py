"""Pushes to the browsers of people who have an account: what waits for them, and what is wrong. At most once each; a push that is lost
is no loss, since what it tells of waits at the desk."""

from __future__ import annotations

import json
import logging
from functools import partial
from urllib.parse import urlsplit

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import load_only

from ..protocols import webpush
from ..protocols.errors import NotFound, OutsideError
from ..store import tables
from .asking import QUESTION, people
from .outsides import Outsides
from .services import Services

log = logging.getLogger("ulmus")
EVERY = 2.0
AGAIN = 60.0
MOST_FAILURES = 20
"""So many failures in a row, and a browser is forgotten."""


class Pushing:
    """Pushes what waits for people to their browsers."""

    def __init__(self, services: Services, outsides: Outsides) -> None:
        self.services, self.outsides = services, outsides
        self._next = 0.0
        self._again = 0.0
        self._known = -1

    def reset(self, now: float) -> None:
        """The clock was set back: look at once."""
        self._next = self._again = 0.0

    def tick(self, now: float) -> None:
        """Look where questions changed, and now and then, for quiet hours that are over."""
        changes = self.services.store.written("approvals")
        if now < self._next or (changes == self._known and now < self._again):
            return
        self._next, self._again, self._known = now + EVERY, now + AGAIN, changes
        approval, user = tables.Approval, tables.User
        with self.services.store.read() as session:
            with_lines = select(func.lower(user.email)).join(tables.PushLine, tables.PushLine.user_id == user.id)
            mine = set(session.scalars(with_lines.where(user.ended_at.is_(None)).distinct()))
            if not mine:
                return
            light = load_only(approval.people, approval.needs, approval.draft, approval.run_id)
            open_ = session.scalars(select(approval).where(approval.state == "open").options(light)).all()
            told = []
            for one in open_:
                for who in people.waited_for(one):
                    entry = people.entry_of(one, who) or {}
                    wants = session.get(tables.Person, who.casefold())
                    if who.casefold() in mine and not entry.get("pushed") and people.told_at(wants, now) <= now:
                        told.append((one, who))
            counts: dict[str, int] = {}
            for one in open_:
                for who in people.waited_for(one):
                    counts[who.casefold()] = counts.get(who.casefold(), 0) + 1
            titles = dict(
                session.execute(
                    select(tables.Run.id, tables.Run.title).where(tables.Run.id.in_({one.run_id for one, _ in told}))
                ).all()
            )
        if not told:
            return
        with self.services.store.write() as session:
            for one, who in told:
                record = session.get_one(approval, one.id)
                record.people = [
                    {**entry, "pushed": now} if entry["who"].casefold() == who.casefold() else entry for entry in record.people
                ]
        by_person: dict[str, list[tables.Approval]] = {}
        for one, who in told:
            by_person.setdefault(who.casefold(), []).append(one)
        for who, some in by_person.items():
            first = some[0]
            head = "A question for you" if first.draft == QUESTION else "A draft waits for your word"
            words = titles.get(first.run_id, "") if len(some) == 1 else ""
            link = f"/approvals/{first.id}" if len(some) == 1 else "/approvals"
            self.to_person(
                who, head if len(some) == 1 else f"{len(some)} drafts wait for your word", words, link, counts.get(who, 0)
            )

    def notices(self, who: str, notices: list[tables.Notice]) -> None:
        """Push what is wrong to somebody."""
        head = "Something is wrong" if len(notices) == 1 else f"{len(notices)} things are wrong"
        self.to_person(who.casefold(), head, notices[0].words, notices[0].link if len(notices) == 1 else "/", None)

    def to_person(self, who: str, head: str, words: str, link: str, waiting: int | None) -> None:
        """Push a message to all browsers of a person."""
        message = {"title": head, "body": words[:300], "link": link} | ({} if waiting is None else {"waiting": waiting})
        with self.services.store.read() as session:
            lines = session.scalars(
                select(tables.PushLine)
                .join(tables.User, tables.User.id == tables.PushLine.user_id)
                .where(func.lower(tables.User.email) == who, tables.User.ended_at.is_(None))
            ).all()
        for line in lines:
            host = urlsplit(line.endpoint).netloc
            self.outsides.submit(f"host:{host}", partial(self._push, line.id, json.dumps(message).encode()))

    def _push(self, number: int, message: bytes, refused: OutsideError | None) -> OutsideError | None:
        if refused is not None:
            return refused
        with self.services.store.read() as session:
            line = session.get(tables.PushLine, number)
        if line is None:
            return None
        met: OutsideError | None = None
        try:
            where = webpush.line_of(line.endpoint, line.keys)
            webpush.push(self.services.web, where, message, self.services.sealer.key, self.services.public_url)
        except OutsideError as error:
            met = error
            log.info("a push did not reach its browser: %s", error.message)
        gone = isinstance(met, NotFound) or (met is not None and line.failed + 1 >= MOST_FAILURES)
        with self.services.store.write() as session:
            mine = tables.PushLine.id == number
            if gone:
                session.execute(delete(tables.PushLine).where(mine))
            else:
                session.execute(update(tables.PushLine).where(mine).values(failed=line.failed + 1 if met else 0))
        return None if isinstance(met, NotFound) else met
