"""The hub of the Courier's feeds (WebSub): it takes who wants to be told, asks back whether that was meant, and tells them of each new
article, signed."""

from __future__ import annotations

import hashlib
import hmac
import secrets
import threading
import time
from typing import Any

import httpx
from flask import Blueprint, Response, current_app, request
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .state import State

bp = Blueprint("hub", __name__)
SITES = ("cutside-courier",)
"""The sites whose feeds name it."""
LEASE = 86_400


@bp.post("/hub")
def asked() -> AnyResponse:
    """Somebody wants to be told, or not to any more."""
    state: State = current_app.extensions["town"]
    mode = state.fault("hub")
    early = faults.common(mode)
    if early is not None:
        return early
    form = {name.removeprefix("hub."): value for name, value in request.form.items()}
    if mode == "refuse" or form.get("mode") not in ("subscribe", "unsubscribe") or not form.get("callback"):
        return Response("This topic is not ours.", 400)
    if mode != "silent":
        threading.Thread(target=_ask_back, args=(state, form, mode), daemon=True).start()
    return Response("", 202)


def _ask_back(state: State, form: dict[str, str], mode: str) -> None:
    challenge = secrets.token_hex(8)
    topic = form["topic"] if mode != "stray" else form["topic"] + "?other"
    query: dict[str, Any] = {"hub.mode": form["mode"], "hub.topic": topic, "hub.challenge": challenge}
    if mode == "denied":
        query = {"hub.mode": "denied", "hub.topic": topic, "hub.reason": "Not for you."}
    elif form["mode"] == "subscribe":
        query["hub.lease_seconds"] = str(2 if mode == "short" else LEASE)
    try:
        answer = httpx.get(form["callback"], params=query, timeout=5, trust_env=False)
    except httpx.HTTPError:
        return
    if mode == "denied" or not 200 <= answer.status_code < 300 or answer.text != challenge:
        return
    with state.lock:
        if form["mode"] == "subscribe":
            state.told[form["callback"]] = {"topic": topic, "secret": form.get("secret", ""), "until": time.time() + LEASE}
        else:
            state.told.pop(form["callback"], None)
        state.save()


def tell(state: State, site: str) -> None:
    """Tell all who want to know that there is a new article of a site."""
    mode = state.mode("hub")
    with state.lock:
        lines = [(place, one) for place, one in state.told.items() if f"/sites/{site}/" in one["topic"]]
    for place, one in lines:
        body = f"There is something new at {one['topic']}".encode()
        secret = "somebody else's" if mode == "forged" else one["secret"]
        signature = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
        headers = {"X-Hub-Signature": f"sha256={signature}", "Content-Type": "application/atom+xml"}
        for _ in range(5 if mode == "eager" else 1):
            try:
                httpx.post(place, content=body, headers=headers, timeout=5, trust_env=False)
            except httpx.HTTPError:
                continue
