"""Who is asked about something: names and slots as addresses, substitutes of those who are away, whose word is waited for."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import people
from ...core.recurrence import zone_of
from ...core.slots import parse, render
from ...protocols.errors import Misconfigured
from ...store import tables

LONGEST_CHAIN = 5
GATHERED = 5.0
"""Seconds before the time at which one mail is to tell of all in which its mails become one."""


def named(session: Session) -> dict[str, str]:
    """The addresses of those who have an account, by their names in lower case; a name that two share names nobody."""
    found: dict[str, str] = {}
    for name, email in session.execute(select(tables.User.name, tables.User.email).where(tables.User.ended_at.is_(None))):
        key = name.casefold()
        found[key] = "" if key in found else email
    return {name: email for name, email in found.items() if email}


def resolved(session: Session, who: str, values: Mapping[str, Any]) -> list[str]:
    """The addresses a setting comes to with these values. Raises `Misconfigured` where it names nobody."""
    text = render(parse(who), values).text
    found, unknown = people.addresses(text, named(session))
    if unknown:
        raise Misconfigured(f"“{unknown[0][:80]}” is no mail address, and nobody here is called so. Nobody was asked.")
    if not found:
        raise Misconfigured("Nobody is named who could be asked: the line’s “Who decides” is empty for this item.")
    return found


def asked(session: Session, who: Sequence[str], now: float) -> list[dict[str, Any]]:
    """Those who are asked, in order, with substitutes in the place of those who are away."""
    out: dict[str, dict[str, Any]] = {}
    for address in who:
        there = stands_for(session, address, now)
        entry = {"who": there} | ({"instead_of": address} if there.casefold() != address.casefold() else {})
        out.setdefault(there.casefold(), entry)
    return list(out.values())


def stands_for(session: Session, address: str, now: float) -> str:
    """Whoever answers for a person at the moment: themselves, or the substitute of one who is away. A circle ends where it began."""
    at, seen = address, {address.casefold()}
    for _ in range(LONGEST_CHAIN):
        person = session.get(tables.Person, at.casefold())
        if person is None or not person.substitute or not away(person, now) or person.substitute.casefold() in seen:
            break
        at = person.substitute
        seen.add(at.casefold())
    return at


def away(person: tables.Person, now: float) -> bool:
    """Whether a person is away."""
    begun = person.away_from is None or person.away_from <= now
    return person.away_until is not None and begun and now < person.away_until


def waited_for(approval: tables.Approval) -> list[str]:
    """Whose word is waited for now."""
    asked_people = [people.Asked(one["who"], one.get("said") == "approve") for one in approval.people]
    return people.waited_for(asked_people, approval.needs)  # type: ignore[arg-type]


def entry_of(approval: tables.Approval, who: str) -> dict[str, Any] | None:
    """The entry of a person who is asked."""
    return next((one for one in approval.people if one["who"].casefold() == who.casefold()), None)


def told_at(person: tables.Person | None, now: float) -> float:
    """When a person may be told: now, after their quiet hours, or at the next of the times at which they hear of all at once."""
    if person is None or not (person.quiet or person.collect):
        return now
    zone = zone_of(person.zone) if person.zone else None
    at = dt.datetime.fromtimestamp(now, zone).astimezone(zone)
    if person.collect:
        times = [_on(at, time) + dt.timedelta(days=day) for day in (0, 1) for time in person.collect]
        at = min(time for time in times if time > at)
    for _ in range(14):  # a week of quiet days at the most, each left at the end of its quiet hours
        end = _quiet_until(person.quiet, at)
        if end is None:
            break
        at = end
    return at.timestamp() + (GATHERED if person.collect else 0)


def _on(day: dt.datetime, time: str) -> dt.datetime:
    hour, _, minute = time.partition(":")
    return day.replace(hour=int(hour), minute=int(minute or 0), second=0, microsecond=0)


def _quiet_until(quiet: Mapping[str, Any], at: dt.datetime) -> dt.datetime | None:
    """The end of the quiet that lies over a moment, if one does."""
    if at.weekday() in quiet.get("days", ()):
        return _on(at + dt.timedelta(days=1), str(quiet.get("until") or "00:00") if quiet.get("from") else "00:00")
    if not (quiet.get("from") and quiet.get("until")):
        return None
    begins, ends = _on(at, quiet["from"]), _on(at, quiet["until"])
    if begins <= ends:
        return ends if begins <= at < ends else None
    if at >= begins:
        return ends + dt.timedelta(days=1)
    return ends if at < ends else None
