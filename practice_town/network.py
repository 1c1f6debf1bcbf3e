"""Pondside: a network of short posts. Micropub (W3C), JSON and form-encoded, with lists of its posts, in pages."""

from __future__ import annotations

import base64
import datetime as dt
import time
from dataclasses import replace
from typing import Any

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for

from . import faults
from .granting import is_granted
from .sites import state

bp = Blueprint("pondside", __name__, url_prefix="/pondside")
LIMIT = 300
TARGETS = {"mossgate": "Mossgate", "the-weir": "The Weir"}


@bp.get("/")
def wall() -> str:
    return render_template("pondside.html", posts=[_shown(p) for p in reversed(state().posts)])


@bp.get("/posts/<int:number>")
def post(number: int) -> str:
    found = [_shown(p) for p in state().posts if p["id"] == number]
    return render_template("pondside.html", posts=found or abort(404))


@bp.get("/api/numbers")
def numbers() -> Response:
    """How often a post was liked and passed on: of the one with the address in ``of``, for whoever may post here."""
    mode = state().fault("network-query")
    if (early := faults.common(mode)) is not None:
        return early
    told = request.headers.get("Authorization")
    if told != f"Bearer {state().token}" and not is_granted(told):
        return _error("forbidden", "This key may not look here.", 403)
    wanted = request.args.get("of", "")
    found = next((p for p in state().posts if url_for("pondside.post", number=p["id"], _external=True) == wanted), None)
    if found is None:
        return _error("not_found", "There is no such post.", 404)
    return jsonify({"post": wanted, "liked": liked(found), "passed_on": {"count": liked(found) // 4}})


def liked(post: dict[str, Any]) -> int:
    """How often a post was liked: the same for the same, and more the more it says, as nobody is really there."""
    return int(post.get("liked", 3 + len(set(post["content"].lower().split())) % 17 + post["id"] % 5))


@bp.get("/home")
def home() -> str:
    """A page that names the endpoint, as sites do."""
    return f'<!doctype html><title>Pondside</title><link rel="micropub" href="{url_for("pondside.micropub")}"><p>Pondside</p>'


@bp.route("/micropub", methods=["GET", "POST"])
def micropub() -> Response:
    mode = state().fault("network") if request.method == "POST" else _querying()
    early = faults.common(mode)
    if early is not None:
        return early
    told = request.headers.get("Authorization")
    if (told != f"Bearer {state().token}" and not is_granted(told)) or mode == "refuse":
        return _error("forbidden", "This key may not post here.", 403)
    if request.method == "GET":
        return _query(mode)
    return _post(mode)


def _post(mode: str) -> Response:
    network = state().network
    if (request.is_json and network.takes == "forms") or (not request.is_json and network.takes == "json"):
        return _error("invalid_request", f"Only {network.takes} are taken here.", 415)
    given = request.get_json(silent=True)
    if isinstance(given, dict) and given.get("action") == "update":
        return _update(given)
    properties = _properties()
    content = _text(properties)
    if not content.strip():
        return _error("invalid_request", "A post needs some content.", 400)
    if len(content) > LIMIT and not properties.get("name"):
        return _error("invalid_request", f"A post has at most {LIMIT} characters; this one has {len(content)}.", 400)
    uid = str((properties.get("uid") or [request.headers.get("Idempotency-Key", "").strip('"')])[0])
    photo = request.files.get("photo")
    pictured = (properties.get("photo") or [""])[0]
    alt = str((properties.get("mp-photo-alt") or [""])[0])
    if isinstance(pictured, dict):
        pictured, alt = pictured.get("value", ""), str(pictured.get("alt", ""))
    shown = _kept_photo(photo.read(), photo.mimetype) if photo else str(pictured)
    unknown = set(properties.get("mp-syndicate-to") or []) - set(TARGETS)
    if unknown:
        return _error("invalid_request", f"There is no target {sorted(unknown)[0]}.", 400)
    more = {
        "alt": alt,
        "name": str((properties.get("name") or [""])[0]),
        "tags": properties.get("category") or [],
        "answers": str((properties.get("in-reply-to") or [""])[0]),
        "also": properties.get("mp-syndicate-to") or [],
        "draft": "draft" in (properties.get("post-status") or []),
    }
    time.sleep(network.takes_time / 2)
    number = _store(content, uid, shown, more)
    time.sleep(network.takes_time / 2)
    if mode in ("lost", "mute"):
        if mode == "mute":
            state().set_fault("network-query", "mute", 20)
        faults.drop()
    if network.moves:
        return Response("", network.moves, {"Location": url_for("pondside.wall", _external=True)})
    place = {"Location": url_for("pondside.post", number=number, _external=True)} if network.location else {}
    return Response("", 202 if network.accepts else 201, place)


@bp.post("/media")
def media() -> Response:
    """The media endpoint: a picture is kept, and has an address from then on."""
    if request.headers.get("Authorization") != f"Bearer {state().token}":
        return _error("forbidden", "This key may not post here.", 403)
    file = request.files.get("file")
    if file is None:
        return _error("invalid_request", "There is no file in this.", 400)
    with state().lock:
        pictures = state().media
        pictures.append((file.mimetype, file.read()))
        number = len(pictures)
    return Response("", 201, {"Location": url_for("pondside.picture", number=number, _external=True)})


@bp.get("/media/<int:number>")
def picture(number: int) -> Response:
    found = state().media[number - 1 : number]
    return Response(found[0][1], 200, {"Content-Type": found[0][0]}) if found else abort(404)


def _kept_photo(content: bytes, kind: str) -> str:
    """A photo that came with a post, as it is kept: a data address."""
    return f"data:{kind};base64,{base64.b64encode(content).decode()}"


def _text(properties: dict[str, Any]) -> str:
    """The content, which is a text or an object with HTML (section 3.3.2)."""
    content = (properties.get("content") or [""])[0]
    return str(content.get("html", "")) if isinstance(content, dict) else str(content)


def _update(given: dict[str, Any]) -> Response:
    """Put values in the place of those of a post (section 3.4)."""
    place = str(given.get("url", ""))
    found = [p for p in state().posts if url_for("pondside.post", number=p["id"], _external=True) == place]
    replaced = given.get("replace")
    if not found or not isinstance(replaced, dict) or not all(isinstance(values, list) for values in replaced.values()):
        return _error("invalid_request", "There is no such post, or nothing to put in its place.", 400)
    with state().lock:
        found[0]["content"] = _text(replaced) or found[0]["content"]
        found[0]["name"] = str((replaced.get("name") or [found[0].get("name", "")])[0])
        found[0]["tags"] = replaced.get("category", found[0].get("tags", []))
        found[0]["draft"] = "draft" in replaced.get("post-status", [])
        state().save()
    return Response("", 204)


def _store(content: str, uid: str, photo: str, more: dict[str, Any]) -> int:
    town = state()
    with town.lock:
        keeps_doubles = town.network.keeps_doubles or town.mode("lists") == "doubles"
        for known in town.posts if not keeps_doubles else ():
            if uid and known["uid"] == uid:
                return int(known["id"])
        number = len(town.posts) + 1
        town.posts.append(
            {"id": number, "content": content, "uid": uid, "at": time.time(), "by": "Hedge Lane", "photo": photo} | more
        )
        town.save()
        return number


def _querying() -> str:
    return "mute" if state().fault("network-query") == "mute" else ""


def _query(mode: str) -> Response:
    asked = request.args.get("q")
    if asked == "config":
        told = {"destination": [{"uid": "pondside", "name": "Hedge Lane on Pondside"}], "q": ["config", "source"]}
        told["syndicate-to"] = [{"uid": uid, "name": name} for uid, name in TARGETS.items()]
        return jsonify(told | ({"media-endpoint": url_for("pondside.media", _external=True)} if state().network.media else {}))
    if asked == "source" and mode != "mute":
        return jsonify(_listed())
    return _error("invalid_request", "This cannot be asked here.", 400)


def _listed() -> dict[str, Any]:
    """A page of the posts, newest first (query for a post list)."""
    network, mode = state().network, state().mode("lists")
    if mode:
        told: dict[str, Any] = {
            "late": {"late": 20.0},
            "bare": {"keys": False},
            "cut": {"pages": False, "most": 20, "dates": False},
        }
        network = replace(network, **told.get(mode, {}))
    here = [p for p in reversed(list(state().posts)) if time.time() - p["at"] >= max(network.late, network.accepts)]
    limit = min(request.args.get("limit", 20, type=int), network.most)
    after = request.args.get("after", 0, type=int)
    rest = [p for p in here if not after or p["id"] < after]
    page = rest[:limit]
    items = []
    for post in page:
        properties: dict[str, Any] = {
            "content": [post["content"]],
            "url": [url_for("pondside.post", number=post["id"], _external=True)],
        }
        if network.keys:
            properties["uid"] = [post["uid"]]
        if network.dates:
            properties["published"] = [dt.datetime.fromtimestamp(post["at"], dt.UTC).isoformat()]
        items.append({"type": ["h-entry"], "properties": properties})
    paging = {"paging": {"after": str(page[-1]["id"])} if page and len(rest) > limit else {}}
    return {"items": items} | (paging if network.pages else {})


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
