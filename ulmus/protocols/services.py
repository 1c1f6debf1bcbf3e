"""Data services over HTTP: one question, all its pages, the values picked; and jobs that are handed in and waited for.

Answers in JSON are read as such, others as text. Errors are told with the reason the service gives, also in problem
details (RFC 9457). A job is answered with 202 and the place to look (RFC 9110 section 15.3.3), or tells its state in a field.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlencode, urljoin, urlsplit, urlunsplit

from .errors import BadAnswer, OutsideError
from .jsonpath import pick
from .net import Fetched, Web, retry_after, status_error
from .text import decode

LARGEST = 8_000_000
MOST_PAGES = 50
_NEXT = re.compile(r'<([^>]+)>\s*;[^,]*\brel="?next"?', re.IGNORECASE)


@dataclass(frozen=True)
class Question:
    """What is asked. `body` is JSON, or names with values for a form; `query` is put into the address."""

    url: str
    method: str = "GET"
    headers: Mapping[str, str] = field(default_factory=dict, repr=False)
    query: Mapping[str, str] = field(default_factory=dict)
    body: Any = None
    form: bool = False
    seconds: float = 30.0


@dataclass(frozen=True)
class Said:
    """An answer: its status, what it holds (JSON values, or text), and its headers."""

    status: int
    data: Any
    headers: Mapping[str, str]


@dataclass(frozen=True)
class Paging:
    """How further pages are come by: ``no``, ``link`` (Link header, RFC 8288), ``field`` (the next address or mark stands at
    `path`; a mark goes into the query as `name`), or ``number`` (the query's `name` counts up from 1)."""

    how: str = "no"
    path: str = ""
    name: str = "page"
    most: int = 10


def ask(web: Web, question: Question) -> Said:
    """The answer to one question. Raises `OutsideError` with the reason the service gives."""
    url = with_query(question.url, question.query)
    body = {} if question.body is None else {"data": question.body} if question.form else {"json": question.body}
    headers = {"Accept": "application/json, */*;q=0.5", **question.headers}
    got = web.fetch(url, method=question.method, headers=headers, max_bytes=LARGEST, max_seconds=question.seconds, **body)
    if got.status >= 400:
        raise _refusal(got)
    return Said(got.status, _data(got), got.headers)


def ask_all(web: Web, question: Question, path: str, paging: Paging) -> tuple[list[Any], Said]:
    """The values at `path` (RFC 9535) of every page, and the first answer. A single list that is picked is taken apart."""
    first: Said | None = None
    found: list[Any] = []
    asked: set[str] = set()
    for number in range(1, min(paging.most, MOST_PAGES) + 1 if paging.how != "no" else 2):
        here = question
        if paging.how == "number":
            here = _asking(question, {paging.name: str(number)})
        mark = with_query(here.url, here.query)
        if mark in asked:
            break
        asked.add(mark)
        said = ask(web, here)
        first = first or said
        values = pick(said.data, path) if path else [said.data]
        values = values[0] if len(values) == 1 and isinstance(values[0], list) else values
        found += values
        following = _following(said, here, paging) if values else None
        if paging.how == "number":
            if not values:
                break
        elif following is None:
            break
        else:
            question = following
    assert first is not None
    return found, first


@dataclass(frozen=True)
class Job:
    """How a job is followed. `state` is where its state stands in the answer, with the words for done and failed; `place`
    where the address to look stands, when no Location header gives it; `result` what is picked at the end."""

    state: str = "$.status"
    done: tuple[str, ...] = ("done", "ready", "completed", "succeeded", "finished")
    failed: tuple[str, ...] = ("failed", "error", "cancelled", "canceled", "rejected")
    place: str = ""
    result: str = ""
    every: float = 5.0
    longest: float = 900.0


@dataclass(frozen=True)
class Looked:
    """How a job stands: what is picked of it once it is over (in `result`), else where and in how many seconds to look again."""

    state: str
    place: str
    over: bool
    result: Any = None
    again_in: float = 0.0


def hand_in(web: Web, question: Question, job: Job) -> Looked:
    """Hand a job in. Raises `OutsideError`; its `ambiguous` is set where the job may have been taken although nothing says so.

    The question should carry an Idempotency-Key. A redirect is not followed: whether the job was taken is not known then.
    """
    said = act(web, question)
    place = said.headers.get("location", "") if said.status in (201, 202) else ""
    if not place and job.place:
        place = str(next(iter(pick(said.data, job.place)), "") or "")
    return _looked(said, urljoin(question.url, place) if place else "", job, job.every)


def look_after(web: Web, place: str, headers: Mapping[str, str], job: Job, waited: float) -> Looked:
    """Look how a job gets on that was handed in `waited` seconds ago. Raises `OutsideError` where it failed, or is not ready
    in the time it has; looking changes nothing there."""
    said = ask(web, Question(place, headers=headers, seconds=60))
    looked = _looked(said, place, job, min(job.every + waited / 4, 60.0))
    if not looked.over and waited + looked.again_in > job.longest:
        raise OutsideError(f"The job was not ready after {_span(job.longest)}; it was last “{looked.state or 'under way'}”.")
    return looked


def place_of(said: Said, question: Question) -> str:
    """Where what was made stands, as the answer says (RFC 9110, section 15.3.2); empty where it does not."""
    place = said.headers.get("location", "") if said.status in (201, 202) else ""
    return urljoin(question.url, place) if place else ""


def act(web: Web, question: Question) -> Said:
    """A request that changes something there. Raises `OutsideError`, ambiguous where it may have. A redirect is followed only
    where the method stays."""
    url = with_query(question.url, question.query)
    body = {} if question.body is None else {"data": question.body} if question.form else {"json": question.body}
    headers = {"Accept": "application/json, */*;q=0.5", **question.headers}
    got = web.fetch(
        url, method=question.method, headers=headers, max_bytes=LARGEST, max_seconds=question.seconds, follow=(307, 308), **body
    )
    if 200 <= got.status < 300:
        return Said(got.status, _data(got), got.headers)
    error = _refusal(got)
    # 503 says that the request was not handled (RFC 9110, section 15.6.4); any other fault may have come after the effect.
    error.ambiguous = got.status < 400 or (got.status >= 500 and got.status != 503)
    raise error


def upload(web: Web, url: str, headers: Mapping[str, str], file: tuple[str, str, bytes]) -> Said:
    """Give a service a file (name, type, content) to keep. Raises `OutsideError`, never ambiguous: one that is there twice harms
    nobody."""
    name, kind, content = file
    told = {"Accept": "application/json, */*;q=0.5", "Content-Type": kind, "Slug": quote(name), **headers}
    got = web.fetch(url, method="POST", content=content, headers=told, max_bytes=LARGEST, max_seconds=120)
    if 200 <= got.status < 300:
        return Said(got.status, _data(got), got.headers)
    raise _refusal(got)


def _looked(said: Said, place: str, job: Job, pause: float) -> Looked:
    state = _state(said, job)
    if state in job.failed:
        raise OutsideError(f"The job failed: {_reason(said.data) or state}.")
    if not (said.status == 202 or (state and state not in job.done)):
        picked = pick(said.data, job.result) if job.result else [said.data]
        return Looked(state or "done", place, True, picked[0] if len(picked) == 1 else picked)
    if not place:
        raise BadAnswer("The service took the job but did not say where to look for it.")
    asked = retry_after(said.headers.get("retry-after"))
    return Looked(state, place, False, again_in=min(max(asked if asked is not None else pause, 0.05), 120.0))


def same_host(a: str, b: str) -> bool:
    """Whether two addresses lead to the same host and port by the same scheme, so that a key for one may go to the other."""
    return urlsplit(a)[:2] == urlsplit(b)[:2]


def with_query(url: str, query: Mapping[str, str]) -> str:
    """`url` with more in its query."""
    if not query:
        return url
    parts = urlsplit(url)
    more = urlencode(query)
    return urlunsplit((*parts[:3], f"{parts.query}&{more}" if parts.query else more, parts.fragment))


def _asking(question: Question, more: Mapping[str, str]) -> Question:
    return Question(
        question.url, question.method, question.headers, {**question.query, **more}, question.body, question.form, question.seconds
    )


def _following(said: Said, question: Question, paging: Paging) -> Question | None:
    if paging.how == "link":
        found = _NEXT.search(said.headers.get("link", ""))
        target = found.group(1) if found else ""
    elif paging.how == "field":
        target = str(next(iter(pick(said.data, paging.path)), "") or "")
        if target and not target.startswith(("http://", "https://", "/")):
            return _asking(question, {paging.name: target})
    else:
        return None
    if not target:
        return None
    url = urljoin(question.url, target)
    # Keys go on only to the host they were meant for.
    headers = question.headers if same_host(url, question.url) else {}
    return Question(url, question.method, headers, {}, question.body, question.form, question.seconds)


def _data(got: Fetched) -> Any:
    text = decode(got.body, got.charset)
    if "json" in got.content_type or text.lstrip()[:1] in ("{", "["):
        try:
            return json.loads(text)
        except (ValueError, RecursionError):
            if "json" in got.content_type:
                raise BadAnswer("The service sent JSON that is cut off or damaged.", retryable=True) from None
    return text


def _refusal(got: Fetched) -> OutsideError:
    error = status_error(got, "The service")
    try:
        said = _reason(_data(got))
    except OutsideError:
        said = ""
    return OutsideError(
        f"{error.message} It says: {said}" if said else error.message, retryable=error.retryable, retry_after=error.retry_after
    )


def _reason(data: Any) -> str:
    """The reason in an answer that refuses (RFC 9457, and the ways most services have)."""
    if isinstance(data, str):
        return "" if "<" in data else " ".join(data.split())[:200]
    if isinstance(data, Mapping):
        for name in ("detail", "message", "error_description", "title", "error", "reason"):
            value = data.get(name)
            if isinstance(value, Mapping):
                return _reason(value)
            if isinstance(value, str) and value:
                return " ".join(value.split())[:200].rstrip(".")
    return ""


def _state(said: Said, job: Job) -> str:
    found = pick(said.data, job.state) if job.state and isinstance(said.data, dict | list) else []
    return str(found[0]).casefold() if found and isinstance(found[0], str) else ""


def _span(seconds: float) -> str:
    return f"{seconds / 60:g} minutes" if seconds >= 120 else f"{seconds:g} seconds"
