"""Companies of the town with sites of several pages: about, customers, products, news and legal."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from flask import Blueprint, Response, abort, render_template, url_for

from . import faults
from .sites import state

bp = Blueprint("companies", __name__)
SOURCE = Path(__file__).with_name("companies") / "companies.md"
LEGAL = (
    "{name} is responsible for these pages. They are printed on the web for people who want to know what we do, and are "
    "checked by somebody once a month.",
    "We keep no record of who reads them. A letter or mail you send us is kept for as long as it takes to answer, and for two "
    "years after that. If you want to know what we hold about you, ask, and you will be told within a week.",
    "Prices on these pages are in the money of the valley and may change. What was agreed in writing stays as agreed.",
)


@dataclass(frozen=True)
class CompanyPage:
    """One page of a company's site."""

    slug: str
    title: str
    paragraphs: tuple[str, ...]


@dataclass(frozen=True)
class Company:
    """A company: its name, what it does in a line, the language of its site, its pages."""

    slug: str
    name: str
    line: str
    language: str
    pages: tuple[CompanyPage, ...]


@lru_cache
def companies() -> dict[str, Company]:
    """All companies by their names in addresses."""
    found = {}
    for chunk in re.split(r"^# ", SOURCE.read_text("utf-8"), flags=re.MULTILINE)[1:]:
        head, *parts = re.split(r"^## ", chunk, flags=re.MULTILINE)
        first, line = head.strip().split("\n", 1)
        slug, name, language = (part.strip() for part in first.split("|"))
        pages = []
        for part in parts:
            title, _, rest = part.partition("\n")
            words, _, page = (piece.strip() for piece in title.partition("|"))
            pages.append(CompanyPage(page, words, tuple(p.strip() for p in rest.split("\n\n") if p.strip())))
        pages.append(CompanyPage("legal", "Legal and privacy", tuple(p.format(name=name) for p in LEGAL)))
        found[slug] = Company(slug, name, line.strip(), language, tuple(pages))
    return found


@bp.get("/companies/")
def index() -> str:
    return render_template("companies.html", companies=companies().values())


@bp.get("/companies/<slug>/")
@bp.get("/companies/<slug>/<page>")
def page(slug: str, page: str = "") -> Response | str:
    early = faults.common(state().fault("page"))
    if early is not None:
        return early
    company = companies().get(slug) or abort(404)
    if page == "map.xml":
        return Response(render_template("sitemap.xml", company=company), mimetype="application/xml")
    if page == "logo.png":
        return Response(_logo(company), mimetype="image/png")
    shown = None if not page else next((p for p in company.pages if p.slug == page), None) or abort(404)
    return render_template("company.html", company=company, page=shown)


@bp.get("/robots.txt")
def robots() -> Response:
    """What programs may read in town: all but the backs of the shops."""
    lines = ["User-agent: *", "Disallow: /companies/*/orders", "Disallow: /control", ""]
    lines += [f"Sitemap: {url_for('companies.page', slug=slug, page='map.xml', _external=True)}" for slug in companies()]
    return Response("\n".join(lines) + "\n", mimetype="text/plain")


@bp.get("/companies/<slug>/orders")
def orders(slug: str) -> str:
    """A page that programs are asked not to read."""
    return "<p>The orders of this week. For people only.</p>"


@lru_cache
def _logo_bytes(slug: str) -> bytes:
    import io
    import zlib

    from PIL import Image

    seed = zlib.crc32(slug.encode())
    picture = Image.new("RGB", (96, 96), ((seed >> 16) % 120 + 60, (seed >> 8) % 120 + 60, seed % 120 + 60))
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def _logo(company: Company) -> bytes:
    return _logo_bytes(company.slug)
