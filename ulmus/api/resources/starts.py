"""Starts: what a workflow listens to and when it is next due; starting by hand."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import g
from flask_openapi3 import Tag
from pydantic import BaseModel, Field

from ...core.recurrence import Plain, RecurrenceError, due, plain_of, quiet_hours, rule_of, words_of
from ...core.workflow import Workflow
from ...core.workflow.plans import STARTS, CallInPlan, ClockPlan, FormPlan, HandPlan
from ...runtime import links
from ...runtime.execution import plan_of
from ...runtime.runs import counted, title_of
from ...runtime.services import audit
from ...steps import kinds
from ...steps.shared.fields import read_fields
from ...store import tables
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import needs

bp = Part("starts", __name__, url_prefix="/api", abp_tags=[Tag(name="starts")])


class StartPath(BaseModel):
    id: int


class StartView(BaseModel):
    """What a start listens to: how, what it last found, when it is next due, and the addresses others need; `passed` are the
    titles of items that were passed over because they bear a date long before it went live."""

    kind: str
    listens: str
    rests: str = ""
    """What it will do once the workflow is live, in words."""
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


@bp.get("/workflows/<int:id>/start", responses={200: StartView})
@needs("reader")
def show(path: StartPath) -> Reply:
    """How a workflow's start stands."""
    services = house().services
    with services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
        start = session.get(tables.Start, path.id)
        hub = session.get(tables.HubLine, path.id)
        begun = counted(session, "runs", path.id)
        runs, queued = sum(begun.values()), begun.get("queued", 0)
    line = Workflow.model_validate(record.document).start
    kind = kinds().get(line.kind)
    live = record.state == "live"
    plan = plan_of(line) if kind is not None else None
    view = StartView(kind=line.kind, live=live, listens="", runs=runs, queued=queued)
    if isinstance(plan, STARTS):
        view.listens, view.rests = plan.listens, plan.rests
    if start is not None and live:
        view.looked_at, view.next_at, view.found, view.failed = start.looked_at, start.next_at, start.found, start.failed
        if hub is not None and hub.until is not None and hub.until > services.clock():
            view.found = f"{view.found} Its hub tells of new items at once."
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
    house().engine.polling.wake()
    services.bus.publish("workflow", id=path.id)
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
    """Look at the start now, or begin now what waits for its time."""
    with house().services.store.read() as session:
        record = session.get_one(tables.WorkflowRecord, path.id)
    if record.state != "live":
        raise Refusal("This workflow is not live.", 409)
    house().engine.polling.look_at(path.id, asked=True)
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
