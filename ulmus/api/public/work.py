"""The link between the house and its workers: what a task needs, and what came of it.

Each worker shows a key of its own (``Authorization: Bearer …``, RFC 6750), made by ``ulmus worker-key``; the house keeps a digest. A worker of
another version is told so and gets nothing. Connections are handed out for one task, once each; nothing of them is in the broker.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable
from functools import lru_cache, partial
from typing import Any

from flask import Blueprint, Response, jsonify, request

from ... import __version__
from ...core.drafting.repeats import Published
from ...protocols.errors import OutsideError
from ...runtime.elsewhere import LONGEST, AtHome, Elsewhere, NotWanted, NotYet
from ...steps import registry
from ..http.base import house
from ..security import workerkeys
from ..security.auth import room

outside = Blueprint("work", __name__, url_prefix="/workers")
LARGEST = 110_000_000
NONE = Published(())
AT_HOME = "This is shown at home only."
LARGE = 32_000
"""Bytes of JSON from which on a value is told by its SHA-256, to be asked for by whoever does not have it."""


def _worker() -> str:
    """Who asks, by its key; empty for strangers."""
    scheme, _, key = request.headers.get("Authorization", "").partition(" ")
    return workerkeys.whose(house().services.store, key) if scheme.lower() == "bearer" and key else ""


def _refused(words: str, status: int) -> tuple[Response, int]:
    return jsonify(message=words), status


def _served(view: Callable[[Elsewhere, str, dict[str, Any]], Any]) -> Any:
    """Answer a worker that is known, speaks this version and asks of a house that has workers."""
    worker = _worker()
    if not worker:
        return _refused("This key is not known here. Make one with “ulmus worker-key”.", 401)
    if request.headers.get("X-Ulmus-Version", "") != __version__:
        return _refused(f"This house is version {__version__}. Install the same on the worker.", 409)
    elsewhere = house().elsewhere
    if elsewhere is None:
        return _refused("This house carries out everything itself. Start it with “--executor celery”.", 409)
    body = request.get_json(silent=True, cache=False)
    try:
        return view(elsewhere, worker, body if isinstance(body, dict) else {})
    except NotWanted:
        return _refused("This is not wanted any more.", 410)
    except NotYet:
        return _refused("Ask again in a moment.", 503)
    except AtHome:
        return _refused(AT_HOME, 501)
    except ValueError:
        return _refused("That cannot be read.", 422)
    except OutsideError as error:
        return jsonify(message=error.message, code=error.code, retryable=error.retryable), 422


def _encoded(value: Any) -> bytes:
    return json.dumps(value, ensure_ascii=False, separators=(",", ":")).encode()


@lru_cache(8)
def _all_of(published: Published) -> bytes:
    """What went out before, encoded once for as long as nothing more goes out."""
    return _encoded(published.texts)


@outside.post("/hello")
def hello() -> Any:
    """The house’s own name, and which kinds of line and of connection the worker lacks that are here, with whose they are."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        known = set(map(str, body.get("kinds") or []))
        lacks = sorted([name, whose] for name, whose in registry.here().items() if name not in known)
        return jsonify(house=elsewhere.services.store.identity, worker=worker, lacks=lacks)

    return _served(told)


@outside.post("/<id_>/begin")
def begin(id_: str) -> Any:
    """The task: its line, the values its slots read, and how it is to be carried out."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        out = elsewhere.begin(id_, f"{worker} {str(body.get('process', ''))[:40]}".strip())
        context = out.context
        values, large = dict(context.values), {}
        for root in list(values):
            text = partial(_encoded, values[root])
            if len(content := text()) > LARGE:
                large[root] = hashlib.sha256(content).hexdigest()
                elsewhere.lay_out(id_, worker, text, large[root])
                del values[root]
        return jsonify(
            line=out.line.model_dump(mode="json"),
            values=values,
            large=large,
            talk=list(map(list, context.talk)),
            spent=context.spent,
            outside=sorted(context.outside),
            rewrite=list(context.rewrite) if context.rewrite is not None else None,
            asked_later=context.asked_later,
            seed=context.seed,
            take=context.take,
            seconds=LONGEST,
        )

    return _served(told)


@outside.post("/heard")
@room(LARGEST)
def heard() -> Any:
    """A worker is at some tasks, with what has come of each since; which of them are not wanted any more. Progress may be lost."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        process, room = str(body.get("process", ""))[:40], body.get("room")
        elsewhere.here(worker, process, room if isinstance(room, int) else 0)
        tasks = body.get("tasks")
        at = {str(id_): str(partial or "")[:200_000] for id_, partial in tasks.items()} if isinstance(tasks, dict) else {}
        return jsonify(unwanted=[id_ for id_, partial in at.items() if not elsewhere.heard(id_, worker, partial)])

    return _served(told)


@outside.post("/<id_>/connection")
def connection(id_: str) -> Any:
    """A connection of the task’s line, opened, once."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        found = elsewhere.connection(id_, worker, str(body.get("key", "")), str(body.get("kind", "")), str(body.get("ask", "")))
        settings = found.settings.model_dump(mode="json")
        answer = jsonify(kind=found.kind, name=found.name, settings=settings, secrets=dict(found.secrets))
        answer.headers["Cache-Control"] = "no-store"
        return answer

    return _served(told)


@outside.post("/<id_>/content")
def content(id_: str) -> Any:
    """Something large that a task was told of by its SHA-256: a value as JSON, a file, or what went out before."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        return Response(elsewhere.content(id_, worker, str(body.get("sha256", ""))), mimetype="application/octet-stream")

    return _served(told)


@outside.post("/<id_>/house")
@room(LARGEST)
def asked(id_: str) -> Any:
    """What the house shows the task’s line: a kept file, a file to be kept, names, and what went out before."""

    def told(elsewhere: Elsewhere, worker: str, body: dict[str, Any]) -> Any:
        shown, what, of = elsewhere.workspace(id_, worker), body.get("what"), body.get("of")

        def laid_out(content: Callable[[], bytes]) -> str:
            sha = hashlib.sha256(content()).hexdigest()
            elsewhere.lay_out(id_, worker, content, sha)
            return sha

        if what == "file":
            found = shown.file(str(of))
            return jsonify(found=None if found is None else [found[0], found[1], laid_out(lambda: found[2])])
        if what == "keep" and isinstance(of, list) and len(of) == 3:
            return jsonify(found=shown.keep(str(of[0]), str(of[1]), base64.b64decode(str(of[2]))))
        if what == "name":
            return jsonify(found=shown.connection_name(str(of)))
        if what == "sheet":
            return jsonify(found=shown.sheet_name(str(of)))
        if what == "published":
            return jsonify(found=laid_out(partial(_all_of, shown.known.published() if shown.known.published is not None else NONE)))
        raise AtHome

    return _served(told)


@outside.post("/<id_>/answer")
@room(LARGEST)
def answer(id_: str) -> Any:
    """What came of a task; whether it was waited for."""
    return _served(lambda elsewhere, worker, body: jsonify(wanted=elsewhere.answer(id_, worker, body)))
