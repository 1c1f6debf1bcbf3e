"""Pondside: a network of short posts. Micropub (W3C), JSON and form-encoded, with source queries by ``uid``."""

from __future__ import annotations

import base64
import datetime as dt
import time
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for

from . import faults
from .sites import state

bp = Blueprint("pondside", __name__, url_prefix="/pondside")
LIMIT = 300


@bp.get("/")
def wall() -> str:
    return render_template("pondside.html", posts=[_shown(p) for p in reversed(state().posts)])


@bp.get("/posts/<int:number>")
def post(number: int) -> str:
    found = [_shown(p) for p in state().posts if p["id"] == number]
    return render_template("pondside.html", posts=found or abort(404))


@bp.route("/micropub", methods=["GET", "POST"])
def micropub() -> Response:
    mode = state().fault("network") if request.method == "POST" else _querying()
    early = faults.common(mode)
    if early is not None:
        return early
    if request.headers.get("Authorization") != f"Bearer {state().token}" or mode == "refuse":
        return _error("forbidden", "This key may not post here.", 403)
    if request.method == "GET":
        return _query(mode)
    properties = _properties()
    content = str((properties.get("content") or [""])[0])
    if not content.strip():
        return _error("invalid_request", "A post needs some content.", 400)
    if len(content) > LIMIT:
        return _error("invalid_request", f"A post has at most {LIMIT} characters; this one has {len(content)}.", 400)
    uid = str((properties.get("uid") or [request.headers.get("Idempotency-Key", "").strip('"')])[0])
    photo = request.files.get("photo")
    shown = _kept_photo(photo.read(), photo.mimetype) if photo else str((properties.get("photo") or [""])[0])
    number = _store(content, uid, shown)
    if mode in ("lost", "mute"):
        if mode == "mute":
            state().set_fault("network-query", "mute", 20)
        faults.drop()
    location = url_for("pondside.post", number=number, _external=True)
    return Response("", 201, {"Location": location})


def _kept_photo(content: bytes, kind: str) -> str:
    """A photo that came with a post, as it is kept: a data address."""
    return f"data:{kind};base64,{base64.b64encode(content).decode()}"


def _store(content: str, uid: str, photo: str = "") -> int:
    town = state()
    with town.lock:
        for known in town.posts:
            if uid and known["uid"] == uid:
                return int(known["id"])
        number = len(town.posts) + 1
        town.posts.append({"id": number, "content": content, "uid": uid, "at": time.time(), "by": "Hedge Lane", "photo": photo})
        town.save()
        return number


def _querying() -> str:
    return "mute" if state().fault("network-query") == "mute" else ""


def _query(mode: str) -> Response:
    asked = request.args.get("q")
    if asked == "config":
        return jsonify({"destination": [{"uid": "pondside", "name": "Hedge Lane on Pondside"}], "q": ["config", "source"]})
    if asked == "source" and mode != "mute":
        limit = min(request.args.get("limit", 20, type=int), 100)
        items = [
            {
                "type": ["h-entry"],
                "properties": {
                    "content": [p["content"]],
                    "uid": [p["uid"]],
                    "url": [url_for("pondside.post", number=p["id"], _external=True)],
                },
            }
            for p in reversed(state().posts[-limit:])
        ]
        return jsonify({"items": items})
    return _error("invalid_request", "This cannot be asked here.", 400)


def _properties() -> dict[str, Any]:
    data = request.get_json(silent=True)
    if isinstance(data, dict):
        found = data.get("properties")
        return found if isinstance(found, dict) else {}
    return {name.removesuffix("[]"): request.form.getlist(name) for name in request.form}


def _error(code: str, words: str, status: int) -> Response:
    response = jsonify({"error": code, "error_description": words})
    response.status_code = status
    return response


def _shown(post: dict[str, Any]) -> dict[str, Any]:
    return post | {"when": f"{dt.datetime.fromtimestamp(post['at']):%-d %B %Y, %H:%M}"}
