"""Posting by Micropub (W3C Recommendation), with ways to find out whether a post arrived.

A post may have a title (then it is an article), HTML, pictures with words for those who cannot see them, tags, something it answers
and targets it is handed on to; one that is there can be changed. It carries a ``uid`` property (microformats2) and the same value as an Idempotency-Key header. Posts are sent
form-encoded, which every server takes (section 3.2), or as JSON where only that can say it; a server that wants the other (415) gets that. A picture goes to the
server's media endpoint where it has one (section 3.6). After a lost answer the server is asked for its posts
(``q=source``), page after page where it gives pages, and the ``uid`` is looked for.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl, urlencode, urljoin, urlsplit, urlunsplit

from urllib3 import encode_multipart_formdata

from .errors import BadAnswer, OutsideError, Refused
from .net import Fetched, Web, clock_ahead, retry_after, status_error

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
class Picture:
    """A picture of a post: `at` an address, or a file (name, type, content); `words` say what it shows."""

    at: str | tuple[str, str, bytes]
    words: str = ""


@dataclass(frozen=True)
class Post:
    """A note or, with a title, an article (h-entry). `key` identifies it: the same key is the same post. With `html` the content
    is HTML. `answers` is the address of what it answers, `also` are the identities of syndication targets (section 3.7.3); one
    that is `held_back` is kept as a draft (``post-status``)."""

    content: str
    key: str
    categories: tuple[str, ...] = ()
    photos: tuple[Picture, ...] = ()
    title: str = ""
    html: bool = False
    summary: str = ""
    answers: str = ""
    also: tuple[str, ...] = ()
    held_back: bool = False


@dataclass(frozen=True)
class Target:
    """A place a network hands posts on to: its identity and its name."""

    uid: str
    name: str


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
    post = _uploaded(web, endpoint, post)
    if any(not isinstance(photo.at, str) for photo in post.photos):
        if post.html:
            raise Refused("The network has no store for pictures; give the picture as an address on the web.")
        return _created(endpoint, _post(web, endpoint.url, *_in_parts(post), headers, 120))
    ways = [_as_form, _as_json]
    if post.html or any(photo.words for photo in post.photos):
        # What only JSON can say (section 3.3.2) goes as JSON; words of pictures have a place in forms with some servers.
        ways = [_as_json] if post.html else [_as_json, _as_form]
    for way in ways:
        got = _post(web, endpoint.url, *way(post), headers)
        if got.status != 415:  # refused unread: it takes the other only
            break
    return _created(endpoint, got)


def update(web: Web, endpoint: Endpoint, place: str, post: Post) -> Created:
    """Put `post` in the place of the one at an address (section 3.4). The same again changes nothing. Raises `OutsideError`."""
    endpoint = discovered(web, endpoint)
    post = _uploaded(web, endpoint, post)
    if any(not isinstance(photo.at, str) for photo in post.photos):
        raise Refused("The network has no store for pictures; give the picture as an address on the web.")
    replaced = {name: values for name, values in _properties(post).items() if name not in ("uid", "mp-syndicate-to")}
    replaced.setdefault("post-status", ["published"])
    body = json.dumps({"action": "update", "url": place, "replace": replaced}, ensure_ascii=False).encode()
    got = _post(web, endpoint.url, body, "application/json", _headers(endpoint))
    if got.status in (200, 201, 204):
        moved = got.headers.get("location", "").strip()
        return Created(urljoin(endpoint.url, moved) if moved else place, True)
    raise _refusal(got)


def _uploaded(web: Web, endpoint: Endpoint, post: Post) -> Post:
    """The post with its pictures at the media endpoint, where there is one."""
    if all(isinstance(photo.at, str) for photo in post.photos):
        return post
    store = str(_known(web, endpoint).get("media-endpoint") or "")
    if not store:
        return post
    place = urljoin(endpoint.url, store)
    photos = [
        photo if isinstance(photo.at, str) else replace(photo, at=_upload(web, place, endpoint, photo.at)) for photo in post.photos
    ]
    return replace(post, photos=tuple(photos))


def keep(web: Web, endpoint: Endpoint, picture: tuple[str, str, bytes]) -> str:
    """Have the network keep a picture; gives its address. Raises `OutsideError` where it keeps none."""
    kept = _uploaded(web, discovered(web, endpoint), Post("", "", photos=(Picture(picture),))).photos[0].at
    if not isinstance(kept, str):
        raise Refused("The network has no store for pictures; give the picture as an address on the web.")
    return kept


def _properties(post: Post) -> dict[str, list[Any]]:
    photos = [{"value": photo.at, "alt": photo.words} if photo.words else photo.at for photo in post.photos]
    given: dict[str, list[Any]] = {
        "name": [post.title] if post.title else [],
        "content": [{"html": post.content}] if post.html else [post.content],
        "summary": [post.summary] if post.summary else [],
        "uid": [post.key],
        "category": list(post.categories),
        "photo": list(photos),
        "in-reply-to": [post.answers] if post.answers else [],
        "mp-syndicate-to": list(post.also),
        "post-status": ["draft"] if post.held_back else [],
    }
    return {name: values for name, values in given.items() if values}


def _as_json(post: Post) -> tuple[bytes, str]:
    body = json.dumps({"type": ["h-entry"], "properties": _properties(post)}, ensure_ascii=False).encode()
    return body, "application/json"


def _pairs(post: Post) -> list[tuple[str, Any]]:
    """The post as a form; the words of a picture stand under the name that servers have for them beside the standard."""
    pairs: list[tuple[str, Any]] = [("h", "entry")]
    for name, values in _properties(replace(post, photos=())).items():
        pairs += [(f"{name}[]" if name in ("category", "mp-syndicate-to") else name, value) for value in values]
    several = "[]" if len(post.photos) > 1 else ""
    for photo in post.photos:
        pairs.append((f"photo{several}", photo.at))
        pairs += [(f"mp-photo-alt{several}", photo.words)] if photo.words or several else []
    return pairs


def _as_form(post: Post) -> tuple[bytes, str]:
    return urlencode(_pairs(post)).encode(), "application/x-www-form-urlencoded"


def _in_parts(post: Post) -> tuple[bytes, str]:
    """A post with its pictures in it (section 3.3.1), for servers without a media endpoint."""
    parts = [(name, (value[0], value[2], value[1]) if isinstance(value, tuple) else value) for name, value in _pairs(post)]
    body, kind = encode_multipart_formdata(parts)
    return body, kind


def targets(web: Web, endpoint: Endpoint) -> list[Target]:
    """Where the network hands posts on to (``q=syndicate-to``); empty where it does not say. Raises `OutsideError`."""
    endpoint = discovered(web, endpoint)
    told = _known(web, endpoint)
    if not isinstance(told.get("syndicate-to"), list):
        got = web.fetch(_with(endpoint.url, {"q": "syndicate-to"}), headers=_headers(endpoint))
        try:
            told = json.loads(got.body) if got.status == 200 else {}
        except ValueError:
            told = {}
    named = told.get("syndicate-to") if isinstance(told, dict) else None
    found = [one for one in named if isinstance(one, dict) and one.get("uid")] if isinstance(named, list) else []
    return [Target(str(one["uid"]), str(one.get("name") or one["uid"])) for one in found]


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
        if _reaches_behind(dates, since and since + clock_ahead(got)) or _passes(met, dates):
            return Looked(tells=True)
        if not after or after in asked:
            paged = isinstance(paging, dict)
            if paged or count < SURELY_WHOLE:
                return Looked(tells=True)
            return Looked(why="The network’s list of posts may have been cut before it.")
        asked.add(after)
    return Looked(why="The network’s list of posts is too long to be read to its end.")


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
