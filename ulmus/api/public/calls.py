"""Calls from other systems (webhooks), for whoever holds their address or signs them."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any

from flask import Blueprint, Response, request

from ...core.slots import parse, render
from ...core.values import NotPlain
from ...core.workflow.plans import CallInPlan
from ...runtime import links
from ...runtime.calls import LARGEST_BODY, Answers, CallRefused, prove, read_body
from ...runtime.execution import plan_of
from ...runtime.runs import title_of
from ...steps import kinds
from ...store import tables
from ..http.base import house
from ..security.auth import room
from .starts import start_of

outside = Blueprint("calls", __name__)


@outside.post("/call/<token>")
@room(LARGEST_BODY)
def call(token: str) -> Any:
    """A webhook: begin a run, answered at once or with its result."""
    services = house().services
    body = request.get_data(cache=False)
    now = services.clock()
    try:
        number = links.read_key(services.sealer.key, "call", token)
        record, start = start_of(number)
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
        if not house().crowd.allows(f"call:{number}:{request.remote_addr}", 1200, 60, now):
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
    if not house().crowd.allows(f"run:{number}", 100, 60, services.clock()):
        return {"message": "Too many calls for this run."}, 429
    with services.store.read() as session:
        run = session.get(tables.Run, number)
    if run is None or run.ended_at is not None:
        return {"message": "This run has ended; it waits for nothing."}, 410
    house().engine.arrivals.arrive(number, {**item, "query": dict(request.args)} if request.args else item)
    return {"message": "Taken."}, 202
