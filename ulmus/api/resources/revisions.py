"""Revisions of a page: their list, any two set against each other, one as it was; and the forecast of the page as it is."""

from __future__ import annotations

from typing import Any, Literal

from flask_openapi3 import Tag
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.diff import changes
from ...core.workflow import Workflow, World, sentence
from ...core.workflow.compare import SettingChange, compare, page_changes
from ...readmodels.models import ChangeView, PartView
from ...runtime.forecast import forecast
from ...runtime.services import world
from ...steps import kinds
from ...store import tables
from ..http.base import Body, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("revisions", __name__, url_prefix="/api", abp_tags=[Tag(name="revisions")])


class WorkflowPath(BaseModel):
    id: int


class RevisionPath(BaseModel):
    id: int
    number: int


class CompareQuery(Body):
    """Revision numbers; 0 is the page as it is now."""

    before: int
    after: int = 0


class RevisionView(BaseModel):
    number: int
    created_at: float
    created_by: str
    live: bool
    runs: int


class RevisionDocument(BaseModel):
    number: int
    document: dict[str, Any]


class SettingView(BaseModel):
    title: str
    changes: list[ChangeView]


class LineChangeView(BaseModel):
    """What became of a line: added, removed, moved, changed; for the page itself, ``page``."""

    what: str
    step: str
    sentence: list[PartView]
    settings: list[SettingView]


class PlacesView(BaseModel):
    """How many pieces a run puts on a channel's next free places, and how many places that has in thirty days."""

    channel: str
    pieces: int
    places: int


class QuotaView(BaseModel):
    """How many ``calls``, ``tokens`` or ``pieces`` of a connection a run needs, and the most that may have in thirty days."""

    connection: str
    what: Literal["calls", "tokens", "pieces"]
    a_run: float
    most: int


class ForecastView(BaseModel):
    """A run's use, and a month's (thirty days, ``month_…``) where it is known how often it runs; `month_money` is the limit set for
    a month. `sent_back` is how often a draft was sent back for each that was decided, which is counted in; `places` are the channels on
    whose free places a run's pieces go, with how many there are in a month, `quotas` what it needs of its connections."""

    calls: int
    tokens: int
    cost: float
    runs: float | None
    how: str
    unproofed: list[str]
    month_money: float | None
    sent_back: float = 0.0
    places: list[PlacesView] = []
    quotas: list[QuotaView] = []
    month_calls: int | None = None
    month_tokens: int | None = None
    month_cost: float | None = None


@bp.get("/workflows/<int:id>/revisions", responses={200: Listing[RevisionView]})
@needs("reader")
def listing(path: WorkflowPath) -> Reply:
    """All revisions, newest first."""
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        found = select(tables.Revision).where(tables.Revision.workflow_id == path.id).order_by(tables.Revision.number.desc())
        revisions = list(session.scalars(found))
        counts = {r.id: session.query(tables.Run).filter(tables.Run.revision_id == r.id).count() for r in revisions}
    return send(
        [
            RevisionView(
                number=r.number,
                created_at=r.created_at,
                created_by=r.created_by,
                live=r.id == record.revision_id and record.state == "live",
                runs=counts[r.id],
            )
            for r in revisions
        ]
    )


@bp.get("/workflows/<int:id>/revisions/<int:number>", responses={200: RevisionDocument, 404: Problem})
@needs("reader")
def show(path: RevisionPath) -> Reply:
    """A revision's page, to be brought back."""
    with house().services.store.read() as session:
        return send(RevisionDocument(number=path.number, document=_document(session, path.id, path.number)))


@bp.get("/workflows/<int:id>/compare", responses={200: Listing[LineChangeView], 404: Problem})
@needs("reader")
def compared(path: WorkflowPath, query: CompareQuery) -> Reply:
    """Two states of the page set against each other."""
    with house().services.store.read() as session:
        before, after = (Workflow.model_validate(_document(session, path.id, n)) for n in (query.before, query.after))
        around = world(session)
    return send(changes_between(before, after, around))


def changes_between(before: Workflow, after: Workflow, around: World) -> list[LineChangeView]:
    """What is different in a page, line by line."""
    out = []
    page = page_changes(before, after)
    if page:
        out.append(LineChangeView(what="page", step="", sentence=[], settings=[_setting(c) for c in page]))
    for change in compare(before, after, kinds()):
        words = [PartView(what=p.what, text=p.text) for p in sentence(change.line, kinds().get(change.line.kind), around)]
        settings = [_setting(c) for c in change.settings]
        out.append(LineChangeView(what=change.what, step=change.line.id, sentence=words, settings=settings))
    return out


@bp.get("/workflows/<int:id>/forecast", responses={200: ForecastView})
@needs("reader")
def forecasted(path: WorkflowPath) -> Reply:
    """What the page will use in a month, from its proofs and its start."""
    services = house().services
    with services.store.read() as session:
        workflow = Workflow.model_validate(session.get_one(tables.WorkflowRecord, path.id).document)
        found = select(tables.Sample).where(tables.Sample.workflow_id == path.id, tables.Sample.shown.is_(True))
        samples = list(session.scalars(found))
    columns = list(house().proofs.columns(workflow, samples).values())
    told = forecast(services, path.id, workflow, columns)
    use = told.a_run
    return send(
        ForecastView(
            calls=use.calls,
            tokens=use.tokens_in + use.tokens_out,
            cost=use.cost,
            runs=told.runs,
            how=told.how,
            unproofed=told.unproofed,
            month_money=workflow.limits.month_money,
            sent_back=told.sent_back,
            places=[PlacesView(**vars(one)) for one in told.places],
            quotas=[QuotaView(**vars(one)) for one in told.quotas],
            month_calls=None if told.runs is None else round(use.calls * told.runs),
            month_tokens=None if told.runs is None else round((use.tokens_in + use.tokens_out) * told.runs),
            month_cost=None if told.runs is None else use.cost * told.runs,
        )
    )


def _document(session: Session, workflow_id: int, number: int) -> dict[str, Any]:
    if number == 0:
        return session.get_one(tables.WorkflowRecord, workflow_id).document
    revision = session.scalar(
        select(tables.Revision).where(tables.Revision.workflow_id == workflow_id, tables.Revision.number == number)
    )
    if revision is None:
        raise Refusal(f"There is no revision {number}.", 404)
    return revision.document


def _setting(change: SettingChange) -> SettingView:
    marked = [ChangeView(what=c.what, text=c.text) for c in changes(change.before, change.after)]
    return SettingView(title=change.title, changes=marked)
