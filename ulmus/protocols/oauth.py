"""OAuth 2 (RFC 6749) as a client: tokens for a program, or for a person who agreed in a browser (with PKCE, RFC 7636), and
tokens made anew. Requests and answers are oauthlib's; they go over the house's own web client."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field
from urllib.parse import quote, urlencode

from oauthlib.oauth2 import BackendApplicationClient, OAuth2Error, WebApplicationClient

from .errors import BadAnswer, Misconfigured, OutsideError, Refused
from .net import Web, check_url, status_error


class Withdrawn(Misconfigured):
    """What was granted is not granted any more: somebody has to agree again."""


@dataclass(frozen=True)
class App:
    """This house as the other side knows it: its identity and secret there (empty for a public client), where tokens are given, where
    a person agrees, and what is asked for (scopes, parted by spaces)."""

    client_id: str
    secret: str = field(repr=False)
    token_at: str
    authorize_at: str = ""
    scope: str = ""


@dataclass(frozen=True)
class Tokens:
    """What was given: the access token, the one for making it anew (may be empty), and for how many seconds it is good."""

    access: str = field(repr=False)
    refresh: str = field(repr=False, default="")
    seconds: float = 3600.0


def verifier() -> str:
    """A secret for one agreement (RFC 7636, section 4.1)."""
    return str(WebApplicationClient("-").create_code_verifier(64))


def agreement(app: App, redirect: str, state: str, verifier: str) -> str:
    """Where a person is sent to agree. Raises `Misconfigured` where no such place is set."""
    check_url(app.authorize_at)
    asked = {
        "response_type": "code",
        "client_id": app.client_id,
        "redirect_uri": redirect,
        "state": state,
        "code_challenge": WebApplicationClient("-").create_code_challenge(verifier, "S256"),
        "code_challenge_method": "S256",
    } | ({"scope": app.scope} if app.scope else {})
    return f"{app.authorize_at}{'&' if '?' in app.authorize_at else '?'}{urlencode(asked)}"


def by_code(web: Web, app: App, code: str, redirect: str, verifier: str) -> Tokens:
    """The tokens for a code that came back from an agreement. Raises `OutsideError`."""
    client = WebApplicationClient(app.client_id)
    return _asked(web, app, client.prepare_request_body(code=code, redirect_uri=redirect, code_verifier=verifier))


def for_program(web: Web, app: App) -> Tokens:
    """A token for the house itself (section 4.4). Raises `OutsideError`."""
    return _asked(web, app, BackendApplicationClient(app.client_id).prepare_request_body(scope=app.scope or None))


def anew(web: Web, app: App, refresh: str) -> Tokens:
    """A token made anew (section 6); where the other side gives no new one for that, the old stays good. Raises `OutsideError`,
    `Withdrawn` where it is granted no more."""
    tokens = _asked(web, app, WebApplicationClient(app.client_id).prepare_refresh_body(refresh_token=refresh))
    return tokens if tokens.refresh else Tokens(tokens.access, refresh, tokens.seconds)


def _asked(web: Web, app: App, body: str) -> Tokens:
    headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
    if app.secret:
        told = f"{quote(app.client_id, safe='')}:{quote(app.secret, safe='')}"
        headers["Authorization"] = f"Basic {base64.b64encode(told.encode()).decode()}"
    got = web.fetch(app.token_at, method="POST", content=body.encode(), headers=headers, max_bytes=1_000_000, max_seconds=30)
    if got.status >= 500 or got.status == 429:
        raise status_error(got, "The place that gives tokens")
    try:
        given = WebApplicationClient(app.client_id).parse_request_body_response(got.body.decode("utf-8", "replace"))
    except OAuth2Error as error:
        raise _refusal(error) from None
    seconds = given.get("expires_in")
    return Tokens(
        str(given["access_token"]), str(given.get("refresh_token") or ""), float(seconds) if seconds is not None else 3600.0
    )


def _refusal(error: OAuth2Error) -> OutsideError:
    said = f" ({error.description})" if error.description else ""
    if error.error == "invalid_grant":
        return Withdrawn(f"What was granted is not granted any more{said}. Connect again under Connections.")
    if error.error in ("invalid_client", "unauthorized_client"):
        return Misconfigured(f"The client identity or its secret is not accepted{said}.")
    if error.error in ("missing_token", "missing_token_type"):
        return BadAnswer("The answer holds no token; check the address that gives tokens.")
    return Refused(f"No token was given: {error.error.replace('_', ' ')}{said}.")
