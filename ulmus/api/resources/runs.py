"""Runs: what happened, as a list and as the page with one column; taking up again; pieces in doubt."""

from __future__ import annotations

from typing import Any, Literal

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import and_, func, or_, select

from ...core import flow
from ...readmodels.journals import JOURNAL, JournalPage, iterations, journal_page, step_of
from ...readmodels.models import IterationView, ResultView, TroubleView
from ...readmodels.runs import RunList, RunView, run_view, step_view, summary
from ...runtime import workflows
from ...runtime.services import audit
from ...steps import kinds
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs
from .connections import troubles_now

bp = Part("runs", __name__, url_prefix="/api", abp_tags=[Tag(name="runs")])


class RunPath(BaseModel):
    id: int


class RunStepPath(BaseModel):
    id: int
    step: str


class PlaceQuery(Body):
    """Where in blocks; empty for a step of the page itself."""

    address: str = ""


class TakeUpBody(Body):
    """From which step (empty for the one that failed), and values of earlier steps set anew."""

    address: str = ""
    values: dict[str, dict[str, Any]] = {}


class JudgeBody(Body):
    """A person's word on a step that failed for good."""

    address: str
    choice: Literal["again", "value", "skip", "stop"]
    text: str = Field("", max_length=100_000)


class Began(BaseModel):
    run: int


class JournalQuery(Body):
    """Which entries: those before a number (all, where there is none), the last so many."""

    before: int | None = None
    limit: int = Field(JOURNAL, ge=1, le=1000)


class RunQuery(Body):
    words: str = ""
    workflow: int | None = None
    state: str = ""
    before: int | None = None
    limit: int = Field(50, ge=1, le=200)


class PieceChoice(Body):
    """A person's word on a piece in doubt."""

    choice: str = Field(pattern="^(sent|again|drop)$")


@bp.get("/runs", responses={200: RunList})
@needs("reader")
def listing(query: RunQuery) -> Reply:
    """Runs, those that began last first, found by words (of their title, workflow or trouble, or of what went out and its
    address), workflow and state."""
    wanted = select(tables.Run, tables.WorkflowRecord.name).join(
        tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Run.workflow_id
    )
    for word in query.words.split():
        like = f"%{word}%"
        wanted = wanted.where(
            or_(
                tables.Run.title.ilike(like),
                tables.WorkflowRecord.name.ilike(like),
                tables.Run.message.ilike(like),
                _went_out(word),
            )
        )
    if query.workflow is not None:
        wanted = wanted.where(tables.Run.workflow_id == query.workflow)
    if query.state:
        wanted = wanted.where(tables.Run.state.in_(query.state.split(",")))
    with house().services.store.read() as session:
        if query.before is not None:
            began = session.get_one(tables.Run, query.before).started_at
            same = and_(tables.Run.started_at == began, tables.Run.id < query.before)
            wanted = wanted.where(tables.Run.started_at <= began, or_(tables.Run.started_at < began, same))
        order = tables.Run.started_at.desc(), tables.Run.id.desc()
        rows = session.execute(wanted.order_by(*order).limit(query.limit + 1)).all()
    return send(RunList(runs=[summary(run, name) for run, name in rows[: query.limit]], more=len(rows) > query.limit))


def _went_out(word: str) -> Any:
    """Whether a piece of the run holds a word: in what went out, or in the address it has there."""
    piece = tables.Piece
    texts = [func.json_extract(piece.content, f"$.{name}") for name in ("text", "title", "path", "url")]
    texts.append(func.json_extract(piece.receipt, "$.link"))
    like = f"%{word}%"
    return select(piece.id).where(piece.run_id == tables.Run.id, or_(*(text.ilike(like) for text in texts))).exists()


@bp.get("/runs/<int:id>", responses={200: RunView})
@needs("reader")
def show(path: RunPath) -> Reply:
    """One run."""
    return send(run_view(house().services, house().engine, house().journals, path.id, _waits_for(path.id)))


@bp.get("/runs/<int:id>/journal", responses={200: JournalPage})
@needs("reader")
def journal(path: RunPath, query: JournalQuery) -> Reply:
    """A page of a run's journal: the entries before a number, oldest first."""
    return send(journal_page(house().journals.of(path.id), query.before, query.limit))


def _waits_for(run: int) -> list[TroubleView]:
    """The outsides that do not answer and that steps of this run wait for."""
    mine = {t.key for t in house().engine.outsides.troubles() if run in t.runs}
    return [t for t in troubles_now() if t.key in mine]


@bp.get("/runs/<int:id>/steps/<step>", responses={200: ResultView})
@needs("reader")
def step(path: RunStepPath, query: PlaceQuery) -> Reply:
    """What one step of a run was given and gave, in full."""
    services = house().services
    result_view = step_view(services, house().engine.live(path.id), house().journals.of(path.id), path.step, query.address)
    if result_view is None:
        raise Refusal("This run’s page has no such line.", 404)
    return send(result_view)


@bp.get("/runs/<int:id>/iterations/<step>", responses={200: Listing[IterationView]})
@needs("reader")
def inside(path: RunStepPath) -> Reply:
    """Every carrying-out of a step inside blocks."""
    live = house().engine.live(path.id)
    return send(iterations(live.workflow, house().journals.of(path.id), live.state, path.step))


@bp.post("/runs/<int:id>/take-up", responses={200: Fine, 409: Problem})
@needs("maker")
def take_up(path: RunPath, body: TakeUpBody) -> Reply:
    """Have a run go on from the step that failed, or from any step, with its earlier values or edited ones."""
    services = house().services
    state = house().engine.live(path.id).state
    address = body.address or (state.current.id if state.current else "-")
    event = flow.TakenUp(at=services.clock(), address=address, by=g.user.email, values=body.values)
    _record(path.id, event, "took up a run", "This run cannot be taken up")
    return send(Fine())


@bp.post("/runs/<int:id>/judge", responses={200: Fine, 409: Problem})
@needs("reviewer")
def judge(path: RunPath, body: JudgeBody) -> Reply:
    """Say how a run goes on whose step failed for good."""
    services = house().services
    live = house().engine.live(path.id)
    line = live.workflow.line(step_of(body.address))
    kind = kinds().get(line.kind) if line else None
    value = kind.fallback(body.text) if kind else {"text": body.text}
    event = flow.Judged(at=services.clock(), address=body.address, choice=body.choice, value=value, by=g.user.name)
    _record(path.id, event, f"decided on a failure: {body.choice}", "This is decided already")
    return send(Fine())


@bp.post("/runs/<int:id>/pause", responses={200: Fine, 409: Problem})
@needs("maker")
def pause(path: RunPath) -> Reply:
    """Have a run stop where it stands until it is let go on."""
    event = flow.Held(at=house().services.clock(), reason="person", message=f"Paused by {g.user.name}.")
    _record(path.id, event, "paused a run", "This run cannot be paused")
    return send(Fine())


@bp.post("/runs/<int:id>/release", responses={200: Fine, 409: Problem})
@needs("maker")
def release(path: RunPath) -> Reply:
    """Let a paused run go on; a limit it had reached is granted once more."""
    _record(path.id, flow.Released(at=house().services.clock(), by=g.user.name), "let a run go on", "This run is not paused")
    return send(Fine())


@bp.post("/runs/<int:id>/again", responses={201: Began, 409: Problem})
@needs("maker")
def again(path: RunPath) -> Reply:
    """Carry a run out again: a new run on the same starting item, on the live revision."""
    engine, services = house().engine, house().services
    live = engine.live(path.id)
    with engine.transaction() as tx:
        session = tx.session
        record = session.get_one(tables.WorkflowRecord, live.workflow_id)
        if record.revision_id is None:
            raise Refusal("This workflow has never been live.", 409)
        title = session.get_one(tables.Run, path.id).title
        run_id = engine.begin(tx, live.workflow_id, live.state.values[live.workflow.start.id], title)
        audit(session, services.clock(), g.user.email, "carried a run out again", str(path.id))
    return send(Began(run=run_id), 201)


def _record(run_id: int, event: flow.Event, did: str, refused: str) -> None:
    # What goes with an event is written by the engine's own thread, where no request is known.
    services, who = house().services, g.user.email
    try:
        house().engine.record(run_id, event, lambda s: audit(s, services.clock(), who, did, str(run_id)))
    except flow.FlowError as error:
        raise Refusal(f"{refused}: {error}.", 409) from None


@bp.post("/runs/<int:id>/cancel", responses={200: Fine, 409: Problem})
@needs("maker")
def cancel(path: RunPath) -> Reply:
    """End a run that is under way. What already went out stays out."""
    event = flow.Cancelled(at=house().services.clock(), by=g.user.name)
    _record(path.id, event, "cancelled a run", "This run has already ended")
    return send(Fine())


@bp.post("/runs/<int:id>/keep", responses={200: Fine})
@needs("maker")
def keep(path: RunPath) -> Reply:
    """Keep the run's starting item as a sample of its workflow."""
    live = house().engine.live(path.id)
    services = house().services
    with services.store.write() as session:
        run = session.get_one(tables.Run, path.id)
        workflows.add_sample(session, run.workflow_id, live.state.values[live.workflow.start.id], "run", services.clock())
    return send(Fine())


@bp.post("/pieces/<int:id>/decide", responses={200: Fine, 409: Problem})
@needs("reviewer")
def decide(path: RunPath, body: PieceChoice) -> Reply:
    """Settle a piece in doubt: it went out, send it again, or drop it."""
    try:
        house().engine.outbox.decide(path.id, body.choice, g.user.name)
    except ValueError as error:
        raise Refusal(str(error), 409) from None
    return send(Fine())
