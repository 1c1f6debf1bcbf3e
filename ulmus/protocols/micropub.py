"""Posting by Micropub (W3C Recommendation), with ways to find out whether a post arrived.

A post carries a ``uid`` property (microformats2) and the same value as an Idempotency-Key header. Posts are sent
form-encoded, which every server takes (section 3.2); a server that wants JSON (415) gets that. A picture goes to the
server's media endpoint where it has one (section 3.6). After a lost answer the server is asked for its posts
(``q=source``), page after page where it gives pages, and the ``uid`` is looked for.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode, urljoin, urlsplit, urlunsplit

from urllib3 import encode_multipart_formdata

from .errors import BadAnswer, OutsideError, Refused
from .net import Fetched, Web, retry_after, status_error

PAGE = 100
MOST_PAGES = 50
SURELY_WHOLE = 10
"""A list without pages of fewer posts than this is the whole of them: no server cuts its lists so short."""
OLDER = 600.0
"""Seconds by which a post must be older than the attempt for the list to reach back behind it."""
KNOWN_FOR = 600.0
MOST_KNOWN = 1000
_LINK = re.compile(r'<([^>]*)>\s*;[^,<]*\brel="?[^",;]*\bmicropub\b', re.IGNORECASE)


@dataclass(frozen=True)
class Endpoint:
    """A Micropub endpoint, or the address of a site that names one, and its bearer token (RFC 6750)."""

    url: str
    token: str


@dataclass(frozen=True)
class Post:
    """A note (h-entry). `key` identifies it: the same key is the same post. A photo is an address, or a file (name, type,
    content)."""

    content: str
    key: str
    categories: tuple[str, ...] = ()
    photo: str | tuple[str, str, bytes] = ""


@dataclass(frozen=True)
class Created:
    """What the server answered: the post's address, where it gave one, and whether it is there by now (201) or only
    accepted (202)."""

    link: str
    there: bool


@dataclass(frozen=True)
class Looked:
    """What asking for a post brought: its address where it is there, and where it is not, whether the answer could have shown
    it; `why` not, in words."""

    link: str | None = None
    tells: bool = False
    why: str = ""


def create(web: Web, endpoint: Endpoint, post: Post) -> Created:
    """Publish `post`. Raises `OutsideError`; its `ambiguous` is set where the post may have been taken although no answer came."""
    endpoint = discovered(web, endpoint)
    headers = _headers(endpoint) | {"Idempotency-Key": f'"{post.key}"'}
    photo = post.photo
    if isinstance(photo, tuple):
        place = str(_known(web, endpoint).get("media-endpoint") or "")
        if not place:
            return _created(endpoint, _send(web, endpoint, headers, post, photo))
        photo = _upload(web, urljoin(endpoint.url, place), endpoint, photo)
    form = [("h", "entry"), ("content", post.content), ("uid", post.key)]
    form += [("category[]", category) for category in post.categories] + ([("photo", photo)] if photo else [])
    got = _post(web, endpoint.url, urlencode(form).encode(), "application/x-www-form-urlencoded", headers)
    if got.status == 415:
        # Refused unread: it takes JSON only.
        properties: dict[str, list[Any]] = {"content": [post.content], "uid": [post.key]}
        properties |= {"category": list(post.categories)} if post.categories else {}
        properties |= {"photo": [photo]} if photo else {}
        body = json.dumps({"type": ["h-entry"], "properties": properties}, ensure_ascii=False).encode()
        got = _post(web, endpoint.url, body, "application/json", headers)
    return _created(endpoint, got)


def _send(web: Web, endpoint: Endpoint, headers: Mapping[str, str], post: Post, photo: tuple[str, str, bytes]) -> Fetched:
    """A post with its picture in it (section 3.3.1), for servers without a media endpoint."""
    name, kind, content = photo
    form: list[tuple[str, Any]] = [("h", "entry"), ("content", post.content), ("uid", post.key), ("photo", (name, content, kind))]
    body, media = encode_multipart_formdata([*form, *(("category[]", category) for category in post.categories)])
    return _post(web, endpoint.url, body, media, headers, 120)


def _post(web: Web, url: str, body: bytes, kind: str, headers: Mapping[str, str], seconds: float = 30) -> Fetched:
    return web.fetch(
        url, method="POST", content=body, headers={**headers, "Content-Type": kind}, max_seconds=seconds, follow=(307, 308)
    )


def _upload(web: Web, place: str, endpoint: Endpoint, photo: tuple[str, str, bytes]) -> str:
    """Give a picture to the media endpoint; gives its address. A picture that is there twice harms nobody."""
    name, kind, content = photo
    body, media = encode_multipart_formdata([("file", (name, content, kind))])
    got = web.fetch(place, method="POST", content=body, headers={**_headers(endpoint), "Content-Type": media}, max_seconds=120)
    if got.status not in (200, 201, 202) or not got.headers.get("location"):
        error = status_error(got, "The network’s store for pictures")
        raise OutsideError(error.message, retryable=error.retryable, retry_after=error.retry_after)
    return urljoin(place, got.headers["location"])


def _created(endpoint: Endpoint, got: Fetched) -> Created:
    if got.status in (201, 202):
        place = got.headers.get("location", "").strip()
        return Created(urljoin(endpoint.url, place) if place else "", got.status == 201)
    raise _refusal(got)


# -- finding a post -------------------------------------------------------------------------------------


def find(web: Web, endpoint: Endpoint, key: str, since: float = 0.0, earlier: Mapping[str, float] | None = None) -> Looked:
    """Ask for a post with `key` that was sent at `since` (seconds since the epoch), if at all. `earlier` are keys of posts that
    had gone out before, with when.

    That it is not there is told only by an answer that could have shown it: posts are listed with their ``uid``, and either
    every page was read, or the list, newest first, reaches back behind it, or it is too short to have been cut. Raises
    `OutsideError` where the server cannot be reached now.
    """
    before = earlier or {}
    met: list[float] = []
    endpoint = discovered(web, endpoint)
    asked: set[str] = set()
    dates: list[float | None] = []
    after, count, keyed = "", 0, True
    for _ in range(MOST_PAGES):
        query = {"q": "source", "limit": str(PAGE)} | ({"after": after} if after else {})
        got = web.fetch(_with(endpoint.url, query), headers=_headers(endpoint))
        if got.status in (400, 404, 405, 501):
            return Looked(why="The network does not list its posts.")
        if got.status != 200:
            raise status_error(got, "The network")
        try:
            data = json.loads(got.body)
            if not isinstance(data["items"], list):
                raise TypeError("no list")
            for item in data["items"]:
                properties = item["properties"]
                uids = properties.get("uid") or []
                if key in (uids if isinstance(uids, list) else [uids]):
                    return Looked(str((properties.get("url") or [""])[0]))
                keyed = keyed and bool(uids)
                met += [before[uid] for uid in (uids if isinstance(uids, list) else [uids]) if uid in before]
                dates.append(_moment(properties.get("published")))
            count += len(data["items"])
            paging = data.get("paging")
            after = str(paging.get("after") or "") if isinstance(paging, dict) else ""
        except (ValueError, LookupError, TypeError, AttributeError):
            return Looked(why="The network’s list of posts cannot be read.")
        if not keyed:
            return Looked(why="The network lists posts without the key they were sent with.")
        if _reaches_behind(dates, since and since + _ahead(got)) or _passes(met, dates):
            return Looked(tells=True)
        if not after or after in asked:
            paged = isinstance(paging, dict)
            if paged or count < SURELY_WHOLE:
                return Looked(tells=True)
            return Looked(why="The network’s list of posts may have been cut before it.")
        asked.add(after)
    return Looked(why="The network’s list of posts is too long to be read to its end.")


def _ahead(got: Fetched) -> float:
    """By how many seconds the server's clock (RFC 9110, section 6.6.1) is ahead of ours."""
    try:
        return parsedate_to_datetime(got.headers["date"]).timestamp() - time.time()
    except (KeyError, ValueError, TypeError):
        return 0.0


def _reaches_behind(dates: list[float | None], since: float) -> bool:
    """Whether a list, newest first, goes back to posts from before `since`."""
    if not dates or not since or any(date is None for date in dates):
        return False
    known = [date for date in dates if date is not None]
    return known == sorted(known, reverse=True) and known[-1] < since - OLDER


def _passes(met: list[float], dates: list[float | None]) -> bool:
    """Whether a list that shows posts from before is newest first, as far as can be seen: by its own dates, or by the order of
    those posts."""
    if not met:
        return False
    known = [date for date in dates if date is not None]
    if len(known) == len(dates):
        return known == sorted(known, reverse=True)
    return met == sorted(met, reverse=True) and met[0] > met[-1]


def _moment(published: Any) -> float | None:
    try:
        first = published[0] if isinstance(published, list) else published
        moment = datetime.fromisoformat(str(first))
    except (ValueError, LookupError, TypeError):
        return None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


# -- what a server says of itself -----------------------------------------------------------------------


def discovered(web: Web, endpoint: Endpoint) -> Endpoint:
    """The endpoint itself where `endpoint` is the address of a site that names one (section 5.3): in a Link header, or in a
    ``link`` or ``a`` element with ``rel=micropub``. An address that names none is taken for the endpoint."""
    known = web.memory("micropub: endpoints", MOST_KNOWN, KNOWN_FOR)
    if (kept := known.get(endpoint.url)) is not None:
        return Endpoint(kept, endpoint.token)
    try:
        got = web.fetch(endpoint.url, headers={"Accept": "text/html, application/json;q=0.9"}, max_bytes=2_000_000, max_seconds=15)
    except OutsideError:
        return endpoint
    place = _named_in(got)
    found = urljoin(got.url, place) if place is not None else endpoint.url
    return Endpoint(known.put(endpoint.url, found), endpoint.token)


def _named_in(got: Fetched) -> str | None:
    link = _LINK.search(got.headers.get("link", ""))
    if link is not None:
        return link.group(1)
    if got.status != 200 or "html" not in got.content_type:
        return None
    for element in re.findall(rb"<(?:link|a)\b[^>]*>", got.body, re.IGNORECASE):
        text = element.decode("utf-8", "replace")
        rel = re.search(r"\brel\s*=\s*[\"']?([^\"'>]*)", text, re.IGNORECASE)
        href = re.search(r"\bhref\s*=\s*[\"']?([^\"'\s>]*)", text, re.IGNORECASE)
        if rel and href and "micropub" in rel.group(1).lower().split():
            return href.group(1)
    return None


def config(web: Web, endpoint: Endpoint) -> dict[str, Any]:
    """The server's configuration (``q=config``). Raises `OutsideError`."""
    endpoint = discovered(web, endpoint)
    got = web.fetch(_with(endpoint.url, {"q": "config"}), headers=_headers(endpoint))
    if got.status != 200:
        raise status_error(got, "The network")
    try:
        data = json.loads(got.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise BadAnswer("The network’s answer is not one of the Micropub protocol; check the address.")
    return data


def _known(web: Web, endpoint: Endpoint) -> dict[str, Any]:
    """The configuration as it was asked for lately; empty where the server has none (it need not)."""
    known = web.memory("micropub: configurations", MOST_KNOWN, KNOWN_FOR)
    place = (endpoint.url, endpoint.token)
    kept: dict[str, Any] | None = known.get(place)
    if kept is not None:
        return kept
    found: dict[str, Any] = {}
    try:
        found = config(web, endpoint)
    except OutsideError as error:
        if error.retryable:
            raise OutsideError(error.message, retryable=True, retry_after=error.retry_after) from None
    known.put(place, found)
    return found


def _with(url: str, query: Mapping[str, str]) -> str:
    """`url` with more in its query, beside what stands there already."""
    parts = urlsplit(url)
    return urlunsplit(parts._replace(query=urlencode([*parse_qsl(parts.query, keep_blank_values=True), *query.items()])))


def _headers(endpoint: Endpoint) -> dict[str, str]:
    key = {"Authorization": f"Bearer {endpoint.token}"} if endpoint.token else {}
    return {"Accept": "application/json", **key}


def _refusal(got: Fetched) -> OutsideError:
    error = status_error(got, "The network")
    try:
        said = json.loads(got.body).get("error_description", "")
    except (ValueError, AttributeError):
        said = ""
    if got.status < 400:
        words = f"The network answered the post with {got.status}, which does not say whether it was taken."
        return OutsideError(words, retryable=True, ambiguous=True)
    if said and not error.retryable:
        return Refused(f"The network refused the post: {said}")
    # 503 says that the request was not handled (RFC 9110, section 15.6.4); any other fault may have come after the effect.
    error.ambiguous = got.status >= 500 and got.status != 503
    error.retry_after = retry_after(got.headers.get("retry-after"))
    return error
