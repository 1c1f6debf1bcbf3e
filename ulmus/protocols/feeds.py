"""Feeds: RSS 2.0, RSS 1.0, Atom (RFC 4287) and JSON Feed 1.1, as one kind of list.

A broken feed is read as far as it can be; what was wrong stands in `Feed.problems`.
"""

from __future__ import annotations

import calendar
import codecs
import datetime as dt
import hashlib
import html
import json
import logging
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import urljoin

import nh3

from .errors import BadAnswer
from .net import Fetched, Web, status_error
from .text import decode
from .workers import in_worker

log = logging.getLogger("ulmus")
MOST_ITEMS = 500
MOST_FILES = 40
MAX_BYTES = 8_000_000
FEED_KINDS = ("application/atom+xml", "application/rss+xml", "application/feed+json", "application/rdf+xml")
_ATTRIBUTE = re.compile(r"""([\w-]+)\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+))""")
_LINKED = re.compile(r"""<([^<>]{1,2000})>\s*;[^,<]*?\brel\s*=\s*"?(hub|self)\b""", re.IGNORECASE)
_ITEM_END = re.compile(rb"</(?:item|entry)\s*>", re.IGNORECASE)
_ROOT_END = re.compile(rb"</(?:rss|feed|rdf:RDF)\s*>", re.IGNORECASE)


@dataclass(frozen=True)
class FeedItem:
    """One item. `identity` stays the same when the text changes: the item's id, else its link, else a digest.

    `published` and `updated` are ISO 8601 in UTC, or empty where the feed gives no date. `images` are its pictures by size, the largest
    first (``{"link", "width", "height"}``, 0 where nothing is said), and `image` the first; `enclosures` are the files it brings
    (``{"link", "type", "bytes", "seconds"}``), `enclosure` the first recording, `transcript` its transcript (podcast:transcript).
    """

    identity: str
    title: str
    link: str
    summary: str
    author: str
    published: str
    image: str = ""
    categories: list[str] = field(default_factory=list)
    id: str = ""
    """The feed's own id for it, where it gives one."""
    updated: str = ""
    enclosure: str = ""
    transcript: str = ""
    enclosures: list[dict[str, Any]] = field(default_factory=list)
    images: list[dict[str, Any]] = field(default_factory=list)


@dataclass(frozen=True)
class Feed:
    """A feed as read; items in the feed's order. `hub` tells of new items to who asks it to (WebSub), who call the feed `topic` then;
    empty where it names none."""

    title: str
    link: str
    items: list[FeedItem]
    problems: list[str]
    hub: str = ""
    topic: str = ""


@dataclass(frozen=True)
class FeedPoll:
    """One conditional look (RFC 9110 section 13): `feed` is ``None`` where nothing has changed."""

    feed: Feed | None
    etag: str
    last_modified: str
    found_at: str = ""
    """Where the feed is, where the address was that of a site."""


def poll(web: Web, url: str, etag: str = "", last_modified: str = "") -> FeedPoll:
    """Fetch and read the feed at `url`, unless it has not changed. Raises `OutsideError`."""
    headers = {"Accept": "application/atom+xml, application/rss+xml, application/feed+json, application/xml;q=0.9, */*;q=0.5"}
    if etag:
        headers["If-None-Match"] = etag
    if last_modified:
        headers["If-Modified-Since"] = last_modified
    got = web.fetch(url, headers=headers, max_bytes=MAX_BYTES)
    if got.status == 304:
        return FeedPoll(None, etag, last_modified)
    if got.status != 200:
        raise status_error(got, "The feed’s server")
    named = feed_named_by(got)
    if named:
        # The address is that of the site; its page names the feed.
        got = web.fetch(named, headers={"Accept": headers["Accept"]}, max_bytes=MAX_BYTES)
        if got.status != 200:
            raise status_error(got, "The feed’s server")
    feed = in_worker(parse, got.body, got.charset, got.url)
    feed = _with_hub(feed, got)
    if named:
        return FeedPoll(feed, "", "", got.url)
    return FeedPoll(feed, got.headers.get("etag", ""), got.headers.get("last-modified", ""))


def _with_hub(feed: Feed, got: Fetched) -> Feed:
    """The feed with its hub: as the answer's head names it, else the feed itself (WebSub section 4); without one whose address is none."""
    links = {rel.lower(): link for link, rel in _LINKED.findall(got.headers.get("link", "")[:10_000])}
    named = links.get("hub", "") or feed.hub
    hub = _joined(got.url, named) if named else ""
    topic = _joined(got.url, links.get("self", "") or feed.topic or got.url)
    whole = all(one.startswith(("http://", "https://")) and len(one) <= 2000 for one in (hub, topic))
    return replace(feed, hub=hub, topic=topic) if hub not in ("", got.url) and whole else replace(feed, hub="", topic="")


def feed_named_by(got: Fetched) -> str:
    """The address of the feed a web page names (``<link rel="alternate">``, RSS Autodiscovery); empty for anything else."""
    if got.content_type not in ("text/html", "application/xhtml+xml") or not re.search(
        rb"<(?:html|head|link)\b", got.body[:20_000], re.I
    ):
        return ""
    found: dict[str, str] = {}
    for tag in re.findall(rb"<link\b[^<>]{0,2000}>", got.body[:500_000], re.I)[:200]:
        told = {name.lower(): html.unescape(a or b or c) for name, a, b, c in _ATTRIBUTE.findall(decode(tag))}
        kind = told.get("type", "").split(";")[0].strip().lower()
        if "alternate" in told.get("rel", "").lower().split() and kind in FEED_KINDS and told.get("href"):
            found.setdefault(kind, told["href"].strip())
    for kind in FEED_KINDS:
        if kind in found:
            try:
                return urljoin(got.url, found[kind])
            except ValueError:
                continue
    return ""


def parse(body: bytes, charset: str | None = None, url: str = "") -> Feed:
    """Read a feed from bytes. Raises `OutsideError` where it is not one at all."""
    start = body.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    if not start:
        raise BadAnswer("The feed is empty.")
    if start == b"{":
        return _json_feed(body, charset, url)
    return _xml_feed(body, charset, url)


def _xml_feed(body: bytes, charset: str | None, url: str) -> Feed:
    import feedparser  # loaded on first use: it is large
    from feedparser.mixin import _FeedParserMixin

    # An id is compared as it stands (RFC 4287 section 4.2.6.1); where it looks like a path it is none.
    _FeedParserMixin.can_be_relative_uri.discard("id")
    headers = {"content-location": url}
    if charset:
        headers["content-type"] = f"application/xml; charset={charset}"
    try:
        read: Any = feedparser.parse(body, response_headers=headers, sanitize_html=False)
    except Exception as error:  # a parser's own fault must not stop the others' feeds
        raise BadAnswer(f"This feed cannot be read ({type(error).__name__}).") from None
    if not read.version and not read.entries:
        what = "a web page" if re.search(rb"<html\b", body[:2000], re.I) else "something else"
        raise BadAnswer(f"This is not a feed but {what}. Look for the site’s feed address.")
    problems = _unknown_charset(charset)
    if read.bozo and not isinstance(read.bozo_exception, feedparser.CharacterEncodingOverride | feedparser.NonXMLContentType):
        problems.append("The feed is damaged; it was read as far as it could be.")
    entries = read.entries
    if problems and entries and not _ROOT_END.search(body[-400:]):
        # Half an item may lack its id and would count as a new one; it is read whole next time.
        last = max((m.end() for m in _ITEM_END.finditer(body)), default=0)
        if re.search(rb"<(?:item|entry)\b", body[last:], re.I):
            entries = entries[:-1]
    items, spoiled = _each(_xml_item, entries[:MOST_ITEMS])
    problems += spoiled
    if len(entries) > MOST_ITEMS:
        problems.append(f"Only the first {MOST_ITEMS} of {len(entries)} items were read.")
    told = {str(one.get("rel")): str(one.get("href") or "") for one in reversed(read.feed.get("links", []))}
    title, link = plain(read.feed.get("title", "")), read.feed.get("link", "")
    return Feed(title, link, _unique(items), problems + _lacks(items), told.get("hub", ""), told.get("self", ""))


def _xml_item(entry: Mapping[str, Any]) -> FeedItem:
    title, link = plain(entry.get("title", "")), str(entry.get("link", "") or "")
    content = entry.get("content") or [{}]
    summary = entry.get("summary") or content[0].get("value", "")
    files = [
        _file(e.get("href"), e.get("type"), e.get("length"), entry.get("itunes_duration")) for e in entry.get("enclosures", [])
    ]
    # What says nothing of its kind may be a recording as well.
    media = [m for m in entry.get("media_content", []) if m.get("medium") == "image" or str(m.get("type", "")).startswith("image/")]
    pictures = [*media, *entry.get("media_thumbnail", [])]
    told = entry.get("podcast_transcript") or {}
    return FeedItem(
        identity=_identity(str(entry.get("id", "") or ""), link, title, summary),
        title=title,
        link=link,
        summary=plain(summary),
        author=plain(entry.get("author", "")),
        published=_utc(entry.get("published_parsed") or entry.get("updated_parsed")),
        updated=_utc(entry.get("updated_parsed")),
        categories=[plain(t.get("term", "")) for t in entry.get("tags", []) if t.get("term")],
        id=str(entry.get("id", "") or ""),
        transcript=str(told.get("url", "") or "") if isinstance(told, Mapping) else "",
        **_brought(files, [_picture(m.get("url"), m.get("width"), m.get("height")) for m in pictures]),
    )


def _utc(when: Any) -> str:
    return dt.datetime.fromtimestamp(calendar.timegm(when), dt.UTC).isoformat() if when else ""


def _file(link: Any, kind: Any, size: Any, duration: Any) -> dict[str, Any]:
    return {"link": str(link or ""), "type": str(kind or ""), "bytes": _number(size), "seconds": _seconds(duration)}


def _picture(link: Any, width: Any = 0, height: Any = 0) -> dict[str, Any]:
    return {"link": str(link or ""), "width": _number(width), "height": _number(height)}


def _brought(files: list[dict[str, Any]], pictures: list[dict[str, Any]]) -> dict[str, Any]:
    """The pictures and files of an item, as its fields; what has no address or comes twice is left out."""
    named = list({one["link"]: one for one in files[:MOST_FILES] if one["link"]}.values())
    pictures = pictures + [_picture(one["link"]) for one in named if one["type"].startswith("image/")]
    shown = list({one["link"]: one for one in reversed(pictures[:MOST_FILES]) if one["link"]}.values())[::-1]
    shown.sort(key=lambda one: -(one["width"] * one["height"] or one["width"] or one["height"]))
    recordings = [one["link"] for one in named if one["type"].startswith(("audio/", "video/"))]
    return {
        "enclosures": named,
        "enclosure": recordings[0] if recordings else "",
        "images": shown,
        "image": shown[0]["link"] if shown else "",
    }


def _number(value: Any) -> int:
    try:
        return min(max(0, int(float(str(value or 0)))), 10**15)
    except (ValueError, OverflowError):
        return 0


def _seconds(value: Any) -> int:
    """A duration in seconds, as ``SS``, ``MM:SS`` or ``HH:MM:SS``."""
    parts = str(value or "").strip().split(":")
    if len(parts) > 3 or not all(re.fullmatch(r"\d{1,6}(?:\.\d+)?", part) for part in parts):
        return 0
    return int(sum(float(part) * 60**n for n, part in enumerate(reversed(parts))))


def _json_feed(body: bytes, charset: str | None, url: str) -> Feed:
    try:
        data = json.loads(decode(body, charset))
    except (ValueError, RecursionError):
        raise BadAnswer("This looks like a JSON feed but is cut off or damaged.") from None
    if not isinstance(data, dict) or not isinstance(data.get("items"), list):
        raise BadAnswer("This is JSON, but not a JSON Feed: it has no list of items.")
    items, spoiled = _each(lambda item: _json_item(item, url), [i for i in data["items"][:MOST_ITEMS] if isinstance(i, dict)])
    return Feed(
        plain(data.get("title", "")),
        str(data.get("home_page_url") or ""),
        _unique(items),
        _unknown_charset(charset) + spoiled + _lacks(items),
        next((str(one.get("url") or "") for one in _dicts(data.get("hubs")) if str(one.get("type")).lower() == "websub"), ""),
        str(data.get("feed_url") or ""),
    )


def _dicts(value: Any) -> list[dict[str, Any]]:
    return [one for one in value if isinstance(one, dict)] if isinstance(value, list) else []


def _json_item(item: Mapping[str, Any], url: str) -> FeedItem:
    text = item.get("summary") or item.get("content_text") or item.get("content_html") or ""
    link = _joined(url, str(item.get("url") or item.get("external_url") or ""))
    authors = item.get("authors") if isinstance(item.get("authors"), list) else [item.get("author")]
    tags = item.get("tags")
    attached: list[Any] = item["attachments"] if isinstance(item.get("attachments"), list) else []
    return FeedItem(
        identity=_identity(str(item.get("id") or ""), link, str(item.get("title", "")), str(text)),
        title=plain(item.get("title", "")),
        link=link,
        summary=plain(text),
        author=", ".join(
            plain(author.get("name", "")) for author in authors or [] if isinstance(author, dict) and author.get("name")
        ),
        published=moment(item.get("date_published")),
        updated=moment(item.get("date_modified")),
        categories=[str(t) for t in tags] if isinstance(tags, list) else [],
        id=str(item.get("id") or ""),
        **_brought(
            [
                _file(
                    _joined(url, str(one.get("url") or "")),
                    one.get("mime_type"),
                    one.get("size_in_bytes"),
                    one.get("duration_in_seconds"),
                )
                for one in attached
                if isinstance(one, dict) and one.get("url")
            ],
            [_picture(_joined(url, str(item[name]))) for name in ("image", "banner_image") if item.get(name)],
        ),
    )


def _unknown_charset(charset: str | None) -> list[str]:
    if charset:
        try:
            codecs.lookup(charset)
        except (LookupError, ValueError):
            return [f"It says that it is written in “{charset[:40]}”, which nobody knows; how it is written was guessed."]
    return []


def _each(read: Callable[[Any], FeedItem], entries: list[Any]) -> tuple[list[FeedItem], list[str]]:
    """Entries as items; one that cannot be read costs only itself, and is told of."""
    items: list[FeedItem] = []
    for entry in entries:
        try:
            items.append(read(entry))
        except Exception as error:  # whatever stands in it, the others are there
            log.info("an entry of a feed cannot be read: %r", error)
    lost = len(entries) - len(items)
    return items, [f"{lost} {'entry' if lost == 1 else 'entries'} could not be read."] if lost else []


def _joined(base: str, link: str) -> str:
    """A link as a whole address; as it stands where it is none."""
    try:
        return urljoin(base, link)
    except ValueError:
        return link


def _identity(own: str, link: str, title: str, summary: str) -> str:
    return own or link or "digest:" + hashlib.sha256(f"{title}\n{summary}".encode()).hexdigest()[:32]


def _unique(items: list[FeedItem]) -> list[FeedItem]:
    return list({item.identity: item for item in reversed(items)}.values())[::-1]


def _lacks(items: list[FeedItem]) -> list[str]:
    if not items:
        return ["The feed has no items yet."]
    out = []
    if not any(i.published for i in items):
        out.append("The items carry no dates.")
    if any(i.identity.startswith("digest:") for i in items):
        out.append("Some items have neither an id nor a link; a changed text counts as a new item.")
    return out


def moment(value: Any) -> str:
    from dateutil import parser

    try:
        when = parser.isoparse(str(value))
    except (ValueError, OverflowError):
        return ""
    return (when if when.tzinfo else when.replace(tzinfo=dt.UTC)).astimezone(dt.UTC).isoformat()


def plain(text: Any) -> str:
    """HTML in titles and summaries as plain text on one line."""
    bare = nh3.clean(str(text or ""), tags=set()) if "<" in str(text or "") else str(text or "")
    return re.sub(r"\s+", " ", html.unescape(bare)).strip()
