"""Posting by Micropub (W3C Recommendation), with ways to find out whether a post arrived.

A post carries a ``uid`` property (microformats2) and the same value as an Idempotency-Key header.
After a lost answer the server is asked for its recent posts (``q=source``) and the ``uid`` is looked for.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode, urljoin

from urllib3 import encode_multipart_formdata

from .errors import OutsideError
from .net import Fetched, Web, status_error


@dataclass(frozen=True)
class Endpoint:
    """A Micropub endpoint and its bearer token (RFC 6750)."""

    url: str
    token: str


@dataclass(frozen=True)
class Post:
    """A note (h-entry). `key` identifies it: the same key is the same post. A photo is an address, or a file (name, type,
    content), which goes along with the post (section 3.3.1)."""

    content: str
    key: str
    categories: tuple[str, ...] = ()
    photo: str | tuple[str, str, bytes] = ""


def create(web: Web, endpoint: Endpoint, post: Post) -> str:
    """Publish `post` and give its address (the Location header). Raises `OutsideError`.

    `OutsideError.ambiguous` is set where the post may have been taken although no answer came.
    """
    properties: dict[str, list[Any]] = {"content": [post.content], "uid": [post.key]}
    if post.categories:
        properties["category"] = list(post.categories)
    headers = _headers(endpoint) | {"Idempotency-Key": f'"{post.key}"'}
    if isinstance(post.photo, tuple):
        form: list[tuple[str, Any]] = [("h", "entry"), ("content", post.content), ("uid", post.key), ("photo", _part(post.photo))]
        body, kind = encode_multipart_formdata([*form, *(("category[]", one) for one in post.categories)])
        got = web.fetch(endpoint.url, method="POST", content=body, headers={**headers, "Content-Type": kind}, max_seconds=120)
    else:
        if post.photo:
            properties["photo"] = [post.photo]
        got = web.fetch(endpoint.url, method="POST", json={"type": ["h-entry"], "properties": properties}, headers=headers)
    if got.status in (201, 202):
        return urljoin(endpoint.url, got.headers.get("location", ""))
    raise _refusal(got)


def _part(file: tuple[str, str, bytes]) -> tuple[str, bytes, str]:
    name, kind, content = file
    return name, content, kind


def find(web: Web, endpoint: Endpoint, key: str) -> tuple[bool, str]:
    """Ask whether a post with `key` is there: (can the server tell, its address or an empty text).

    Raises `OutsideError` where the server cannot be reached now.
    """
    got = web.fetch(f"{endpoint.url}?{urlencode({'q': 'source', 'limit': 50})}", headers=_headers(endpoint))
    if got.status in (400, 404, 405, 501):
        return False, ""
    if got.status != 200:
        raise status_error(got, "The network")
    try:
        items = json.loads(got.body)["items"]
        for item in items:
            properties = item["properties"]
            if key in properties.get("uid", []):
                return True, str((properties.get("url") or [""])[0])
    except (ValueError, LookupError, TypeError, AttributeError):
        return False, ""
    return True, ""


def config(web: Web, endpoint: Endpoint) -> dict[str, Any]:
    """The server's configuration (``q=config``). Raises `OutsideError`."""
    got = web.fetch(f"{endpoint.url}?q=config", headers=_headers(endpoint))
    if got.status != 200:
        raise status_error(got, "The network")
    try:
        data = json.loads(got.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise OutsideError("The network’s answer is not one of the Micropub protocol; check the address.")
    return data


def _headers(endpoint: Endpoint) -> dict[str, str]:
    key = {"Authorization": f"Bearer {endpoint.token}"} if endpoint.token else {}
    return {"Accept": "application/json", **key}


def _refusal(got: Fetched) -> OutsideError:
    error = status_error(got, "The network")
    try:
        said = json.loads(got.body).get("error_description", "")
    except (ValueError, AttributeError):
        said = ""
    if said and not error.retryable:
        return OutsideError(f"The network refused the post: {said}")
    if got.status >= 500:
        error.ambiguous = True
    return error
