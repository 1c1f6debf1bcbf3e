"""Records as documents: of a run, and of a month of a brand."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any, Literal
from urllib.parse import quote

from flask import Response
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...protocols.documents import typeset
from ...protocols.errors import OutsideError
from ...protocols.workers import apart
from ...readmodels import record
from ...runtime import periods
from ...store import tables
from ..http.base import Body, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("reports", __name__, url_prefix="/api", abp_tags=[Tag(name="records")])
Kind = Literal["html", "pdf", "json"]


class RunFilePath(BaseModel):
    id: int
    kind: Kind


class KindPath(BaseModel):
    kind: Kind


class MonthQuery(Body):
    """A month as ``2026-11``, of a brand by its key, or of all; in a time zone (IANA)."""

    month: str = Field("", max_length=10)
    brand: str = Field("", max_length=60)
    zone: str = Field("", max_length=60)


class ReportPiece(BaseModel):
    """A piece that went out: when (ISO 8601, UTC), where, and what came of it; `hours` from the run's start."""

    at: str
    channel: str
    form: str
    title: str
    text: str
    link: str
    workflow: str
    run: int
    hours: float
    answers: int
    pressed: int
    left: int
    bounced: int
    numbers: dict[str, float]


class ReportChannel(BaseModel):
    channel: str
    pieces: int
    answers: int
    pressed: int
    left: int
    bounced: int


class ReportView(BaseModel):
    """The record of a month: `hours` is the median from a run's start until its piece went out; `text` says it in words."""

    brand: str
    month: str
    since: str
    until: str
    count: int
    items: list[ReportPiece]
    channels: list[ReportChannel]
    runs: dict[str, int]
    approvals: dict[str, int]
    cost: float
    tokens: int
    hours: float
    text: str


@bp.get("/runs/<int:id>/record/<kind>", responses={404: Problem, 422: Problem})
@needs("reader")
def of_run(path: RunFilePath) -> Response:
    """Everything of a run in one document: what came in, drafts, who passed it, what went out, what came back, what it cost."""
    told = record.run_record(house().services, house().engine, house().journals, path.id)
    title = told.title or f"Run {path.id}"
    return _file(path.kind, title, record.run_page(told), told.model_dump(mode="json"), f"run-{path.id}")


@bp.get("/report", responses={200: ReportView, 404: Problem, 422: Problem})
@needs("reader")
def of_month(query: MonthQuery) -> Reply:
    """What went out of a brand in a month, where to, what came of it, what it cost and how long it took."""
    month, told = _told(query)
    return send(ReportView(month=month, **told))


@bp.get("/report/<kind>", responses={404: Problem, 422: Problem})
@needs("reader")
def month_file(path: KindPath, query: MonthQuery) -> Response:
    """The same as a document."""
    month, told = _told(query)
    return _file(
        path.kind,
        f"{told['brand'] or 'All brands'}, {month}",
        record.period_page(told),
        {"month": month, **told},
        f"report-{month}",
    )


def _told(query: MonthQuery) -> tuple[str, dict[str, Any]]:
    services = house().services
    month = query.month or f"{dt.datetime.fromtimestamp(services.clock(), dt.UTC):%Y-%m}"
    with services.store.read() as session:
        if query.brand:
            session.get_one(tables.Brand, query.brand)
        try:
            since, until = periods.month_of(month, query.zone or "UTC")
        except ValueError as error:
            raise Refusal(str(error), 422) from None
        return month, periods.record(session, query.brand or None, since, until)


def _file(kind: Kind, title: str, page: str, told: dict[str, Any], name: str) -> Response:
    headers = {"Content-Disposition": f"attachment; filename*=UTF-8''{quote(f'{name}.{kind}')}"}
    if kind == "json":
        body = json.dumps(told, ensure_ascii=False, indent=1, default=str)
        return Response(body.encode("utf-8", "replace"), mimetype="application/json", headers=headers)
    if kind == "html":
        return Response(record.whole(title, page), mimetype="text/html", headers=headers)
    made = dt.datetime.fromtimestamp(house().services.clock(), dt.UTC)
    try:
        typeset_page = apart(typeset.typeset, "pdf", title, page, {}, made)
    except OutsideError as error:
        raise Refusal(f"{error.message} Take it as HTML instead.", 422) from None
    return Response(typeset_page, mimetype="application/pdf", headers=headers)
