"""The audit trail: who did what, when and from where."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import Select, or_, select, tuple_

from ...protocols.documents.grids import to_csv
from ...store import tables
from ..http.base import Body, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("trail", __name__, url_prefix="/api/trail", abp_tags=[Tag(name="trail", description="Who did what")])

MOST = 100
"""Lines at once."""
MOST_SAVED = 200_000


class TrailQuery(Body):
    """Lines before one (its number), with some words in what was done or by whom, of one person, since a day (ISO 8601)."""

    before: int = 0
    words: str = Field("", max_length=200)
    who: str = Field("", max_length=200)
    since: dt.date | None = None
    until: dt.date | None = None


class TrailLine(BaseModel):
    """`at` in seconds since the epoch; `place` is the address it was done from, empty where the house did it itself."""

    id: int
    at: float
    who: str
    did: str
    what: str
    place: str


class TrailView(BaseModel):
    lines: list[TrailLine]
    more: bool
    people: list[str]
    """Everybody who did something, for choosing one; told with the first lines only."""


@bp.get("", responses={200: TrailView})
@needs("owner")
def show(query: TrailQuery) -> Reply:
    """What was done, the latest first."""
    with house().services.store.read() as session:
        found = list(session.scalars(_asked(query).limit(MOST + 1)))
        people = [] if query.before else sorted(session.scalars(select(tables.Audit.who).distinct()), key=str.casefold)
    lines = [TrailLine(id=a.id, at=a.at, who=a.who, did=a.did, what=a.what, place=a.place) for a in found[:MOST]]
    return send(TrailView(lines=lines, more=len(found) > MOST, people=people))


@bp.get("/trail.csv")
@needs("owner")
def save(query: TrailQuery) -> Reply:
    """What was done, as CSV: time (ISO 8601, UTC), who, what, to what, from where."""
    with house().services.store.read() as session:
        rows = [
            (dt.datetime.fromtimestamp(a.at, dt.UTC).isoformat(timespec="seconds"), a.who, a.did, a.what, a.place)
            for a in session.scalars(_asked(query).limit(MOST_SAVED))
        ]
    body = to_csv(("when", "who", "did", "what", "from"), rows)
    return Response(body, mimetype="text/csv", headers={"Content-Disposition": 'attachment; filename="trail.csv"'})


def _asked(query: TrailQuery) -> Select[tables.Audit]:
    line = tables.Audit
    wanted: list[Any] = []
    if query.before:
        # In the order of time: what was done then, and what was written later of the same moment.
        at = select(line.at).where(line.id == query.before).scalar_subquery()
        wanted.append(tuple_(line.at, line.id) < tuple_(at, query.before))
    if query.who:
        wanted.append(line.who == query.who)
    if query.since:
        wanted.append(line.at >= _midnight(query.since))
    if query.until:
        wanted.append(line.at < _midnight(query.until + dt.timedelta(days=1)))
    for word in query.words.split():
        wanted.append(or_(*(column.icontains(word, autoescape=True) for column in (line.did, line.what, line.who, line.place))))
    return select(line).where(*wanted).order_by(line.at.desc(), line.id.desc())


def _midnight(day: dt.date) -> float:
    """When a day begins where the house stands."""
    return dt.datetime.combine(day, dt.time()).timestamp()
