"""What people of a team look at: the outreach service that leads are handed to, changes of customers, and the team's room.

None of them drops doubles by itself: a call that comes twice is there twice, but where it carries a key the service knows.
"""

from __future__ import annotations

import datetime as dt
import time
from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .granting import is_granted
from .office import CUSTOMERS
from .sites import state

bp = Blueprint("team", __name__)
KEY, ROOM = "contacts-key", "room-b7f2"
LONGEST = 500


def _guarded(outside: str) -> tuple[AnyResponse | None, str]:
    mode = state().fault(outside)
    if (early := faults.common(mode)) is not None:
        return early, mode
    if request.headers.get("Authorization") != f"Bearer {KEY}" and not is_granted(request.headers.get("Authorization")):
        return _problem(401, "The key is missing or wrong."), mode
    return None, mode


def _problem(status: int, detail: str) -> Response:
    answer = jsonify({"title": "Refused", "detail": detail, "status": status})
    answer.status_code, answer.mimetype = status, "application/problem+json"
    return answer


def _done(answer: AnyResponse, mode: str) -> AnyResponse:
    if mode == "lost":
        faults.drop()
    return answer


# -- outreach -----------------------------------------------------------------------------------------


@bp.get("/outreach/api")
@bp.get("/customers/api")
def index() -> AnyResponse:
    """What the services say of themselves to whoever may ask."""
    early, _ = _guarded("outreach" if request.path.startswith("/outreach") else "contacts")
    return early or jsonify({"about": "a service of the practice town"})


@bp.route("/outreach/api/leads", methods=["GET", "POST"])
def leads() -> AnyResponse:
    """Leads by their address, and a new one."""
    early, mode = _guarded("outreach")
    if early is not None:
        return early
    town = state()
    if request.method == "GET":
        wanted = request.args.get("email", "")
        return jsonify({"leads": [lead for lead in town.leads if not wanted or lead["email"] == wanted]})
    given: Any = request.get_json(silent=True)
    if not isinstance(given, dict) or "@" not in str(given.get("email", "")):
        return _problem(422, "A lead needs an email.")
    key = request.headers.get("Idempotency-Key", "").strip('"') if town.habits.get("keys", 1) else ""
    with town.working():
        known = next((lead for lead in town.leads if key and lead["key"] == key), None)
        if known is None:
            known = {**given, "id": len(town.leads) + 1, "key": key, "at": time.time()}
            town.leads.append(known)
            town.save()
    place = url_for("team.lead", number=known["id"], _external=True)
    answer = jsonify({"id": known["id"], "state": "taken"})
    answer.status_code, answer.headers["Location"] = 201, place
    return _done(answer, mode)


@bp.get("/outreach/api/leads/<int:number>")
def lead(number: int) -> AnyResponse:
    early, _ = _guarded("outreach")
    found = next((lead for lead in state().leads if lead["id"] == number), None)
    return early or (jsonify(found) if found else _problem(404, "There is no such lead."))


@bp.get("/outreach")
def outreach() -> str:
    return render_template("outreach.html", leads=[_shown(one) for one in reversed(state().leads)])


# -- customers ----------------------------------------------------------------------------------------


@bp.route("/customers/api/<record>", methods=["PATCH", "PUT", "DELETE"])
def change(record: str) -> AnyResponse:
    """Change a customer; each change is kept, the same one twice as two."""
    early, mode = _guarded("contacts")
    if early is not None:
        return early
    if record not in {customer["id"] for customer in CUSTOMERS}:
        return _problem(404, f"There is no record {record}.")
    given: Any = request.get_json(silent=True) if request.method != "DELETE" else {}
    if not isinstance(given, dict):
        return _problem(422, "A change is names with values.")
    town = state()
    with town.lock:
        town.changes.append({"record": record, "how": request.method, "given": given, "at": time.time()})
        town.save()
    return _done(jsonify({"id": record, **given}), mode)


# -- the room -----------------------------------------------------------------------------------------


@bp.post("/room/<token>")
def say(token: str) -> AnyResponse:
    """An address that takes messages as JSON: ``{"message": {"body": …}}``."""
    mode = state().fault("room")
    if (early := faults.common(mode)) is not None:
        return early
    if token != ROOM:
        return Response("No such room.", 404)
    given: Any = request.get_json(silent=True)
    body = given.get("message", {}).get("body") if isinstance(given, dict) and isinstance(given.get("message"), dict) else None
    if not isinstance(body, str) or not body.strip():
        return Response("A message has a body.", 400)
    if len(body) > LONGEST:
        return Response(f"A message has at most {LONGEST} characters.", 413)
    with state().working():
        state().messages.append({"id": len(state().messages) + 1, "body": body, "at": time.time()})
        state().save()
    return _done(Response("", 204), mode)


@bp.get("/room")
def room() -> str:
    return render_template(
        "room.html", messages=[_shown(one) for one in state().messages], address=url_for("team.say", token=ROOM, _external=True)
    )


def _shown(one: dict[str, Any]) -> dict[str, Any]:
    return one | {"when": f"{dt.datetime.fromtimestamp(one['at']):%-d %B, %H:%M}"}
