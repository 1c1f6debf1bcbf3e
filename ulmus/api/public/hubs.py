"""Where hubs of feeds call (WebSub): asking back whether they were meant to tell, and telling."""

from __future__ import annotations

from flask import Blueprint, Response, request

from ...runtime import links
from ..http.base import house
from ..security.auth import room

outside = Blueprint("hubs", __name__)
LARGEST = 8_000_000
A_MINUTE = 60
GONE = "Nothing listens here (any more)."


@outside.get("/hub/<token>")
def asked(token: str) -> Response:
    """A hub asks whether it was asked to tell (section 5.3)."""
    try:
        number = links.read_key(house().services.sealer.key, "hub", token)
    except links.LinkError:
        return _said(GONE, 404)
    given = request.args
    mode, topic, challenge = given.get("hub.mode", ""), given.get("hub.topic", ""), given.get("hub.challenge", "")
    if not house().engine.hubs.agrees(number, mode, topic[:2000], given.get("hub.lease_seconds", "")):
        return _said(GONE, 404)
    return _said(challenge[:2000], 200)


@outside.post("/hub/<token>")
@room(LARGEST)
def told(token: str) -> Response:
    """A hub tells that there is something new (section 7). What it sends along is not read: the feed itself is looked at."""
    try:
        number = links.read_key(house().services.sealer.key, "hub", token)
    except links.LinkError:
        return _said(GONE, 410)
    if not house().crowd.allows(f"hub:{number}", A_MINUTE, 60, house().services.clock()):
        return _said("Not so often.", 429)
    # Whoever does not sign rightly learns nothing from the answer.
    house().engine.hubs.told(number, request.headers.get("X-Hub-Signature", ""), request.get_data(cache=False))
    return _said("", 202)


def _said(words: str, status: int) -> Response:
    return Response(words, status, mimetype="text/plain", headers={"X-Content-Type-Options": "nosniff"})
