"""The Flask application: API modules, the app's files, errors in plain words, security headers."""

from __future__ import annotations

import gzip
import json
import logging
import re
from functools import cache
from pathlib import Path
from typing import Any

from flask import Response, current_app, g, request, send_from_directory
from flask.json.provider import DefaultJSONProvider
from flask_openapi3 import Info
from pydantic import ValidationError
from sqlalchemy.exc import IntegrityError, NoResultFound
from werkzeug.exceptions import HTTPException, NotFound

from ... import __version__
from ...core.flow import AddressError
from ...core.values import read_json
from ...core.workflow.file import plain_errors
from ...places import APP
from ...store import DataTrouble, packed
from ..public import assistants, calls, data, feed, forms, hubs, joining, leaving, letters, watching, work
from ..resources import (
    accounts,
    approvals,
    beginning,
    bench,
    brands,
    clients,
    comparing,
    connections,
    files,
    grid,
    kept,
    keys,
    mailings,
    notices,
    outbox,
    people,
    persondata,
    reading,
    reports,
    revisions,
    rows,
    runs,
    samples,
    sheets,
    signing,
    starts,
    takes,
    today,
    trail,
    workers,
    workflows,
    writing,
)
from ..resources import house as keeping
from ..security import auth
from . import events, reference
from .base import House, Refusal
from .describing import Application

log = logging.getLogger("ulmus")
WORTH_PACKING = 8_000  # bytes
FILES = APP
POLICY = (
    "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; font-src 'self'; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"
)


class _Json(DefaultJSONProvider):
    """Bodies of requests pass the boundary for values; what cannot be kept is no JSON to us."""

    def loads(self, s: str | bytes, **kwargs: Any) -> Any:
        return read_json(s)


def create_app(house: House | None) -> Application:
    """The application around `house`; without one it can only describe itself (its OpenAPI document)."""
    app = Application(
        __name__,
        info=Info(title="Ulmus", version=__version__),
        validation_error_status=422,
        validation_error_callback=_invalid,
        static_folder=None,
        doc_ui=False,
        security_schemes={"session": {"type": "apiKey", "in": "cookie", "name": auth.COOKIE}},
    )
    app.config["MAX_CONTENT_LENGTH"] = 16_000_000
    app.json = _Json(app)
    app.json.sort_keys = False
    if house is not None:
        app.extensions["ulmus"] = house
    for part in (
        auth,
        accounts,
        signing,
        keys,
        trail,
        keeping,
        kept,
        workers,
        persondata,
        beginning,
        today,
        workflows,
        writing,
        takes,
        revisions,
        bench,
        samples,
        reading,
        comparing,
        brands,
        clients,
        starts,
        files,
        approvals,
        letters,
        leaving,
        joining,
        mailings,
        notices,
        outbox,
        people,
        feed,
        forms,
        rows,
        grid,
        data,
        sheets,
        reports,
        runs,
        connections,
        assistants,
    ):
        app.register_api(part.bp)
    app.register_blueprint(events.bp)
    app.register_blueprint(calls.outside)
    app.register_blueprint(leaving.outside)
    app.register_blueprint(feed.outside)
    app.register_blueprint(data.outside)
    app.register_blueprint(assistants.outside)
    app.register_blueprint(hubs.outside)
    app.register_blueprint(watching.outside)
    app.register_blueprint(work.outside)
    app.register_error_handler(Refusal, _refused)
    app.register_error_handler(NoResultFound, lambda _: ({"message": "This is not here (any more).", "problems": []}, 404))
    app.register_error_handler(packed.Emptied, lambda error: ({"message": str(error), "problems": []}, 410))
    app.register_error_handler(DataTrouble, lambda error: ({"message": str(error), "problems": []}, 503))
    app.register_error_handler(OverflowError, _beyond)
    app.register_error_handler(IntegrityError, _beyond)
    app.register_error_handler(AddressError, _beyond)
    app.register_error_handler(HTTPException, _http)
    app.register_error_handler(Exception, _unexpected)
    app.before_request(auth.gate)
    app.before_request(_held)
    app.after_request(_headers)
    app.teardown_request(auth.forget)
    app.add_url_rule("/api/openapi.json", "description", _description)
    app.add_url_rule("/api/", "reference", reference.page)
    app.add_url_rule("/", "page", _page, defaults={"path": ""})
    app.add_url_rule("/<path:path>", "page", _page)
    return app


def _page(path: str) -> Response:
    """The app's files; every other address is the app itself, which finds its own way."""
    if not (FILES / "index.html").is_file():
        return Response("The app has not been built. Run: make build", 503)
    # Only what is among the app's files is looked for, so that nobody learns what else there is on this machine.
    file = path if path in _files(FILES) else "index.html"
    if (path.startswith(("api/", "call/", "assets/")) and file != path) or not _is_place(path):
        raise NotFound()
    response = send_from_directory(FILES, file, conditional=True)
    fixed = file.startswith("assets/")
    response.headers["Cache-Control"] = "public, max-age=31536000, immutable" if fixed else "no-cache"
    packed = FILES / f"{file}.gz"
    if fixed and packed.is_file() and "gzip" in request.headers.get("Accept-Encoding", ""):
        kind = response.content_type
        response = send_from_directory(FILES, f"{file}.gz", conditional=True)
        response.headers.update({"Content-Encoding": "gzip", "Content-Type": kind or "", "Vary": "Accept-Encoding"})
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
    return response


def _description() -> Response:
    """What this API is, as an OpenAPI document."""
    app: Any = current_app
    return Response(json.dumps(app.api_doc), mimetype="application/json")


@cache
def _files(folder: Path) -> frozenset[str]:
    return frozenset(str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file())


def _is_place(path: str) -> bool:
    """Whether a path could be one of the app's own places."""
    return len(path) <= 500 and path.isprintable() and not any(part in ("", ".", "..") for part in path.rstrip("/").split("/")[1:])


def _beyond(error: Exception) -> Any:
    """A number no record can have, or something that would belong to what is not there."""
    return {"message": "This is not here (any more).", "problems": []}, 404


def _held() -> None:
    """A house that is held can be read, and let go; nothing else."""
    parts = current_app.extensions.get("ulmus")
    if parts is None or request.method in ("GET", "HEAD", "OPTIONS") or parts.engine.hold is None:
        return
    if request.path not in ("/api/session", "/api/house/let-go"):
        raise Refusal(keeping.HELD, 423, code="held")


def _refused(error: Refusal) -> Any:
    return {"message": error.words, "problems": [], **error.more}, error.status


def _invalid(error: ValidationError) -> Response:
    problems = [{"where": where, "message": words} for where, words in plain_errors(error)]
    words = "; ".join(f"{p['where'].strip('/').replace('/', ' › ')}: {p['message']}" for p in problems[:3])
    response = Response(status=422, mimetype="application/json")
    response.set_data(json.dumps({"message": words, "problems": problems}))
    return response


def _http(error: HTTPException) -> Any:
    words = {404: "This is not here (any more).", 405: "This cannot be done here.", 413: "That is too large to take in."}
    return {"message": words.get(error.code or 500, error.description or "That did not work."), "problems": []}, error.code


def _unexpected(error: Exception) -> Any:
    log.exception("a request failed in a way it should not")
    return {"message": "Ulmus made a mistake; it has been logged. Nothing you wrote was changed.", "problems": []}, 500


def _headers(response: Response) -> Response:
    response.headers.setdefault("Content-Security-Policy", POLICY)
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    if response.mimetype == "application/json":
        _without_addresses(response)
        response.headers.setdefault("Cache-Control", "no-store")
        _pack(response)
    return response


_CALL = re.compile(rb"/call/(run/)?[\w.-]{8,}")


def _without_addresses(response: Response) -> None:
    """Whoever only reads is not shown where calls go to: with such an address anybody can begin a run, or have one go on."""
    user = g.get("user")
    if user is not None and user.role in ("reader", "reviewer") and not response.is_streamed:
        data = response.get_data()
        if b"/call/" in data:
            response.set_data(_CALL.sub(b"/call/\xe2\x80\xa6", data))


def _pack(response: Response) -> None:
    """Compress a long answer where that is understood; a page with many cells becomes a tenth."""
    if response.is_streamed or "gzip" not in request.headers.get("Accept-Encoding", ""):
        return
    data = response.get_data()
    if len(data) > WORTH_PACKING and "Content-Encoding" not in response.headers:
        response.set_data(gzip.compress(data, compresslevel=1))
        response.headers["Content-Encoding"] = "gzip"
        response.headers.add("Vary", "Accept-Encoding")
