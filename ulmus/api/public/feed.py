"""The calendar for other programs: iCalendar (RFC 5545) at a secret address, which can be made void. The house has one; a member who
is kept to some brands has one of their own, that shows what they see."""

from __future__ import annotations

import datetime as dt
import secrets

from flask import Blueprint, Response, g
from flask_openapi3 import Tag
from icalendar import Calendar, Event
from pydantic import BaseModel

from ...readmodels import calendar
from ...runtime.services import audit, world
from ...store import sight, tables
from ..http.base import Fine, Reply, house, send
from ..http.describing import Part
from ..security import members
from ..security.auth import needs

bp = Part("feed", __name__, url_prefix="/api", abp_tags=[Tag(name="outbox")])
outside = Blueprint("feed_outside", __name__)
FACT = "calendar feed"
PARTED = "~"
"""What parts the number of a member from the secret."""
BACK, AHEAD = 30 * 86_400, 60 * 86_400
"""Seconds for which it reaches back and ahead."""
SIGNS = {"sent": "", "held": "held: ", "unsure": "in doubt: "}


class FeedView(BaseModel):
    """The secret address; empty where there is none."""

    address: str


@bp.get("/calendar/feed", responses={200: FeedView})
@needs("maker")
def show() -> Reply:
    """Where the calendar can be read by other programs."""
    token = house().services.store.fact(_fact())
    return send(FeedView(address=_address(token) if token else ""))


@bp.post("/calendar/feed", responses={200: FeedView})
@needs("maker")
def make() -> Reply:
    """Give the calendar a secret address; one it had before is void."""
    token = ("" if sight.brands() is None else f"{g.user.id}{PARTED}") + secrets.token_urlsafe(24)
    _note(token, "gave the calendar an address")
    return send(FeedView(address=_address(token)))


@bp.delete("/calendar/feed", responses={200: Fine})
@needs("maker")
def close() -> Reply:
    """Make the address void."""
    _note(None, "closed the calendar's address")
    return send(Fine())


def _fact() -> str:
    """What the calendar's address of whoever asks is noted as."""
    return FACT if sight.brands() is None else f"{FACT} of {g.user.id}"


def _address(token: str) -> str:
    return f"{house().services.public_url}/calendar/{token}.ics"


def _note(token: str | None, did: str) -> None:
    services = house().services
    services.store.note(_fact(), token)
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, did)


@outside.get("/calendar/<token>.ics")
def feed(token: str) -> Response:
    """What went out, waits and starts, as events."""
    services = house().services
    member = token.partition(PARTED)[0] if PARTED in token else ""
    known = services.store.fact(f"{FACT} of {member}" if member else FACT)
    seen = _sees(member) if member else (True, None)
    if not known or not seen[0] or not secrets.compare_digest(token.encode(), known.encode()):
        return Response("There is no calendar at this address (any more).", 404, mimetype="text/plain")
    now = services.clock()
    with sight.only(seen[1]), services.store.read() as session:
        view = calendar.between(session, house().engine, world(session), now - BACK, now + AHEAD, None, now)
    out = Calendar()
    out.add("prodid", "-//Ulmus//Calendar//EN")
    out.add("version", "2.0")
    out.add("x-wr-calname", "Ulmus")
    for piece in view.pieces:
        words = (piece.piece.head or piece.piece.text) if piece.piece else piece.title
        event = _event(f"piece-{piece.id}", piece.at, now, f"{piece.channel}: {SIGNS.get(piece.state, 'waits: ')}{_short(words)}")
        event.add("description", f"{piece.workflow_name}\n\n{piece.piece.text if piece.piece else ''}")
        if piece.link.startswith(("http://", "https://")):
            event.add("url", piece.link)
        out.add_component(event)
    for start in view.starts:
        out.add_component(_event(f"start-{start.workflow}-{int(start.at)}", start.at, now, f"{start.name} starts"))
    return Response(out.to_ical(), mimetype="text/calendar", headers={"Cache-Control": "private, max-age=300"})


def _sees(member: str) -> tuple[bool, frozenset[str] | None]:
    """Whether a member has an account still, and the brands they are kept to."""
    with house().services.store.read() as session:
        user = session.get(tables.User, int(member)) if member.isdecimal() and len(member) < 10 else None
    return (False, frozenset()) if user is None or user.ended_at is not None else (True, members.of(user))


def _event(uid: str, at: float, now: float, summary: str) -> Event:
    event, moment = Event(), dt.datetime.fromtimestamp(at, dt.UTC).replace(microsecond=0)
    event.add("uid", f"{uid}@{house().services.store.identity}.ulmus")
    event.add("dtstamp", dt.datetime.fromtimestamp(now, dt.UTC).replace(microsecond=0))
    event.add("dtstart", moment)
    event.add("dtend", moment + dt.timedelta(minutes=15))
    event.add("summary", summary)
    return event


def _short(words: str) -> str:
    one = " ".join(words.split())
    return one if len(one) <= 80 else f"{one[:79]}…"
