"""Workflows: the list, the page's document, going live, pausing, files out and in."""

from __future__ import annotations

import textwrap
from typing import Any

from flask import Response, g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field
from sqlalchemy import select

from ...core.workflow import Workflow, WorkflowFileError, check, read_file, read_needs, sentence, write_file
from ...core.workflow.plans import CallInPlan
from ...core.workflow.sketch import blank_page
from ...protocols import opml
from ...protocols.errors import OutsideError
from ...readmodels.models import LineProblemView, PartView
from ...readmodels.views import is_pushed, problem_view
from ...runtime import clients, readiness, sharing, sketching, workflows
from ...runtime.execution import plan_of
from ...runtime.runs import counted, last_run, runs_a_day, title_of
from ...runtime.services import audit, world
from ...steps import kinds
from ...store import tables
from ..http.base import Body, Fine, Listing, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security import members
from ..security.auth import needs
from .samples import samples_of

bp = Part("workflows", __name__, url_prefix="/api", abp_tags=[Tag(name="workflows")])


class WorkflowPath(BaseModel):
    id: int


class WorkflowSummary(BaseModel):
    """A workflow in the list. `start` and `ends` are the sentences of its first line and of what it publishes."""

    id: int
    name: str
    brand: str
    state: str
    start: list[PartView]
    arc: list[str]
    looked_at: float | None = None
    found: str = ""
    failed: bool = False
    pushed: bool = False
    runs: int = 0
    waiting: int = 0
    failing: int = 0
    last_run: float | None = None


class Created(BaseModel):
    """A new workflow, with notes on what of a file was found here and what was not."""

    id: int
    notes: list[str] = []


class LiveQuery(Body):
    """How many a day of the items that are already there are to be run for; 0 passes over them."""

    a_day: int = Field(0, ge=0, le=10_000)


class BeforeView(BaseModel):
    """What is missing or risky; how many items are there for its start already, some of their titles, of which kind of start;
    and how many runs a day it may begin."""

    problems: list[LineProblemView]
    waiting: int
    titles: list[str]
    of: str
    day_runs: int | None


class FollowingView(BaseModel):
    """What became of a page that follows this one: for which brand, and why it stays on its former revision, where it does."""

    id: int
    brand: str
    wrong: str = ""


class LiveView(BaseModel):
    """The number of the revision, and what became of the pages that follow it."""

    revision: int
    following: list[FollowingView] = []


class DocumentBody(Body):
    """The page as a whole, with the version it was read at."""

    document: dict[str, Any]
    version: int


class Saved(BaseModel):
    version: int
    problems: list[LineProblemView]


class CopyBody(Body):
    """A new workflow: a file's content, a template by its key, a copy of an existing one, or (none of these) a blank page."""

    document: dict[str, Any] | None = None
    copy_of: int | None = None
    template: str = Field("", max_length=60)
    name: str = Field("", max_length=120)
    brand: str = Field("", max_length=60)


class SketchBody(Body):
    """A page from a description in words; `model` is the key of a model connection, empty for the first."""

    description: str = Field(min_length=8, max_length=4000)
    name: str = Field("", max_length=120)
    brand: str = Field("", max_length=60)
    model: str = Field("", max_length=60)


class TemplateView(BaseModel):
    """A page to begin from: what sets it off, and its lines as sentences."""

    key: str
    name: str
    about: str
    start: list[PartView]
    lines: list[list[PartView]]


@bp.get("/workflows", responses={200: Listing[WorkflowSummary]})
@needs("reader")
def listing() -> Reply:
    """All workflows, live ones first."""
    with house().services.store.read() as session:
        records = list(session.scalars(select(tables.WorkflowRecord).where(tables.THERE)))
        around = world(session)
        brands = {b.key: b.name for b in session.scalars(select(tables.Brand))}
        starts = {s.workflow_id: s for s in session.scalars(select(tables.Start))}
        counts = {record.id: counted(session, "runs", record.id) for record in records}
        latest = {record.id: last_run(session, record.id) for record in records}
    out = []
    for record in records:
        workflow = Workflow.model_validate(record.document)
        known = kinds()
        start = starts.get(record.id)
        runs = counts[record.id]
        out.append(
            WorkflowSummary(
                id=record.id,
                name=record.name,
                brand=brands.get(record.brand or "", ""),
                state=record.state,
                start=[
                    PartView(what=p.what, text=p.text) for p in sentence(workflow.start, known.get(workflow.start.kind), around)
                ],
                arc=list(
                    dict.fromkeys(
                        known[line.kind].stage
                        for line in workflow.every_step
                        if line.kind in known and known[line.kind].stage != "flow"
                    )
                ),
                looked_at=start.looked_at if start and record.state == "live" else None,
                found=start.found if start and record.state == "live" else "",
                failed=bool(start and start.failed and record.state == "live"),
                pushed=is_pushed(workflow.start),
                runs=sum(runs.values()),
                waiting=runs.get("asking", 0),
                failing=runs.get("failed", 0) + runs.get("unsure", 0),
                last_run=latest[record.id],
            )
        )
    out.sort(key=lambda w: ({"live": 0, "paused": 1}.get(w.state, 2), w.brand, w.name))
    return send(out)


@bp.post("/workflows", responses={201: Created, 422: Problem})
@needs("maker")
def create(body: CopyBody) -> Reply:
    """Make a workflow from a file's content or as a copy."""
    services = house().services
    with services.store.write() as session:
        if body.brand:
            members.whose(session, body.brand)
        if body.copy_of is not None:
            document = session.get_one(tables.WorkflowRecord, body.copy_of).document
            document = {**document, "name": body.name or f"{document['name']}, copy"[:120]}
            document |= {"brand": body.brand} if body.brand else {}
        elif body.template:
            if body.template not in sharing.templates():
                raise Refusal("This template is not here (any more).", 404)
            _, document = sharing.templates()[body.template]
            document = {**document, "name": body.name or document["name"], "brand": body.brand or None}
        elif body.document is not None:
            document = body.document
        else:
            document = blank_page(body.name or "A new page", body.brand, kinds()).model_dump(mode="json")
        page, notes = sharing.settle(session, _read(members.page_of(session, document)), read_needs(document))
        page = sharing.with_person(page, g.user.email) if body.template else page
        id_ = workflows.create(session, page, services.clock(), g.user.email)
    return send(Created(id=id_, notes=notes), 201)


@bp.post("/workflows/sketch", responses={201: Created, 502: Problem})
@needs("maker")
def sketched(body: SketchBody) -> Reply:
    """Have a model turn a description into a page; it is to be looked through, and nothing of it runs by itself."""
    services = house().services
    try:
        found, usage = sketching.sketch_page(
            services, body.description, blank_page(body.name, body.brand, kinds()), body.model, g.user.email
        )
    except OutsideError as error:
        raise Refusal(error.message, 502) from None
    with services.store.write() as session:
        page = found.workflow.model_copy(update={"brand": members.whose(session, found.workflow.brand or "")})
        id_ = workflows.create(session, page, services.clock(), g.user.email)
        audit(session, services.clock(), g.user.email, "had a page drafted", f"{found.workflow.name}: {usage.cost:.4f}")
    words = textwrap.shorten(body.description, 200, placeholder=" …").rstrip(".")
    return send(Created(id=id_, notes=[f"Drafted from “{words}”. Look through each line.", *found.notes]), 201)


@bp.get("/templates", responses={200: Listing[TemplateView]})
@needs("reader")
def templates() -> Reply:
    """Pages to begin from, the shortest first; those that another system sets off come last."""
    with house().services.store.read() as session:
        around = world(session)
    out = []
    for key, (about, document) in sharing.templates().items():
        page = _read(document)
        told = {line.id: sentence(line, kinds().get(line.kind), around) for line in page.lines}
        views = {id_: [PartView(what=p.what, text=p.text) for p in parts] for id_, parts in told.items()}
        start = views.pop(page.start.id)
        view = TemplateView(key=key, name=page.name, about=about, start=start, lines=list(views.values()))
        out.append((isinstance(plan_of(page.start), CallInPlan), len(page.lines), view))
    return send([view for *_, view in sorted(out, key=lambda one: one[:2])])


@bp.put("/workflows/<int:id>", responses={200: Saved, 409: Problem, 422: Problem})
@needs("maker")
def save(path: WorkflowPath, body: DocumentBody) -> Reply:
    """Save the page. Refused, with nothing overwritten, where someone else saved meanwhile."""
    services = house().services
    workflow = _read(body.document)
    members.stays(workflow.brand)
    with services.store.write() as session:
        try:
            version = workflows.save(session, path.id, workflow, body.version, services.clock())
        except workflows.SaveRefused as error:
            raise Refusal(str(error), 409) from None
        problems = check(workflow, kinds(), world(session))
    services.bus.publish("page", id=path.id, version=version)
    views = [problem_view(p) for p in problems]
    return send(Saved(version=version, problems=views))


@bp.delete("/workflows/<int:id>", responses={200: Fine, 409: Problem})
@needs("maker")
def remove(path: WorkflowPath) -> Reply:
    """Delete a workflow. The runs of one that has run stay to be read, and what it let out stays on record."""
    services = house().services
    with services.store.write() as session:
        try:
            clients.alone(session, path.id)
            workflows.remove(session, path.id, services.clock(), g.user.email)
        except ValueError as error:
            raise Refusal(str(error), 409) from None
    return send(Fine())


@bp.get("/workflows/<int:id>/before", responses={200: BeforeView})
@needs("reader")
def before(path: WorkflowPath) -> Reply:
    """Before it goes live: everything missing or risky, on the page, in its proofs and around it; and what is already there
    for its start."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        page = Workflow.model_validate(record.document)
        problems = check(page, kinds(), world(session))
        samples = [s for s in samples_of(session, path.id) if s.shown]
        line_problems = readiness.from_sheets(session, page) + readiness.from_circles(session, path.id, page)
    problems += readiness.from_proofs(page, samples, house().proofs.columns(page, samples))
    problems += readiness.from_texts(page, (".example",) if house().town else ()) + line_problems
    order = {line.id: n for n, line in enumerate(page.lines)}
    problems.sort(key=lambda p: (p.severity != "error", order.get(p.step, 0)))
    waiting = workflows.waiting_for(house().engine, path.id)
    items = waiting.items if waiting is not None else []
    return send(
        BeforeView(
            problems=[problem_view(p) for p in problems],
            waiting=len(items),
            titles=[title_of(item) for _, item in items[:5]],
            of=page.start.kind,
            day_runs=runs_a_day(page),
        )
    )


@bp.post("/workflows/<int:id>/live", responses={200: LiveView, 403: Problem, 409: Problem})
@needs("maker")
def go_live(path: WorkflowPath, query: LiveQuery) -> Reply:
    """Make a revision and listen. What is already there is passed over, or run for, so many a day. Where the maker wants the tests of a
    prompt to hold first, they have to."""
    if clients.out_of_sight(house().services.store, path.id):
        raise Refusal(
            "Pages of other clients follow this one. Somebody who sees all of the house lets a change of it go live.", 403
        )
    with house().services.store.read() as session:
        page = Workflow.model_validate(session.get_one(tables.WorkflowRecord, path.id).document)
        samples = [s for s in samples_of(session, path.id) if s.shown]
    found = readiness.from_proofs(page, samples, house().proofs.columns(page, samples))
    if wrong := [p for p in found if p.severity == "error"]:
        told = [{"where": p.step, "message": p.message} for p in wrong]
        raise Refusal(f"This workflow is not ready: {wrong[0].message}", 409, problems=told)
    try:
        number = workflows.go_live(house().engine, path.id, g.user.email, query.a_day)
        followed = clients.renew(house().engine, path.id, g.user.email)
        return send(LiveView(revision=number, following=[FollowingView(**vars(one)) for one in followed]))
    except workflows.NotReady as error:
        raise Refusal(str(error), 409, problems=[{"where": p.step, "message": p.message} for p in error.problems]) from None


@bp.post("/workflows/<int:id>/pause", responses={200: Fine})
@needs("maker")
def pause(path: WorkflowPath) -> Reply:
    """Stop listening."""
    workflows.pause(house().engine, path.id, g.user.email)
    return send(Fine())


@bp.post("/workflows/<int:id>/away", responses={200: Fine})
@needs("maker")
def put_away(path: WorkflowPath) -> Reply:
    """Pause it and keep it out of the way."""
    workflows.put_away(house().engine, path.id, g.user.email)
    return send(Fine())


@bp.delete("/workflows/<int:id>/away", responses={200: Fine})
@needs("maker")
def bring_back(path: WorkflowPath) -> Reply:
    """Take it out again, paused."""
    workflows.bring_back(house().engine, path.id, g.user.email)
    return send(Fine())


@bp.get("/workflows/<int:id>/file")
@needs("reader")
def file(path: WorkflowPath) -> Response:
    """The workflow file."""
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        page = Workflow.model_validate(record.document)
        needs = sharing.needs_of(session, page)
    name = "".join(c if c.isalnum() else "-" for c in record.name.lower()).strip("-") or "workflow"
    return Response(
        write_file(page, needs),
        mimetype="application/json",
        headers={"Content-Disposition": f'attachment; filename="{name.encode("ascii", "ignore").decode() or "workflow"}.json"'},
    )


@bp.get("/feeds.opml")
@needs("reader")
def feed_list() -> Response:
    """Every feed the workflows look at, as OPML 2.0, in folders by brand."""
    found: dict[str, opml.Outline] = {}
    with house().services.store.read() as session:
        brands = {b.key: b.name for b in session.scalars(select(tables.Brand))}
        for record in session.scalars(select(tables.WorkflowRecord).where(tables.THERE).order_by(tables.WorkflowRecord.name)):
            for line in Workflow.model_validate(record.document).lines:
                kind = kinds().get(line.kind)
                named = str(line.settings.get(kind.names_feeds, "")) if kind is not None and kind.names_feeds else ""
                for one in (address for address in named.split() if address.startswith(("http://", "https://"))):
                    found.setdefault(one, opml.Outline(record.name, one, folder=brands.get(record.brand or "", "")))
    return Response(
        opml.write(list(found.values()), "Feeds of Ulmus"),
        mimetype="text/x-opml",
        headers={"Content-Disposition": 'attachment; filename="feeds.opml"'},
    )


def _read(document: dict[str, Any]) -> Workflow:
    try:
        return read_file(document)
    except WorkflowFileError as error:
        problems = [{"where": p.where, "message": p.message} for p in error.problems]
        words = "; ".join(f"{p.where.strip('/').replace('/', ' › ')}: {p.message}".lstrip(": ") for p in error.problems[:3])
        raise Refusal(words, 422, problems=problems) from None
