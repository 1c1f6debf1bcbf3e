"""Public forms, for anybody who has their address."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import request
from flask_openapi3 import Tag
from pydantic import BaseModel

from ...core.workflow.plans import FormPlan
from ...runtime import files, links
from ...runtime.execution import plan_of
from ...runtime.runs import title_of
from ...steps import kinds
from ...steps.shared.fields import FormField, read_fields
from ...store import tables
from ..http.base import Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import room
from .starts import start_of

bp = Part("forms", __name__, url_prefix="/api", abp_tags=[Tag(name="starts")])
TRAP = "leave_this_empty"
LARGEST_FORM = 110_000_000
CLOSED = "This form is closed at the moment. Nothing was sent."


class TokenPath(BaseModel):
    token: str


class Thanks(BaseModel):
    says: str


class FormView(BaseModel):
    """A public form."""

    heading: str
    intro: str
    fields: list[FormField]
    button: str
    open: bool


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
    if not house().crowd.allows(f"{record.id}:{request.remote_addr}", plan.hourly, 3600, services.clock()):
        raise Refusal("This form was sent very often from here. Please try again in an hour.", 429)
    if not house().crowd.allows(f"{record.id} altogether", plan.daily, 86_400, services.clock()):
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
    record, start = start_of(number)
    plan = plan_of(start) if start is not None and start.kind in kinds() else None
    if record is None or not isinstance(plan, FormPlan):
        raise Refusal("There is no form at this address.", 404)
    return record, plan
