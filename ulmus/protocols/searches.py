"""Search services: those that describe themselves (OpenSearch 1.1), and plain JSON services described by settings.

Results come as one list whatever the service: title, link, summary, date, source.
"""

from __future__ import annotations

import datetime as dt
import json
import re
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any
from urllib.parse import quote, urljoin, urlsplit

from dateutil import parser as dates

from . import feeds
from .errors import BadAnswer, Misconfigured, NothingToDo
from .jsonpath import pick
from .languages import language_of
from .net import Web, status_error
from .text import decode

LARGEST = 4_000_000
MOST = 200
ENOUGH_TO_TELL = 80
"""Characters from which on a language can be told."""
_DESCRIPTIONS: dict[str, tuple[float, str]] = {}
_KEPT = 3600.0
_NAMES = re.compile(r"\{([\w:]+)(\?)?\}")


@dataclass(frozen=True)
class Query:
    """What is searched for; `days` 0 for any time, `language` an ISO 639-1 code or empty; sites are host names."""

    words: str
    most: int = 10
    days: int = 0
    language: str = ""
    sites: tuple[str, ...] = ()
    not_sites: tuple[str, ...] = ()


@dataclass(frozen=True)
class Service:
    """A search service. With `description`, the address of an OpenSearch description; else `address` is a pattern with
    ``{words}``, ``{most}``, ``{days}``, ``{language}``, and the paths (RFC 9535) say where results and their parts stand."""

    description: str = ""
    address: str = ""
    results: str = "$.results"
    title: str = "title"
    link: str = "link"
    summary: str = "summary"
    date: str = "date"
    header: str = ""
    key: str = ""


@dataclass(frozen=True)
class Hit:
    """One result; `date` is ISO 8601 or empty, `source` the host it is from."""

    title: str
    link: str
    summary: str
    date: str
    source: str


def search(web: Web, service: Service, query: Query) -> list[Hit]:
    """Results, in the order of the service. Raises `OutsideError`."""
    if not query.words.strip():
        raise NothingToDo("There are no words to search for.")
    headers = {service.header: service.key} if service.header and service.key else {}
    pattern = _template(web, service.description) if service.description else service.address
    # Sites are asked for in words most services know, and kept to here in any case.
    words = query.words
    wider = query.most if not (query.sites or query.not_sites) else min(MOST, query.most * 3)
    url = filled(pattern, query, words, wider)
    got = web.fetch(url, headers=headers, max_bytes=LARGEST)
    if got.status != 200:
        raise status_error(got, "The search service")
    if got.body.lstrip()[:1] in (b"{", b"["):
        hits = _from_json(decode(got.body, got.charset), service, got.url)
    else:
        hits = [
            Hit(item.title, item.link, item.summary, item.published, _host(item.link))
            for item in feeds.parse(got.body, got.charset, got.url).items
        ]
    return [hit for hit in hits if _wanted(hit, query)][: query.most]


def as_item(hit: Hit) -> dict[str, Any]:
    """A result as values."""
    return asdict(hit)


def filled(pattern: str, query: Query, words: str, most: int) -> str:
    """The address with its places filled; those that may be left out are empty where there is nothing to say."""
    known = {
        "searchTerms": words,
        "words": words,
        "count": str(most),
        "most": str(most),
        "language": query.language,
        "days": str(query.days or ""),
        "startPage": "1",
        "startIndex": "1",
        "inputEncoding": "UTF-8",
        "outputEncoding": "UTF-8",
    }

    def put(found: re.Match[str]) -> str:
        name = found.group(1).rpartition(":")[2]
        if name not in known and not found.group(2):
            raise Misconfigured(f"The search service asks for “{name}”, which is not known here.")
        return quote(known.get(name, ""), safe="")

    return _NAMES.sub(put, pattern)


def probe(web: Web, service: Service) -> str:
    """Search for one word. Raises `OutsideError`."""
    hits = search(web, service, Query("news", 3))
    return (
        f"Answered with {len(hits)} result{'s' if len(hits) != 1 else ''}{f', the first “{hits[0].title[:60]}”' if hits else ''}."
    )


def describe(body: bytes, url: str) -> str:
    """The address pattern of an OpenSearch description: its results as a feed, or as JSON. Raises `OutsideError`."""
    from lxml import etree

    try:
        root = etree.fromstring(body, etree.XMLParser(resolve_entities=False, no_network=True))
    except (etree.XMLSyntaxError, ValueError):
        root = None
    if root is None or etree.QName(root).localname != "OpenSearchDescription":
        raise BadAnswer("This is no OpenSearch description.")
    kinds = ("application/rss+xml", "application/atom+xml", "application/json", "application/feed+json")
    for kind in kinds:
        for one in root:
            if isinstance(one.tag, str) and etree.QName(one).localname == "Url" and one.get("type") == kind and one.get("template"):
                return urljoin(url, str(one.get("template")))
    raise BadAnswer("This search service offers pages for people only, and no list that can be read here.")


def _template(web: Web, description: str) -> str:
    known = _DESCRIPTIONS.get(description)
    if known is None or time.monotonic() - known[0] > _KEPT:
        got = web.fetch(description, max_bytes=LARGEST)
        if got.status != 200:
            raise status_error(got, "The search service’s description")
        known = _DESCRIPTIONS[description] = (time.monotonic(), describe(got.body, got.url))
    return known[1]


def _from_json(text: str, service: Service, url: str) -> list[Hit]:
    try:
        data = json.loads(text)
    except (ValueError, RecursionError):
        raise BadAnswer("The search service sent something that is no list of results.") from None
    if (
        isinstance(data, Mapping)
        and isinstance(data.get("items"), list)
        and str(data.get("version", "")).startswith("https://jsonfeed")
    ):
        return [Hit(i.title, i.link, i.summary, i.published, _host(i.link)) for i in feeds.parse(text.encode(), "utf-8", url).items]
    found = pick(data, service.results)
    many = found[0] if len(found) == 1 and isinstance(found[0], list) else found
    hits = []
    for one in many[:MOST]:
        if not isinstance(one, Mapping):
            continue
        values = {name: _part(one, getattr(service, name)) for name in ("title", "link", "summary", "date")}
        if values["title"] or values["link"]:
            link = urljoin(url, values["link"]) if values["link"] else ""
            hits.append(
                Hit(feeds.plain(values["title"]), link, feeds.plain(values["summary"]), feeds.moment(values["date"]), _host(link))
            )
    return hits


def _part(one: Mapping[str, Any], path: str) -> str:
    if not path:
        return ""
    found = pick(one, path) if path.startswith("$") else [one.get(path)]
    return str(found[0]) if found and found[0] is not None else ""


def _host(link: str) -> str:
    try:
        return (urlsplit(link).hostname or "").removeprefix("www.")
    except ValueError:
        return ""


def _wanted(hit: Hit, query: Query) -> bool:
    def among(sites: tuple[str, ...]) -> bool:
        return any(hit.source == site or hit.source.endswith(f".{site}") or site in hit.link for site in sites)

    if query.sites and not among(query.sites):
        return False
    if query.not_sites and among(query.not_sites):
        return False
    return not _too_old(hit, query.days) and not _in_another_language(hit, query.language)


def _too_old(hit: Hit, days: int) -> bool:
    """Whether a result is surely from before the days asked for; one without a date may be from any."""
    if not days or not hit.date:
        return False
    try:
        when = dates.parse(hit.date)
    except (ValueError, OverflowError):
        return False
    now = dt.datetime.now(when.tzinfo or dt.UTC)
    return when.replace(tzinfo=when.tzinfo or dt.UTC) < now - dt.timedelta(days=days + 1)


def _in_another_language(hit: Hit, language: str) -> bool:
    """Whether what the service says of a result is in another language; a few words are too little to tell."""
    words = f"{hit.title}. {hit.summary}"
    wanted = language.strip().lower().split("-")[0]
    if not wanted or len(words) < ENOUGH_TO_TELL:
        return False
    return language_of(words) not in ("", wanted)
