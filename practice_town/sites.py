"""The news sites: pages, and the same feed as RSS 2.0, RSS 1.0, Atom and JSON Feed."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from email.utils import format_datetime
from typing import Any

from flask import Blueprint, Response, abort, current_app, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .hub import SITES as HUBS
from .state import State
from .world import SITES, Article

bp = Blueprint("sites", __name__, url_prefix="/sites")
KINDS = {
    "feed.rss": "application/rss+xml",
    "feed.rdf": "application/rdf+xml",
    "feed.atom": "application/atom+xml",
    "feed.json": "application/feed+json",
}
PDF = b"%PDF-1.4\n1 0 obj<</Type/Catalog>>endobj\ntrailer<</Root 1 0 R>>\n%%EOF\n"


def state() -> State:
    return current_app.extensions["town"]


def out(site: str) -> list[tuple[Article, dt.datetime]]:
    """The site's published articles, newest first."""
    if site not in SITES:
        abort(404)
    when = state().released[site]
    found = [(a, dt.datetime.fromtimestamp(when[a.slug], dt.UTC)) for a in state().articles(site) if a.slug in when]
    return sorted(found, key=lambda pair: pair[1], reverse=True)


def updated(article: Article, published: dt.datetime) -> dt.datetime:
    """When an article was last changed."""
    told = state().changed.get(f"{article.site}/{article.slug}")
    return dt.datetime.fromtimestamp(told["at"], dt.UTC) if told else published


@bp.get("/<site>/")
def index(site: str) -> str:
    return render_template("site.html", site=SITES.get(site) or abort(404), articles=out(site))


@bp.get("/<site>/<slug>")
def page(site: str, slug: str) -> AnyResponse | str:
    if slug in KINDS:
        return feed(site, slug)
    mode = state().fault("page")
    early = faults.common(mode)
    if early is not None:
        return early
    if mode == "gone":
        return Response("Nothing here.", 404)
    if mode == "empty":
        return Response("", 200, mimetype="text/html")
    if mode == "pdf":
        return Response(PDF, 200, mimetype="application/pdf")
    if mode == "endless":
        return Response(faults.endless(b"<p>" + b"on and on " * 400 + b"</p>"), mimetype="text/html")
    found = next(((a, d) for a, d in out(site) if a.slug == slug), None) or abort(404)
    text = render_template("article.html", site=SITES[site], article=found[0], date=found[1], others=out(site)[:4])
    if mode == "legacy":
        return Response(text.encode("windows-1252", errors="xmlcharrefreplace"), content_type="text/html")
    return text


def feed(site: str, name: str) -> AnyResponse:
    """The feed in the form asked for; conditional (RFC 9110 section 13)."""
    mode = state().fault("feed")
    early = faults.common(mode)
    if early is not None:
        return early
    if mode == "notfeed":
        return Response("<html><body><h1>Welcome</h1><p>Our feeds have moved.</p></body></html>", mimetype="text/html")
    if mode == "inward":
        return redirect("http://10.0.0.7/feed")
    if mode == "huge":
        return Response(faults.endless(b"<item><title>more</title></item>" * 500, 50_000_000), mimetype="application/rss+xml")
    items = out(site)
    body = _write(site, name, items, bare=mode == "bare")
    if mode == "cut":
        body = body[: len(body) * 2 // 3]
    response = Response(body, content_type=f"{KINDS[name]}; charset=utf-8")
    response.set_etag(hashlib.sha256(body.encode()).hexdigest()[:16])
    response.last_modified = max((updated(a, d) for a, d in items), default=None)
    return response.make_conditional(request)


def _write(site: str, name: str, items: list[tuple[Article, dt.datetime]], bare: bool) -> str:
    rows = [
        {
            "title": a.title,
            "link": url_for("sites.page", site=site, slug=a.slug, _external=True),
            "id": f"tag:{site}.example,2026:{a.slug}",
            "summary": a.paragraphs[0],
            "author": a.author,
            "tags": a.tags,
            "iso": d.replace(microsecond=0).isoformat(),
            "updated": updated(a, d).replace(microsecond=0).isoformat(),
            "rfc": format_datetime(d),
        }
        for a, d in items
    ]
    home = url_for("sites.index", site=site, _external=True)
    told_by = url_for("hub.asked", _external=True) if site in HUBS else ""
    own = url_for("sites.page", site=site, slug=name, _external=True)
    if name == "feed.json":
        entries = [
            {"title": r["title"], "content_text": r["summary"]}
            | (
                {}
                if bare
                else {
                    "id": r["id"],
                    "date_published": r["iso"],
                    "date_modified": r["updated"],
                    "url": r["link"],
                    "tags": list(r["tags"]),
                }
            )
            | {"authors": [{"name": r["author"]}]}
            for r in rows
        ]
        document: dict[str, Any] = {"version": "https://jsonfeed.org/version/1.1", "title": SITES[site].name, "home_page_url": home}
        if told_by:
            document |= {"feed_url": own, "hubs": [{"type": "WebSub", "url": told_by}]}
        return json.dumps(document | {"items": entries}, ensure_ascii=False)
    return render_template(name + ".xml", site=SITES[site], home=home, rows=rows, bare=bare, hub=told_by, own=own)
