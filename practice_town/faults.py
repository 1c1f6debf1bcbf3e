"""Misbehaving on purpose: the ways an outside can fail, applied before or instead of its answer."""

from __future__ import annotations

import time
from collections.abc import Iterator

from flask import Response, request

PATIENCE = 300

MODES: dict[str, dict[str, str]] = {
    "feed": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 3 seconds",
        "notfeed": "a web page instead of a feed",
        "cut": "cut off in the middle",
        "huge": "50 MB",
        "inward": "redirects to a private address",
        "bare": "no dates and no ids",
    },
    "page": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "gone": "404, nothing there",
        "empty": "empty",
        "pdf": "a PDF",
        "endless": "never stops sending",
        "legacy": "an old encoding, undeclared",
    },
    "model": {
        "slow": "starts after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "garbage": "something that is no answer",
        "empty": "an empty text",
        "half": "half a stream",
        "never": "never answers",
        "plain": "no streaming, no usage figures",
        "bare": "knows no schemas and no stream options",
        "notools": "knows no tools",
        "nosystem": "knows no standing part",
        "short": "takes 1,000 tokens at most",
        "refusal": "refuses in words",
        "loop": "says the same over and over",
        "cut": "cut off at a third of its answer",
    },
    "network": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own, nothing taken",
        "busy": "429, asks to come back in 3 seconds",
        "refuse": "403, refuses the key",
        "lost": "takes the post and drops the reply",
        "mute": "takes the post, drops the reply, and cannot be asked",
    },
    "lists": {
        "late": "Pondside lists a post only after 20 seconds",
        "bare": "Pondside lists its posts without the keys they came with",
        "cut": "Pondside lists its last 20 posts and no pages",
        "doubles": "Pondside keeps what it is sent twice",
    },
    "hub": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "refuse": "refuses to tell of the feed",
        "silent": "says yes and never asks back",
        "denied": "says yes, and then that it will not",
        "stray": "asks back about another feed",
        "short": "tells for two seconds only",
        "forged": "signs with somebody else’s secret",
        "eager": "tells five times of each article",
    },
    "calendar": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
    },
    "search": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "garbage": "a page for people instead of results",
        "none": "finds nothing",
    },
    "pictures": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "garbage": "a web page instead of a picture",
        "refuse": "refuses the prompt in words",
        "links": "gives addresses of pictures, and refuses to be told how",
    },
    "contacts": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "cut": "JSON cut off in the middle",
        "lost": "makes the change and drops the reply",
    },
    "render": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "lost": "takes the job and drops the reply",
        "failing": "takes the job, which then fails",
        "stuck": "takes the job, which is never ready",
    },
    "outreach": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "lost": "takes the lead and drops the reply",
    },
    "room": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "lost": "takes the message and drops the reply",
    },
    "blog": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "refuse": "403, refuses the key",
        "lost": "takes the article and drops the reply",
        "garbage": "a web page instead of its service document",
    },
    "listing": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "busy": "429, asks to come back in 2 seconds",
        "lost": "lists it and drops the reply",
    },
    "oauth": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "withdrawn": "says that what was granted is granted no more",
    },
    "files": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "garbage": "a web page instead of a list or a file",
        "locked": "423, somebody has the file open",
        "full": "507, no room left",
        "lost": "saves the file and drops the reply",
    },
    "recording": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "cut": "cut off in the middle",
        "damaged": "a damaged transcript",
    },
    "report": {
        "slow": "answers after 5 seconds",
        "down": "500, a fault of its own",
        "cut": "cut off in the middle",
    },
    "mail": {
        "busy": "451, try again later",
        "refuse": "550, unknown here",
        "lost": "keeps the letter, and hangs up before it says so",
    },
    "mailbox": {
        "down": "hangs up at once",
        "silent": "never says a word",
        "refuse": "does not accept the key",
        "garbage": "a web page instead of a greeting",
    },
}


def common(mode: str) -> Response | None:
    """The faults every HTTP outside shares; ``None`` where the answer should go on as usual."""
    if mode == "slow":
        time.sleep(5)
    elif mode == "never":
        time.sleep(PATIENCE)
        drop()
    elif mode == "down":
        return Response("The server has a fault of its own.", 500)
    elif mode == "busy":
        return Response("Too many requests.", 429, {"Retry-After": "2"})
    return None


LINE = "town.line"
"""Where a request's environment holds its socket."""


def drop() -> None:
    """Cut the line without an answer."""
    line = request.environ.get(LINE)
    if line is not None:
        line.shutdown(2)


def endless(piece: bytes, total: int | None = None) -> Iterator[bytes]:
    """`piece` again and again, up to `total` bytes, or for as long as somebody listens."""
    sent = 0
    started = time.monotonic()
    while (total is None or sent < total) and time.monotonic() - started < PATIENCE:
        yield piece
        sent += len(piece)
