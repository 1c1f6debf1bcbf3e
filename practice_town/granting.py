"""The town's gatekeeper: OAuth 2 (RFC 6749) for programs and for people, with PKCE (RFC 7636) and refresh tokens that are used once."""

from __future__ import annotations

import base64
import hashlib
import secrets
import time
from typing import Any
from urllib.parse import unquote, urlencode

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request
from werkzeug.wrappers import Response as AnyResponse

from . import faults
from .sites import state

bp = Blueprint("granting", __name__, url_prefix="/oauth")
CLIENT, SECRET = "hedge-lane", "lane-secret"


def is_granted(header: str | None) -> bool:
    """Whether a bearer token was given here and is still good."""
    held = state().granted["access"].get((header or "").removeprefix("Bearer "))
    return held is not None and float(held) > time.time()


@bp.route("/agree", methods=["GET", "POST"])
def agree() -> AnyResponse | str:
    """The page on which a person agrees; pressing does, opening does not."""
    asked: dict[str, str] = {**request.args, **request.form}
    if asked.get("client_id") != CLIENT or asked.get("response_type") != "code" or asked.get("code_challenge_method") != "S256":
        abort(400)
    if request.method == "GET":
        return render_template("agree.html", asked=asked)
    if "no" in request.form:
        return redirect(f"{asked['redirect_uri']}?{urlencode({'error': 'access_denied', 'state': asked.get('state', '')})}")
    code = secrets.token_urlsafe(16)
    with state().lock:
        state().granted["codes"][code] = {
            "challenge": asked["code_challenge"],
            "redirect": asked["redirect_uri"],
            "at": time.time(),
        }
    return redirect(f"{asked['redirect_uri']}?{urlencode({'code': code, 'state': asked.get('state', '')})}")


@bp.post("/token")
def token() -> AnyResponse:
    mode = state().fault("oauth")
    if (early := faults.common(mode)) is not None:
        return early
    told = base64.b64encode(f"{CLIENT}:{SECRET}".encode()).decode()
    if request.headers.get("Authorization") != f"Basic {told}":
        return _no("invalid_client", "Nobody is known by this secret.", 401)
    if mode == "withdrawn":
        return _no("invalid_grant", "The grant was withdrawn.")
    asked, held = request.form, state().granted
    match asked.get("grant_type"):
        case "client_credentials":
            return _given(renewable=False)
        case "authorization_code":
            with state().lock:
                begun = held["codes"].pop(asked.get("code", ""), None)
            digest = hashlib.sha256(unquote(asked.get("code_verifier", "")).encode()).digest()
            proof = base64.urlsafe_b64encode(digest).decode().rstrip("=")
            if begun is None or begun["challenge"] != proof or begun["redirect"] != asked.get("redirect_uri"):
                return _no("invalid_grant", "This code is not good.")
            return _given()
        case "refresh_token":
            with state().lock:
                known = held["refresh"].pop(asked.get("refresh_token", ""), None)
            return _given() if known else _no("invalid_grant", "This token was used before, or never given.")
        case _:
            return _no("unsupported_grant_type", "")


@bp.route("/introspect", methods=["GET", "POST"])
def introspect() -> Response:
    """Whether a token is good, for servers beside this one (RFC 7662)."""
    held = state().granted["access"].get(request.values.get("token", ""))
    return jsonify({"active": held is not None and float(held) > time.time(), "username": "office"})


def _given(renewable: bool = True) -> Response:
    held, access, refresh = state().granted, secrets.token_urlsafe(24), secrets.token_urlsafe(24)
    with state().lock:
        held["access"][access] = time.time() + held["seconds"]
        if renewable:
            held["refresh"][refresh] = True
        state().save()
    given: dict[str, Any] = {"access_token": access, "token_type": "Bearer", "expires_in": held["seconds"]}
    return jsonify(given | ({"refresh_token": refresh} if renewable else {}))


def _no(error: str, words: str, status: int = 400) -> Response:
    answer = jsonify({"error": error, "error_description": words})
    answer.status_code = status
    return answer
