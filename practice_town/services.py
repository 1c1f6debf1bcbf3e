"""Services of the town that answer programs: search, contacts, customers and render jobs."""

from __future__ import annotations

import hashlib
import re
import time
from collections import Counter
from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .companies import companies
from .office import CUSTOMERS
from .sites import out, state
from .world import SITES

bp = Blueprint("services", __name__)
KEY = "contacts-key"
_WORD = re.compile(r"[^\W\d_]{3,}")
RENDER_SECONDS = 2.0
SITES_OF = {"C-1041": "varley", "C-1042": "okonjo", "C-1043": "lockhouse"}


# -- search -------------------------------------------------------------------------------------------


def _everything() -> list[dict[str, Any]]:
    """Every page of the town that can be found."""
    found = []
    for slug in SITES:
        for article, when in out(slug):
            link = url_for("sites.page", site=slug, slug=article.slug, _external=True)
            found.append(
                {"title": article.title, "link": link, "text": " ".join(article.paragraphs), "at": when.timestamp(), "kind": "news"}
            )
    for company in companies().values():
        for page in company.pages:
            link = url_for("companies.page", slug=company.slug, page=page.slug, _external=True)
            title = f"{page.title}, {company.name}"
            found.append({"title": title, "link": link, "text": " ".join(page.paragraphs), "at": 0.0, "kind": "web"})
    return found


def _found(words: str, most: int, days: int, kind: str) -> list[dict[str, Any]]:
    wanted = [w[:6] for w in _WORD.findall(words.lower())]
    pages = [p for p in _everything() if not kind or p["kind"] == kind]
    if days:
        pages = [p for p in pages if p["at"] > time.time() - days * 86400]
    scored = []
    for page in pages:
        said = Counter(w[:6] for w in _WORD.findall(f"{page['title']} {page['title']} {page['text']}".lower()))
        score = sum(min(said[w], 4) + (6 if said[w] else 0) for w in wanted)
        if score:
            scored.append((-score, -page["at"], page["title"], page))
    return [page for *_, page in sorted(scored, key=lambda one: one[:3])[:most]]


def _number(name: str, usual: int, most: int) -> int:
    text = request.args.get(name, "")
    return min(int(text), most) if text.isdigit() else usual


@bp.get("/search/opensearch.xml")
def description() -> Response:
    return Response(render_template("opensearch.xml"), mimetype="application/opensearchdescription+xml")


@bp.get("/search")
def search() -> AnyResponse:
    """News search: an RSS list, as its OpenSearch description says."""
    mode = state().fault("search")
    early = faults.common(mode)
    if early is not None:
        return early
    if mode == "garbage":
        return Response("<!doctype html><p>Please prove that you are a person.</p>", mimetype="text/html")
    hits = (
        []
        if mode == "none"
        else _found(request.args.get("q", ""), _number("n", 10, 100), _number("days", 0, 4000), request.args.get("kind", "news"))
    )
    return Response(render_template("results.rss.xml", words=request.args.get("q", ""), hits=hits), mimetype="application/rss+xml")


@bp.get("/search/api")
def search_json() -> AnyResponse:
    """Web search: a plain JSON service with names of its own."""
    early = faults.common(state().fault("search"))
    if early is not None:
        return early
    if request.headers.get("X-Search-Key") != "search-key":
        return _problem(401, "The key is missing or wrong.")
    hits = _found(request.args.get("query", ""), _number("size", 10, 100), 0, "")
    listed = [{"headline": h["title"], "url": h["link"], "snippet": h["text"][:220], "published": _iso(h["at"])} for h in hits]
    return jsonify({"answer": {"hits": listed, "total": len(listed)}})


# -- contacts and customers ---------------------------------------------------------------------------


@bp.get("/contacts")
def contacts() -> AnyResponse:
    """The contact data service: people by mail address, candidates by company, each with how sure it is, or all in pages of two."""
    early = _guarded("contacts")
    if early is not None:
        return early
    mail = request.args.get("email", "")
    people = [_person(c) for c in CUSTOMERS]
    if mail:
        found = [p for p in people if p["email"] == mail]
        return jsonify({"contacts": found, "next": None}) if found else _problem(404, f"Nobody with the address {mail} is known.")
    if company := request.args.get("company", "").strip().casefold():
        there = [one for c in CUSTOMERS if c["company"].casefold() == company for one in (_person(c), *_others(c))]
        return jsonify({"contacts": sorted(there, key=lambda one: -one["sure"]), "next": None})
    number = _number("page", 1, 1000)
    shown = people[(number - 1) * 2 : number * 2]
    more = url_for("services.contacts", page=number + 1, _external=True) if number * 2 < len(people) else None
    answer = jsonify({"contacts": shown, "next": more, "total": len(people)})
    if more:
        answer.headers["Link"] = f'<{more}>; rel="next"'
    return answer


@bp.get("/customers/api/<record>")
def customer(record: str) -> AnyResponse:
    """The customer database: one record."""
    early = _guarded("contacts")
    if early is not None:
        return early
    found = next((c for c in CUSTOMERS if c["id"] == record), None)
    return jsonify({**found, "site": _site(record)}) if found else _problem(404, f"There is no record {record}.")


SURE = {"C-1041": 0.94, "C-1042": 0.55, "C-1043": 0.88}
"""How sure the service is of who answers for a company."""


def _others(customer: dict[str, str]) -> list[dict[str, Any]]:
    """Who else it may be, for all the service knows."""
    other = {"C-1042": ("Ama Okonjo", "Bookkeeper", 0.52)}.get(customer["id"])
    if other is None:
        return []
    name, role, sure = other
    first, _, last = name.partition(" ")
    mail = f"{first.lower()}@{customer['email'].partition('@')[2]}"
    told = {"id": f"{customer['id']}-2", "email": mail, "name": {"first": first, "last": last}, "role": role}
    return [{**_person(customer), **told, "sure": sure, "addresses": [{"address": mail, "sure": sure}]}]


def _person(customer: dict[str, str]) -> dict[str, Any]:
    first, _, last = customer["name"].partition(" ")
    role = {"C-1041": "Founder", "C-1042": "Head of the yard", "C-1043": "Host"}[customer["id"]]
    return {
        "id": customer["id"],
        "email": customer["email"],
        "addresses": [
            {"address": f"office@{customer['email'].partition('@')[2]}", "sure": 0.4},
            {"address": customer["email"], "sure": SURE[customer["id"]]},
        ],
        "sure": SURE[customer["id"]],
        "name": {"first": first, "last": last},
        "company": {"name": customer["company"], "site": _site(customer["id"])},
        "role": role,
        "language": "en",
    }


def _site(record: str) -> str:
    return url_for("companies.page", slug=SITES_OF[record], _external=True)


def _guarded(outside: str) -> AnyResponse | None:
    mode = state().fault(outside)
    early = faults.common(mode)
    if early is not None:
        return early
    if mode == "cut":
        return Response('{"contacts": [{"id": ', mimetype="application/json")
    if request.headers.get("Authorization") != f"Bearer {KEY}":
        return _problem(401, "The key is missing or wrong.")
    return None


# -- render jobs --------------------------------------------------------------------------------------


@bp.post("/render/jobs")
def submit() -> AnyResponse:
    """Take a render job. The same Idempotency-Key is the same job."""
    mode = state().fault("render")
    early = faults.common(mode)
    if early is not None:
        return early
    body = request.get_json(silent=True)
    if not isinstance(body, dict) or not str(body.get("script", "")).strip():
        return _problem(422, "A job needs a script.")
    key = request.headers.get("Idempotency-Key") or hashlib.sha256(repr((time.time(), body)).encode()).hexdigest()
    number = hashlib.sha256(key.encode()).hexdigest()[:12]
    with state().lock:
        job = state().jobs.setdefault(number, {"script": str(body["script"]), "at": time.time(), "mode": mode, "asked": 0})
        job["asked"] += 1
        state().save()
    if mode == "lost":
        faults.drop()
    place = url_for("services.job", number=number, _external=True)
    answer = jsonify({"id": number, "status": "queued"})
    answer.status_code = 202
    answer.headers.update({"Location": place, "Retry-After": "1"})
    return answer


@bp.get("/render/jobs/<number>")
def job(number: str) -> AnyResponse:
    """How a job stands: queued, rendering, ready or failed."""
    found = state().jobs.get(number)
    if found is None:
        return _problem(404, "There is no such job.")
    waited = time.time() - found["at"]
    seconds = len(found["script"].split()) / 2.5
    if found["mode"] == "failing" and waited > RENDER_SECONDS / 2:
        return jsonify({"id": number, "status": "failed", "message": "The voice does not speak this language."})
    if waited < RENDER_SECONDS or found["mode"] == "stuck":
        answer = jsonify({"id": number, "status": "rendering", "percent": min(99, int(100 * waited / RENDER_SECONDS))})
        answer.headers["Retry-After"] = "1"
        return answer
    film = url_for("services.film", number=number, _external=True)
    return jsonify({"id": number, "status": "ready", "video": film, "thumbnail": f"{film}.png", "seconds": round(seconds, 1)})


@bp.get("/render/films/<number>")
def film(number: str) -> AnyResponse:
    """A film as its viewers would see it, and its thumbnail."""
    found = state().jobs.get(number.removesuffix(".png"))
    if found is None:
        return Response("Nothing here.", 404)
    if number.endswith(".png"):
        return Response(_still(found["script"]), mimetype="image/png")
    return Response(render_template("film.html", number=number, job=found))


def _still(script: str) -> bytes:
    import io

    from PIL import Image, ImageDraw

    picture = Image.new("RGB", (480, 270), (36, 52, 44))
    draw = ImageDraw.Draw(picture)
    words = script.split()
    for n in range(4):
        draw.text((28, 80 + n * 26), " ".join(words[n * 8 : n * 8 + 8]), fill=(240, 236, 220))
    draw.polygon([(28, 28), (28, 58), (54, 43)], fill=(140, 190, 120))
    out_ = io.BytesIO()
    picture.save(out_, "PNG")
    return out_.getvalue()


def _problem(status: int, detail: str) -> AnyResponse:
    """A refusal as problem details (RFC 9457)."""
    answer = jsonify({"type": "about:blank", "status": status, "detail": detail})
    answer.status_code = status
    answer.mimetype = "application/problem+json"
    return answer


def _iso(at: float) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(at)) if at else ""
