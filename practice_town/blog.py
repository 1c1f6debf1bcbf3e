"""The Towpath Review, a blog by the Atom Publishing Protocol (RFC 5023), and Market Row, a listing of local businesses.

Neither drops doubles by itself. The blog gives its entries identities of its own, cleans their HTML, lists them in pages and in part
only, what was edited last first, and changes one only under its entity tag.
"""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import re
import time
from typing import Any
from urllib.parse import unquote

from flask import Blueprint, Response, abort, jsonify, render_template, request, url_for
from lxml import etree
from lxml.html.clean import Cleaner
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .sites import state

bp = Blueprint("blog", __name__)
USER, PASSWORD = "editor", "towpath-key"
LISTING_KEY = "market-key"
ATOM, APP = "http://www.w3.org/2005/Atom", "http://www.w3.org/2007/app"
PAGE = 10
BUTTONS = {"see": "See more", "order": "Order", "book": "Book a place"}
PLACES = {"lock-9": "Lock 9, Ostrey", "seed-barn": "The Seed Barn"}
LONGEST = 1000


# -- the blog -----------------------------------------------------------------------------------------


@bp.get("/blog/")
def front() -> str:
    return render_template(
        "blog.html", entries=[_shown(e) for e in reversed(state().entries) if not e["draft"]], drafts=_drafts(), one=None
    )


@bp.get("/blog/<int:number>")
def article(number: int) -> str:
    found = [e for e in state().entries if e["id"] == number and not e["draft"]]
    return render_template("blog.html", entries=[], drafts=0, one=_shown(found[0]) if found else abort(404))


def _drafts() -> int:
    return sum(e["draft"] for e in state().entries)


@bp.get("/blog/app")
def service() -> AnyResponse:
    """The service document: notes, articles, pictures."""
    early, mode = _let_in()
    if early is not None:
        return early
    if mode == "garbage":
        return Response("<!doctype html><p>Our blog has moved.</p>", mimetype="text/html")
    place = url_for("blog.entries", _external=True)
    pictures = url_for("blog.pictures", _external=True)
    return Response(
        f'<service xmlns="{APP}" xmlns:atom="{ATOM}"><workspace><atom:title>The Towpath Review</atom:title>'
        f'<collection href="{pictures}"><atom:title>Pictures</atom:title><accept>image/png</accept><accept>image/jpeg</accept></collection>'
        f'<collection href="{place}"><atom:title>Articles</atom:title><accept>application/atom+xml;type=entry</accept></collection>'
        "</workspace></service>",
        mimetype="application/atomsvc+xml",
    )


@bp.route("/blog/app/entries", methods=["GET", "POST"])
def entries() -> AnyResponse:
    early, mode = _let_in()
    if early is not None:
        return early
    town = state()
    if request.method == "GET":
        return _list()
    given = _given()
    if isinstance(given, Response):
        return given
    with town.working():
        entry = {"id": len(town.entries) + 1, "at": time.time(), **given, "edited": time.time()}
        town.entries.append(entry)
        town.save()
    answer = Response(_xml(entry, whole=True), 201, {"Location": _edit(entry), "ETag": _tag(entry)})
    answer.mimetype = "application/atom+xml"
    return _done(answer, mode)


@bp.route("/blog/app/entries/<int:number>", methods=["GET", "PUT"])
def entry(number: int) -> AnyResponse:
    early, mode = _let_in()
    if early is not None:
        return early
    found = next((e for e in state().entries if e["id"] == number), None) or abort(404)
    if request.method == "PUT":
        if request.headers.get("If-Match") != _tag(found):
            return Response("It was changed meanwhile.", 412)
        given = _given()
        if isinstance(given, Response):
            return given
        with state().lock:
            found.update(given, edited=time.time())
            state().save()
    answer = Response(_xml(found, whole=True), 200, {"ETag": _tag(found)})
    answer.mimetype = "application/atom+xml"
    return _done(answer, mode) if request.method == "PUT" else answer


@bp.post("/blog/app/pictures")
def pictures() -> AnyResponse:
    early, mode = _let_in()
    if early is not None:
        return early
    if request.mimetype not in ("image/png", "image/jpeg"):
        return Response("Only PNG and JPEG are taken.", 415)
    with state().lock:
        state().media.append((request.mimetype, request.get_data()))
        number = len(state().media)
    src = url_for("pondside.picture", number=number, _external=True)
    title = unquote(request.headers.get("Slug", "picture"))
    body = f'<entry xmlns="{ATOM}"><title>{_escaped(title)}</title><content src="{src}" type="{request.mimetype}"/></entry>'
    return _done(Response(body, 201, {"Location": src}, mimetype="application/atom+xml"), mode)


def _let_in() -> tuple[AnyResponse | None, str]:
    mode = _mode("blog")
    if (early := faults.common(mode)) is not None:
        return early, mode
    told = base64.b64encode(f"{USER}:{PASSWORD}".encode()).decode()
    if mode == "refuse" or request.headers.get("Authorization") != f"Basic {told}":
        return Response("This key may not publish here.", 403 if mode == "refuse" else 401), mode
    return None, mode


def _mode(outside: str) -> str:
    """The fault that is due; a reply that is to be dropped is that of a change, not of a look."""
    return "" if request.method == "GET" and state().mode(outside) == "lost" else state().fault(outside)


def _done(answer: AnyResponse, mode: str) -> AnyResponse:
    if mode == "lost":
        faults.drop()
    return answer


def _given() -> dict[str, Any] | Response:
    """What an entry says, as the blog keeps it."""
    if not request.mimetype.startswith("application/atom+xml"):
        return Response("Only Atom entries are taken.", 415)
    try:
        root = etree.fromstring(request.get_data(), etree.XMLParser(resolve_entities=False, no_network=True))
    except etree.XMLSyntaxError:
        return Response("This is no XML.", 400)
    text = {name: (root.findtext(f"{{{ATOM}}}{name}") or "").strip() for name in ("title", "summary", "content")}
    if not text["title"] or root.find(f"{{{ATOM}}}updated") is None or root.find(f"{{{ATOM}}}id") is None:
        return Response("An entry has an id, a title and when it was updated (RFC 4287).", 400)
    cleaned = Cleaner(page_structure=False, safe_attrs_only=True).clean_html(f"<div>{text['content']}</div>")
    return {
        **text,
        "content": re.sub(r"\A<div>|</div>\Z", "", cleaned.strip()),
        "categories": [c.get("term") for c in root.iter(f"{{{ATOM}}}category")],
        "draft": (root.findtext(f"{{{APP}}}control/{{{APP}}}draft") or "").strip() == "yes",
    }


def _list() -> Response:
    """A page of the entries, what was edited last first, each in part (section 10)."""
    here = sorted(state().entries, key=lambda e: -e["edited"])
    first = request.args.get("from", 0, type=int)
    page = here[first : first + PAGE]
    following = url_for("blog.entries", **{"from": first + PAGE}, _external=True) if len(here) > first + PAGE else ""
    body = f'<feed xmlns="{ATOM}"><title>Articles</title>' + (
        f'<link rel="next" href="{_escaped(following)}"/>' if following else ""
    )
    return Response(body + "".join(_xml(e) for e in page) + "</feed>", mimetype="application/atom+xml")


def _xml(entry: dict[str, Any], whole: bool = False) -> str:
    moment = {n: dt.datetime.fromtimestamp(entry[n], dt.UTC).isoformat() for n in ("at", "edited")}
    draft = f'<control xmlns="{APP}"><draft>yes</draft></control>' if entry["draft"] else ""
    place = url_for("blog.article", number=entry["id"], _external=True)
    return (
        f'<entry xmlns="{ATOM}"><id>tag:towpath.example,2026:{entry["id"]}</id><title>{_escaped(entry["title"])}</title>'
        f'<updated>{moment["edited"]}</updated><edited xmlns="{APP}">{moment["edited"]}</edited><published>{moment["at"]}</published>'
        f'<author><name>The Towpath Review</name></author><rights>All of us</rights><link rel="alternate" href="{place}"/>'
        f'<link rel="edit" href="{_edit(entry)}"/><summary>{_escaped(entry["summary"])}</summary>'
        + "".join(f'<category term="{_escaped(c)}"/>' for c in entry["categories"])
        + (f'<content type="html">{_escaped(entry["content"])}</content>' if whole else "")
        + f"{draft}</entry>"
    )


def _edit(entry: dict[str, Any]) -> str:
    return url_for("blog.entry", number=entry["id"], _external=True)


def _tag(entry: dict[str, Any]) -> str:
    return f'"{hashlib.sha256(repr(entry).encode()).hexdigest()[:16]}"'


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace('"', "&quot;")


# -- the listing --------------------------------------------------------------------------------------


@bp.route("/market/api/offers", methods=["GET", "POST"])
def offers() -> AnyResponse:
    """What is offered, and a new offer; the same one twice is there twice."""
    early, mode = _for_businesses()
    if early is not None:
        return early
    town = state()
    if request.method == "GET":
        return jsonify({"offers": town.offers})
    given: Any = request.get_json(silent=True)
    wrong = _wrong(given)
    if wrong:
        answer = jsonify({"title": "Refused", "detail": wrong, "status": 422})
        answer.status_code, answer.mimetype = 422, "application/problem+json"
        return answer
    with town.working():
        offer = {**given, "id": len(town.offers) + 1, "at": time.time()}
        town.offers.append(offer)
        town.save()
    answer = jsonify({"id": offer["id"], "address": url_for("blog.market", _external=True) + f"#offer-{offer['id']}"})
    answer.status_code = 201
    return _done(answer, mode)


@bp.post("/market/api/photos")
def photos() -> AnyResponse:
    early, mode = _for_businesses()
    if early is not None:
        return early
    if not request.mimetype.startswith("image/"):
        return Response("A photo is a picture.", 415)
    with state().lock:
        state().media.append((request.mimetype, request.get_data()))
        number = len(state().media)
    return _done(jsonify({"url": url_for("pondside.picture", number=number, _external=True)}), mode)


@bp.get("/market")
def market() -> str:
    shown = [
        {**o, "place": PLACES[o["place"]], "when": _when(o["at"]), "words": BUTTONS.get(o.get("button", {}).get("kind", ""), "")}
        for o in reversed(state().offers)
    ]
    return render_template("market.html", offers=shown)


def _for_businesses() -> tuple[AnyResponse | None, str]:
    mode = _mode("listing")
    if (early := faults.common(mode)) is not None:
        return early, mode
    if request.headers.get("Authorization") != f"Bearer {LISTING_KEY}":
        return Response("The key is missing or wrong.", 401), mode
    return None, mode


def _wrong(given: Any) -> str:
    """What is wrong with an offer; nothing is put right by itself."""
    if not isinstance(given, dict) or not isinstance(given.get("text"), str):
        return "An offer has a text."
    if len(given["text"]) > LONGEST:
        return f"An offer has at most {LONGEST} characters."
    if given.get("place") not in PLACES:
        return f"There is no place {given.get('place')!r}."
    button = given.get("button")
    if button is not None and (not isinstance(button, dict) or button.get("kind") not in BUTTONS or not button.get("url")):
        return "A button has one of our kinds, and an address."
    if set(given) - {"text", "place", "button", "photo", "alt", "reference"}:
        return "There is something in it that an offer does not have."
    return ""


def _when(at: float) -> str:
    return f"{dt.datetime.fromtimestamp(at):%-d %B %Y, %H:%M}"


def _shown(entry: dict[str, Any]) -> dict[str, Any]:
    return entry | {"when": _when(entry["at"])}
