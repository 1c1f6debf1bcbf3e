"""The Flask application: API modules, the app's files, errors in plain words, security headers."""

from __future__ import annotations

import gzip
import json
import logging
from pathlib import Path
from typing import Any

from flask import Response, current_app, request, send_from_directory
from flask.json.provider import DefaultJSONProvider
from flask_openapi3 import Info, OpenAPI
from pydantic import ValidationError
from sqlalchemy.exc import NoResultFound
from werkzeug.exceptions import HTTPException, NotFound

from .. import __version__
from ..core.values import read_json
from ..core.workflow.file import plain_errors
from . import (
    approvals,
    auth,
    bench,
    brands,
    connections,
    events,
    keeping,
    reading,
    revisions,
    runs,
    samples,
    sheets,
    starts,
    takes,
    today,
    workflows,
    writing,
)
from .base import House, Refusal

log = logging.getLogger("ulmus")
WORTH_PACKING = 8_000  # bytes
FILES = Path(__file__).parents[2] / "frontend" / "dist"
POLICY = (
    "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; font-src 'self'; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'"
)


class _Json(DefaultJSONProvider):
    """Bodies of requests pass the boundary for values; what cannot be kept is no JSON to us."""

    def loads(self, s: str | bytes, **kwargs: Any) -> Any:
        return read_json(s)


def create_app(house: House | None) -> OpenAPI:
    """The application around `house`; without one it can only describe itself (its OpenAPI document)."""
    app = OpenAPI(
        __name__,
        info=Info(title="Ulmus", version=__version__),
        validation_error_status=422,
        validation_error_callback=_invalid,
        static_folder=None,
        doc_ui=False,
    )
    app.config["MAX_CONTENT_LENGTH"] = 16_000_000
    app.json = _Json(app)
    app.json.sort_keys = False  # type: ignore[attr-defined]
    if house is not None:
        app.extensions["ulmus"] = house
    for part in (
        auth,
        keeping,
        today,
        workflows,
        writing,
        takes,
        revisions,
        bench,
        samples,
        reading,
        brands,
        starts,
        approvals,
        sheets,
        runs,
        connections,
    ):
        app.register_api(part.bp)
    app.register_blueprint(events.bp)
    app.register_blueprint(starts.outside)
    app.register_error_handler(Refusal, _refused)
    app.register_error_handler(NoResultFound, lambda _: ({"message": "This is not here (any more).", "problems": []}, 404))
    app.register_error_handler(HTTPException, _http)
    app.register_error_handler(Exception, _unexpected)
    app.before_request(_held)
    app.after_request(_headers)
    app.add_url_rule("/", "page", _page, defaults={"path": ""})
    app.add_url_rule("/<path:path>", "page", _page)
    return app


def _page(path: str) -> Response:
    """The app's files; every other address is the app itself, which finds its own way."""
    if path.startswith("api/"):
        raise NotFound()
    file = path if path and (FILES / path).is_file() else "index.html"
    if not (FILES / file).is_file():
        return Response("The app has not been built. Run: make build", 503)
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
        response.headers.setdefault("Cache-Control", "no-store")
        _pack(response)
    return response


def _pack(response: Response) -> None:
    """Compress a long answer where that is understood; a page with many cells becomes a tenth."""
    if response.is_streamed or "gzip" not in request.headers.get("Accept-Encoding", ""):
        return
    data = response.get_data()
    if len(data) > WORTH_PACKING and "Content-Encoding" not in response.headers:
        response.set_data(gzip.compress(data, compresslevel=1))
        response.headers["Content-Encoding"] = "gzip"
        response.headers.add("Vary", "Accept-Encoding")
