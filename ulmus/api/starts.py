"""Starts: what a workflow listens to and when it is next due; starting by hand; forms and calls from outside."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any

from flask import Blueprint, Response, g, request
from flask_openapi3 import APIBlueprint, FileStorage, Tag
from pydantic import BaseModel, Field

from ..core.recurrence import Plain, RecurrenceError, due, plain_of, quiet_hours, rule_of, words_of
from ..core.slots import parse, render
from ..core.values import NotPlain
from ..core.workflow import Line, Workflow
from ..core.workflow.plans import STARTS, CallInPlan, ClockPlan, FormPlan, HandPlan
from ..runtime import files, links
from ..runtime.calls import LARGEST_BODY, Answers, CallRefused, Crowd, prove, read_body
from ..runtime.execution import plan_of
from ..runtime.runs import counted, title_of
from ..runtime.services import audit
from ..steps import kinds
from ..steps.shared.fields import FormField, read_fields
from ..store import tables
from .auth import needs, room
from .base import Body, Fine, Problem, Refusal, Reply, house, send, uploaded

#: Kept files that are shown: pictures that hold nothing that could act.
SHOWN = frozenset({"image/png", "image/jpeg", "image/webp", "image/gif"})

bp = APIBlueprint("starts", __name__, url_prefix="/api", abp_tags=[Tag(name="starts")])
outside = Blueprint("calls", __name__)
TRAP = "leave_this_empty"
LARGEST_FORM = 110_000_000
CLOSED = "This form is closed at the moment. Nothing was sent."
_crowd = Crowd()


class StartPath(BaseModel):
    id: int


class TokenPath(BaseModel):
    token: str


class FilePath(BaseModel):
    sha: str = Field(pattern="^[0-9a-f]{64}$")


class Upload(Body):
    """Multipart form data."""

    file: FileStorage


class KeptFile(BaseModel):
    """A file as a value: where it can be fetched, and what it is."""

    name: str
    type: str
    size: int
    link: str


class StartView(BaseModel):
    """What a start listens to: how, what it last found, when it is next due, and the addresses others need; `passed` are the
    titles of items that were passed over because they bear a date long before it went live."""

    kind: str
    listens: str
    live: bool
    looked_at: float | None = None
    next_at: float | None = None
    found: str = ""
    failed: bool = False
    next_times: list[str] = []
    form_url: str = ""
    call_url: str = ""
    call_secret: str = ""
    fields: list[dict[str, Any]] = []
    runs: int = 0
    queued: int = 0
    by_hand: bool = False
    passed: list[str] = []


class ByHand(Body):
    """What was filled in; or the number of a sample to begin with. `key` is made by the screen: the same key begins one run,
    also where its answer was lost. `again`: although the sample's item was in a run before."""

    values: dict[str, Any] = {}
    sample: int | None = None
    key: str = Field("", max_length=100)
    again: bool = False


class Began(BaseModel):
    run: int


class Passed(Body):
    """Whether the items are to be run for."""

    run: bool


class PlainView(Body):
    how: str = Field(pattern="^(minutes|hours|daily|weekly|monthly|nth)$")
    every: int = Field(1, ge=1, le=10_000)
    times: list[str] = ["08:00"]
    days: list[str] = ["MO"]
    day: int = Field(1, ge=-1, le=31)
    nth: int = Field(1, ge=-1, le=4)


class ScheduleBody(Body):
    """A schedule as a rule, or in plain words."""

    rule: str = Field("", max_length=4000)
    plain: PlainView | None = None
    zone: str = Field("UTC", max_length=60)
    quiet: str = Field("", max_length=20)
    count: int = Field(5, ge=1, le=50)


class ScheduleView(BaseModel):
    """The rule, how it reads, the plain words behind it where there are any, and the next times (ISO 8601)."""

    rule: str
    words: str
    plain: PlainView | None
    next: list[str]


class FormView(BaseModel):
    """A public form."""

    heading: str
    intro: str
    fields: list[FormField]
    button: str
    open: bool


class Thanks(BaseModel):
    says: str


@bp.get("/workflows/<int:id>/start", responses={200: StartView})
@needs("reader")
def show(path: StartPath) -> Reply:
    """How a workflow's start stands."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        start = session.get(tables.Start, path.id)
        begun = counted(session, "runs", path.id)
        runs, queued = sum(begun.values()), begun.get("queued", 0)
    line = Workflow.model_validate(record.document).start
    kind = kinds().get(line.kind)
    live = record.state == "live"
    plan = plan_of(line) if kind is not None else None
    view = StartView(kind=line.kind, listens=plan.listens if isinstance(plan, STARTS) else "", live=live, runs=runs, queued=queued)
    if start is not None and live:
        view.looked_at, view.next_at, view.found, view.failed = start.looked_at, start.next_at, start.found, start.failed
        view.passed = [title_of(one["item"]) for one in start.memory.get("passed", [])]
    if isinstance(plan, ClockPlan):
        view.next_times = _times(plan)
    base, key = services.public_url, services.sealer.key
    if isinstance(plan, FormPlan):
        view.form_url = f"{base}/form/{links.sign_key(key, 'form', path.id)}"
    if isinstance(plan, CallInPlan) and g.user.role in ("owner", "maker"):
        view.call_url = f"{base}/call/{links.sign_key(key, 'call', path.id)}"
        view.call_secret = links.call_secret(key, path.id)
    if isinstance(plan, HandPlan):
        view.by_hand, view.fields = True, [field.model_dump(mode="json") for field in plan.fields]
    return send(view)


def _times(plan: ClockPlan, count: int = 5) -> list[str]:
    try:
        quiet = quiet_hours(plan.quiet) if plan.quiet else None
        now = dt.datetime.fromtimestamp(house().services.clock(), dt.UTC)
        return [m.isoformat() for m in due(plan.rule, plan.zone, now, count, quiet)]
    except RecurrenceError:
        return []


@bp.post("/workflows/<int:id>/start", responses={201: Began, 409: Problem, 422: Problem})
@needs("maker")
def by_hand(path: StartPath, body: ByHand) -> Reply:
    """Begin a run now, for real: by hand with its fields, or on a sample."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        sample = session.get(tables.Sample, body.sample) if body.sample is not None else None
        revision = session.get(tables.Revision, record.revision_id) if record.revision_id else None
    if revision is None or record.state != "live":
        raise Refusal("This workflow is not live. Make it live first.", 409)
    start = Workflow.model_validate(revision.document).start
    if sample is not None:
        item = dict(sample.item)
    elif isinstance(plan := plan_of(start), HandPlan):
        values, wrong = read_fields(plan.fields, body.values)
        if wrong:
            problems = [{"where": name, "message": words} for name, words in wrong.items()]
            raise Refusal("Some fields need another look.", 422, problems=problems)
        item = {**values, "title": title_of(values) if values else f"By hand, {g.user.name}", "by": g.user.email}
    else:
        raise Refusal("Choose a sample to begin with.", 422)
    runs = house().engine.runs
    pressed = f"pressed:{body.key}" if body.key else ""
    if pressed and (before := runs.begun_by(path.id, pressed)) is not None:
        return send(Began(run=before), 201)
    identity = sample.identity if sample is not None else ""
    is_row = identity.startswith("row:")
    if is_row and not body.again and (before := runs.begun_by(path.id, identity)) is not None:
        words = f"This row is in hand already: run {before} was begun with it. Run on it again only if you mean to."
        raise Refusal(words, 409, code="in_hand")
    run = runs.push(path.id, item, identity if is_row else None, [pressed] if pressed else [], again=is_row)
    if run is None:
        raise Refusal("This was begun already.", 409)
    with services.store.write() as session:
        audit(session, services.clock(), g.user.email, "started a run by hand", record.name)
    return send(Began(run=run), 201)


@bp.post("/workflows/<int:id>/grant", responses={200: Fine, 409: Problem})
@needs("maker")
def grant(path: StartPath) -> Reply:
    """Let a workflow that reached its limit of runs a day begin as many once more today."""
    services = house().services
    with services.store.write() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        if record.revision_id is None:
            raise Refusal("This workflow has never been live.", 409)
        audit(session, services.clock(), g.user.email, "let more runs begin today", record.name)
    house().engine.runs.grant_today(path.id)
    house().engine.polling.hurry()
    services.bus.say("workflow", id=path.id)
    return send(Fine())


@bp.post("/workflows/<int:id>/passed", responses={200: Fine, 409: Problem})
@needs("maker")
def passed(path: StartPath, body: Passed) -> Reply:
    """Begin runs for the items that were passed over for their dates, or leave them for good."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
    if record.state != "live":
        raise Refusal("This workflow is not live.", 409)
    count = house().engine.polling.run_for_passed(path.id, body.run)
    if count and body.run:
        with services.store.write() as session:
            audit(session, services.clock(), g.user.email, "ran for old items", f"{record.name}, {count}")
    return send(Fine())


@bp.post("/workflows/<int:id>/look", responses={200: Fine, 409: Problem})
@needs("maker")
def look(path: StartPath) -> Reply:
    """Look at the start now, without waiting for its time."""
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
    if record.state != "live":
        raise Refusal("This workflow is not live.", 409)
    house().engine.polling.look_at(path.id)
    return send(Fine())


@bp.post("/schedule", responses={200: ScheduleView, 422: Problem})
@needs("reader")
def schedule(body: ScheduleBody) -> Reply:
    """A schedule's rule, words and next times."""
    try:
        if body.plain is not None:
            p = body.plain
            rule = rule_of(Plain(p.how, p.every, tuple(p.times), tuple(p.days), p.day, p.nth))  # type: ignore[arg-type]
        else:
            rule = body.rule
        quiet = quiet_hours(body.quiet) if body.quiet else None
        now = dt.datetime.fromtimestamp(house().services.clock(), dt.UTC)
        moments = due(rule, body.zone, now, body.count, quiet)
    except RecurrenceError as error:
        raise Refusal(str(error), 422) from None
    plain = plain_of(rule)
    view = None
    if plain is not None:
        view = PlainView(
            how=plain.how, every=plain.every, times=list(plain.times), days=list(plain.days), day=plain.day, nth=plain.nth
        )
    return send(ScheduleView(rule=rule, words=words_of(rule), plain=view, next=[m.isoformat() for m in moments]))


@bp.post("/files", responses={201: KeptFile, 422: Problem})
@needs("maker")
@room(LARGEST_FORM)
def keep_file(form: Upload) -> Reply:
    """Keep a file, for a sample or a run by hand: it becomes a value."""
    file = uploaded()
    kept = files.keep(house().services, file.filename or "file", file.mimetype, file.stream.read())
    return send(KeptFile(**kept), 201)


@bp.get("/files/<sha>")
@needs("reader")
def file(path: FilePath) -> Response:
    """A kept file: a picture to be looked at, anything else to be saved and not shown."""
    found = files.fetch(house().services, path.sha)
    if found is None:
        raise Refusal("This file is not here.", 404)
    record, content = found
    name = record.name.encode("ascii", "replace").decode().replace('"', "'")
    shown = record.type in SHOWN
    way = "inline" if shown else "attachment"
    headers = {"Content-Disposition": f'{way}; filename="{name}"', "Content-Security-Policy": "sandbox"}
    if shown:
        headers["Cache-Control"] = "private, max-age=86400, immutable"
    return Response(content, mimetype=record.type if shown else "application/octet-stream", headers=headers)


# -- forms --------------------------------------------------------------------------------------------


@bp.get("/forms/<token>", responses={200: FormView, 404: Problem})
def form(path: TokenPath) -> Reply:
    """A public form, for anybody who has its address."""
    record, plan = _form(path.token)
    return send(
        FormView(
            heading=plan.heading,
            intro=plan.intro,
            fields=list(plan.fields),
            button=plan.button,
            open=record.state == "live",
        )
    )


@bp.post("/forms/<token>", responses={200: Thanks, 404: Problem, 409: Problem, 422: Problem, 429: Problem})
@room(LARGEST_FORM)
def fill_in(path: TokenPath) -> Reply:
    """Take a form that was filled in (multipart form data) and begin a run."""
    services = house().services
    record, plan = _form(path.token)
    if record.state != "live":
        raise Refusal(CLOSED, 409)
    if request.form.get(TRAP, ""):
        # Only a program fills in a field that nobody sees; it is thanked and forgotten.
        return send(Thanks(says=plan.thanks))
    given: dict[str, Any] = {k: v for k, v in request.form.items() if k != TRAP}
    uploads = {k: f for k, f in request.files.items() if f.filename}
    given |= {k: {"name": f.filename, "type": f.mimetype, "size": f.stream.seek(0, 2)} for k, f in uploads.items()}
    values, wrong = read_fields(plan.fields, given)
    if wrong:
        problems = [{"where": name, "message": words} for name, words in wrong.items()]
        raise Refusal("Some fields need another look.", 422, problems=problems)
    if not _crowd.allows(f"{record.id}:{request.remote_addr}", plan.hourly, 3600, services.clock()):
        raise Refusal("This form was sent very often from here. Please try again in an hour.", 429)
    if not _crowd.allows(f"{record.id} altogether", plan.daily, 86_400, services.clock()):
        raise Refusal("This form was sent very often today. Please try again tomorrow.", 429)
    for name, upload in uploads.items():
        upload.stream.seek(0)
        values[name] = files.keep(services, upload.filename or "file", upload.mimetype, upload.stream.read())
    sent = dt.datetime.fromtimestamp(services.clock(), dt.UTC).isoformat(timespec="seconds")
    try:
        house().engine.runs.push(record.id, {"title": title_of(values), **values, "sent": sent})
    except ValueError:
        raise Refusal(CLOSED, 409) from None
    return send(Thanks(says=plan.thanks))


def _form(token: str) -> tuple[tables.WorkflowRecord, FormPlan]:
    services = house().services
    try:
        number = links.read_key(services.sealer.key, "form", token)
    except links.LinkError as error:
        raise Refusal(str(error), 404) from None
    record, start = _start(number)
    plan = plan_of(start) if start is not None and start.kind in kinds() else None
    if record is None or not isinstance(plan, FormPlan):
        raise Refusal("There is no form at this address.", 404)
    return record, plan


def _start(workflow_id: int) -> tuple[tables.WorkflowRecord | None, Line | None]:
    """The start a workflow listens with: that of its live revision, or of the page where it was never live."""
    with house().services.store.read() as session:
        record = session.get(tables.WorkflowRecord, workflow_id)
        if record is None:
            return None, None
        revision = session.get(tables.Revision, record.revision_id) if record.revision_id else None
    return record, Workflow.model_validate(revision.document if revision else record.document).start


# -- calls --------------------------------------------------------------------------------------------


@outside.post("/call/<token>")
@room(LARGEST_BODY)
def call(token: str) -> Any:
    """A webhook: begin a run, answered at once or with its result."""
    services = house().services
    body = request.get_data(cache=False)
    now = services.clock()
    try:
        number = links.read_key(services.sealer.key, "call", token)
        record, start = _start(number)
        plan = plan_of(start) if start is not None and start.kind in kinds() else None
        if record is None or start is None or not isinstance(plan, CallInPlan):
            raise CallRefused("There is nothing to call at this address.", 404)
        signed = plan.signed
        names: list[str] = []
        if signed:
            secret, query = links.call_secret(services.sealer.key, number), request.query_string.decode("latin-1")
            names.append(prove(secret, request.headers, request.method, request.path, query, body, now))
        elif key := request.headers.get("Idempotency-Key", "")[:200]:
            names.append(f"call:key:{key}")
        if not _crowd.allows(f"call:{number}:{request.remote_addr}", 1200, 60, now):
            raise CallRefused("Too many calls; at most 1,200 a minute.", 429)
        found = read_body(None if signed else request.content_type or "", body)
    except links.LinkError as error:
        return {"message": str(error)}, 404
    except CallRefused as error:
        return {"message": str(error)}, error.status
    arrived = dt.datetime.fromtimestamp(now, dt.UTC).isoformat(timespec="seconds")
    item = {"body": found, "query": dict(request.args), "arrived": arrived, "title": ""}
    title = render(parse(plan.title), {start.id: item}).text
    item["title"] = (title.strip() or title_of(found) if found else title) or f"Call at {arrived}"
    known_by = render(parse(plan.known_by), {start.id: item}).text.strip()
    if known_by:
        names.insert(0, f"call:by:{known_by}"[:500])
    try:
        run = house().engine.runs.push(number, item, names[0] if names else None, names[1:])
    except NotPlain as error:
        return {"message": f"This call cannot be taken: {error}."}, 400
    except ValueError:
        return {"message": "This workflow is not live at the moment. Nothing was taken."}, 409
    if run is None:
        return {"message": "This call was taken before.", "taken": False}, 200
    if not plan.answers_later:
        return {"message": "Taken.", "taken": True, "run": run}, 202
    state, result = Answers(house().services, house().engine.writer).result(run, plan.reply, plan.seconds)
    status = 200 if state in ("done", "skipped") else 202 if state == "running" else 422
    return Response(json.dumps({"state": state, "run": run, "result": result}), status, mimetype="application/json")


@outside.post("/call/run/<token>")
@room(LARGEST_BODY)
def call_run(token: str) -> Any:
    """A call for a run that waits for one."""
    services = house().services
    try:
        number = links.read_key(services.sealer.key, "run", token)
        item = read_body(request.content_type or "", request.get_data(cache=False))
    except links.LinkError as error:
        return {"message": str(error)}, 404
    except CallRefused as error:
        return {"message": str(error)}, error.status
    if not _crowd.allows(f"run:{number}", 100, 60, services.clock()):
        return {"message": "Too many calls for this run."}, 429
    with services.store.read() as session:
        run = session.get(tables.Run, number)
    if run is None or run.ended_at is not None:
        return {"message": "This run has ended; it waits for nothing."}, 410
    house().engine.arrivals.arrive(number, {**item, "query": dict(request.args)} if request.args else item)
    return {"message": "Taken."}, 202
