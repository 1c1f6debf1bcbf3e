"""Manners towards sites: what they let programs read (robots.txt, RFC 9309), asked once an hour for each host; and one
request at a time to each."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import urlsplit

from .errors import OutsideError, Refused
from .net import Enough, Fetched, Web

NAME = "Ulmus"
LARGEST = 512_000
KEPT_SECONDS = 3600.0
MOST_HOSTS = 2000
PATIENCE = 10.0


@contextmanager
def turn(web: Web, url: str) -> Iterator[None]:
    """One at a time for each host, but for those the owner calls their own."""
    host = urlsplit(url).netloc
    if host in web.allowed:
        yield
        return
    with web.memory("robots: turns", MOST_HOSTS).setdefault(host, threading.Lock()):
        yield


def _rules(web: Web, root: str) -> Any:
    """The rules of a host as last read."""
    return web.memory("robots", MOST_HOSTS, KEPT_SECONDS).get_or(root, lambda: _read(web, root))


def forget(web: Web) -> None:
    """Read the rules of every host anew when they are next needed."""
    web.memory("robots", MOST_HOSTS, KEPT_SECONDS).clear()


def check(web: Web, url: str) -> None:
    """Raise `OutsideError` where the site asks programs not to read `url`.

    No file, or a refusal to show one, allows all; a server that fails on it allows nothing until it answers (RFC 9309
    section 2.3.1).
    """
    parts = urlsplit(url)
    rules = _rules(web, f"{parts.scheme}://{parts.netloc}")
    if rules is not None and not rules.can_fetch(url, NAME):
        raise Refused(f"“{parts.hostname}” asks programs not to read this page (robots.txt).")


def sitemaps(web: Web, url: str) -> list[str]:
    """The addresses of the sitemaps a host names; empty where it names none."""
    parts = urlsplit(url)
    rules = _rules(web, f"{parts.scheme}://{parts.netloc}")
    return list(rules.sitemaps)[:20] if rules is not None else []


def _read(web: Web, root: str) -> Any:
    from protego import Protego  # loaded on first use

    pieces: list[bytes] = []

    def take(answer: Fetched, piece: bytes) -> None:
        pieces.append(piece)
        if sum(map(len, pieces)) > LARGEST:
            raise Enough  # RFC 9309 section 2.5: what stands further down need not be read

    got = web.fetch(f"{root}/robots.txt", max_bytes=4 * LARGEST, max_seconds=PATIENCE, take=take)
    if got.status >= 500:
        raise OutsideError(f"“{urlsplit(root).hostname}” cannot say what may be read (robots.txt: {got.status}).", retryable=True)
    if got.status != 200:
        return None
    text = b"".join(pieces)[:LARGEST].decode("utf-8-sig", errors="replace")
    return Protego.parse(text[: text.rfind("\n") + 1] if len(text) >= LARGEST else text)
