"""A worker: takes tasks from its house's queue, asks the house for what each needs, carries it out and answers.

It keeps nothing. What it is told over the broker is an id; the line, the values and the connections come over a link of its own, with
its key. It says every few seconds that it is still at work, and hears whether that is still wanted.
"""

from __future__ import annotations

import base64
import json
import logging
import os
import secrets
import socket
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import httpx

from .. import __version__
from ..core.drafting import Known
from ..core.drafting.repeats import Published
from ..core.drafting.turns import Rewrite, Turn
from ..core.workflow import Line
from ..protocols.errors import NotFound, OutsideError, Refused, Stopped, Unreachable
from ..protocols.languages import language_of
from ..protocols.net import Web
from ..runtime.execution import guarded, perform
from ..runtime.workspace import dead
from ..steps import connection_kinds, kinds, registry
from ..steps.api import Connection, Context, StepFailed, Workspace
from .broker import TASK, application, queue_of
from .shelf import Shelf

log = logging.getLogger("ulmus")

NONE: Mapping[str, Connection] = {}
BEAT = 5.0
PATIENCE = 120.0
"""Seconds for which an answer is brought to a house that cannot be reached."""


class Told(Exception):
    """The house refuses, in words."""

    def __init__(self, words: str, status: int) -> None:
        super().__init__(words)
        self.status = status


class Link:
    """The link to the house. Thread-safe."""

    def __init__(self, house: str, key: str) -> None:
        head = {"Authorization": f"Bearer {key}", "X-Ulmus-Version": __version__}
        self._client = httpx.Client(base_url=f"{house.rstrip('/')}/workers", headers=head, timeout=30.0)

    def ask(self, path: str, body: Mapping[str, Any], patience: float = 20.0) -> dict[str, Any]:
        """Ask the house; one that does not answer is asked again for a while. Raises `Told`, and `Unreachable` in the end."""
        answer = self._answer(path, body, patience)
        told: dict[str, Any] = answer.json()
        return told

    def fetch(self, path: str, body: Mapping[str, Any]) -> bytes:
        """As `ask`, for what is answered as bytes."""
        return self._answer(path, body, 20.0).content

    def _answer(self, path: str, body: Mapping[str, Any], patience: float) -> httpx.Response:
        end, pause = time.monotonic() + patience, 0.2
        while True:
            try:
                answer = self._client.post(path, json=dict(body))
                if answer.status_code < 500 or answer.status_code == 501:
                    break
                words = f"the house answered {answer.status_code}"
            except httpx.HTTPError as error:
                words = str(error) or type(error).__name__
            if time.monotonic() > end:
                raise Unreachable(f"The house cannot be reached: {words}.", retryable=True)
            time.sleep(pause)
            pause = min(5.0, pause * 2)
        if answer.status_code >= 400:
            is_json = answer.headers.get("content-type", "").startswith("application/json")
            raise Told(str(answer.json().get("message") if is_json else answer.status_code), answer.status_code)
        return answer

    def close(self) -> None:
        """End it."""
        self._client.close()


@dataclass(eq=False)
class _Job:
    """A task that is being carried out."""

    id: str
    wanted: bool = True
    partial: str = ""
    until: float = 0.0
    sent: str = field(default="", repr=False)
    home: bool = False
    connections: dict[str, Connection] = field(default_factory=dict, repr=False)


class Worker:
    """Carries out tasks of one house."""

    def __init__(
        self, house: str, key: str, allowed: frozenset[str] = frozenset(), own: Mapping[str, Connection] = NONE, room: int = 1
    ) -> None:
        self.link = Link(house, key)
        self.own = own
        self.room = room
        self.shelf = Shelf()
        self._published: tuple[str, Published] = "", Published(())
        self.web = Web(allowed)
        self.process = f"{socket.gethostname()}/{os.getpid()}"
        self._jobs: dict[str, _Job] = {}
        self._lock = threading.Lock()
        self._stopped = threading.Event()

    def hello(self) -> dict[str, Any]:
        """Say who one is. Raises `Told` where the house does not know the key, or is of another version."""
        return self.link.ask("/hello", {"kinds": sorted(registry.here())})

    def start(self) -> None:
        """Begin to say that one is at work."""
        threading.Thread(target=self._beat, daemon=True, name="ulmus-beat").start()

    def stop(self) -> None:
        """End."""
        self._stopped.set()
        self.link.close()

    def carry_out(self, id_: str) -> None:
        """Carry out a task and bring the answer home; nothing where it is not wanted any more, or was offered twice and is under way."""
        job = _Job(id_)
        with self._lock:
            if id_ in self._jobs:
                return
            self._jobs[id_] = job
        try:
            self._carry_out(job)
        finally:
            with self._lock:
                self._jobs.pop(id_, None)

    def _carry_out(self, job: _Job) -> None:
        try:
            told = self.link.ask(f"/{job.id}/begin", {"process": self.process})
        except (Told, OutsideError) as error:
            log.info("%s was not begun: %s", job.id[:12], error)
            return
        job.until = time.monotonic() + float(told["seconds"])
        answer = self._done(job, told)
        try:
            self.link.ask(f"/{job.id}/answer", answer | {"answer": secrets.token_hex(16)}, PATIENCE)
        except (Told, OutsideError) as error:
            log.warning("the answer to %s could not be brought: %s", job.id[:12], error)

    def _done(self, job: _Job, told: dict[str, Any]) -> dict[str, Any]:
        """What came of a task, as an answer."""
        line = Line.model_validate(told["line"])
        if line.kind not in kinds():
            return {"failed": f"The worker has no kind “{line.kind}”. Install its plug-in there.", "code": "misconfigured"}
        try:
            result = guarded(lambda: perform(line, self._context(job, told)))
        except OutsideError as error:
            if job.home:
                return {"home": True}
            code = error.code if job.wanted else Stopped.code
            more = {"code": code, "retryable": error.retryable, "retry_after": error.retry_after}
            if isinstance(error, StepFailed):
                more |= {"usage": error.usage.model_dump(), "detail": error.detail}
            return {"failed": error.message, **more}
        except Exception as error:
            log.exception("a task met a fault")
            return {"failed": f"The worker made a mistake ({type(error).__name__}); it has been logged there."}
        return {"output": result.output, "detail": result.detail, "usage": result.usage.model_dump()}

    def _context(self, job: _Job, told: dict[str, Any]) -> Context:
        rewrite = told["rewrite"]

        def progress(text: str) -> None:
            job.partial = text

        return Context(
            web=self.web,
            connect=partial(self._connect, job),
            values=told["values"] | {root: json.loads(self._content(job, sha)) for root, sha in told["large"].items()},
            outside=frozenset(told["outside"]),
            rewrite=Rewrite(rewrite[0], tuple(rewrite[1])) if rewrite is not None else None,
            asked_later=bool(told["asked_later"]),
            workspace=self._workspace(job),
            seed=str(told["seed"]),
            take=str(told["take"]),
            talk=tuple(Turn(*turn) for turn in told["talk"]),
            spent=float(told["spent"]),
            progress=progress,
            cancelled=lambda: not job.wanted or time.monotonic() > job.until,
        )

    def _connect(self, job: _Job, key: str, kind: str) -> Connection:
        """A connection of the task's line: one of the worker's own, or opened by the house, and forgotten with the task."""
        if (kept := self.own.get(key) or job.connections.get(key)) is not None:
            return kept
        # Told by its name, so that what is asked again because the answer was lost is given again.
        found = self._asked(job, "connection", {"key": key, "kind": kind, "ask": secrets.token_hex(16)})
        spec = connection_kinds().get(str(found["kind"]))
        if spec is None:
            raise Refused(f"The worker has no kind of connection “{found['kind']}”. Install its plug-in there.")
        settings = spec.settings.model_validate(found["settings"])
        opened = job.connections[key] = Connection(key, spec.name, str(found["name"]), settings, found["secrets"])
        return opened

    def _content(self, job: _Job, sha: str) -> bytes:
        """Something large, by its SHA-256; asked for once by all tasks of a while."""

        def fetch() -> bytes:
            try:
                return self.link.fetch(f"/{job.id}/content", {"sha256": sha})
            except Told as error:
                raise NotFound(str(error), retryable=True) from None

        return self.shelf.get(sha, fetch)

    def _workspace(self, job: _Job) -> Workspace:
        def asked(what: str, of: Any) -> Any:
            return self._asked(job, "house", {"what": what, "of": of})["found"]

        def file(link: str) -> tuple[str, str, bytes] | None:
            found = asked("file", link)
            return None if found is None else (found[0], found[1], self._content(job, found[2]))

        def published() -> Published:
            sha = asked("published", "")
            if self._published[0] != sha:
                self._published = sha, Published(json.loads(self._content(job, sha)))
            return self._published[1]

        def keep(name: str, kind: str, content: bytes) -> dict[str, Any]:
            kept: dict[str, Any] = asked("keep", [name, kind, base64.b64encode(content).decode()])
            return kept

        def home(*_: Any) -> Any:
            job.home = True
            raise NotFound("This is shown at home only.")

        return Workspace(
            rows=home,
            sheet_name=partial(asked, "sheet"),
            file=file,
            known=Known(published, partial(dead, self.web), language_of=language_of),
            keep=keep,
            leave=home,
            why_not=home,
            gone=home,
            results=home,
            connection_name=partial(asked, "name"),
            period=home,
            workflow=home,
        )

    def _asked(self, job: _Job, what: str, body: Mapping[str, Any]) -> dict[str, Any]:
        try:
            return self.link.ask(f"/{job.id}/{what}", body)
        except Told as error:
            if error.status == 501:
                job.home = True
            if error.status == 410:
                job.wanted = False
            raise NotFound(str(error)) from None

    def _beat(self) -> None:
        """Say every few seconds that one is there, and which tasks one is at, with what has come of them since, all in one word."""
        next_at = 0.0
        while not self._stopped.wait(BEAT / 5):
            with self._lock:
                jobs = [job for job in self._jobs.values() if job.partial != job.sent or time.monotonic() >= next_at]
            if not jobs and time.monotonic() < next_at:
                continue
            if time.monotonic() >= next_at:
                next_at = time.monotonic() + BEAT
            told = {job.id: job.partial if job.partial != job.sent else "" for job in jobs}
            try:
                unwanted = self.link.ask("/heard", {"tasks": told, "process": self.process, "room": self.room}, 1.0).get(
                    "unwanted", []
                )
            except (Told, OutsideError):
                continue  # the house may be starting anew: the answer is brought all the same
            for job in jobs:
                job.sent = told[job.id] or job.sent
                job.wanted = job.wanted and job.id not in unwanted


def own_connections(text: str) -> dict[str, Connection]:
    """A worker's own connections, by the keys the house knows them under: a JSON object of ``kind``, ``settings`` and ``secrets`` each.
    Raises `ValueError` in words."""
    try:
        told = json.loads(text)
        found = {key: (connection_kinds()[one["kind"]], one) for key, one in told.items()}
        return {
            key: Connection(
                key, kind.name, str(one.get("name", key)), kind.settings.model_validate(one.get("settings", {})), secrets_of(one)
            )
            for key, (kind, one) in found.items()
        }
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise ValueError(f"The worker’s own connections cannot be read: {error}") from None


def secrets_of(told: Mapping[str, Any]) -> dict[str, str]:
    """The secrets of a connection, as texts."""
    return {str(name): str(value) for name, value in dict(told.get("secrets", {})).items()}


def run(
    broker: str,
    house: str,
    key: str,
    concurrency: int,
    allowed: frozenset[str] = frozenset(),
    own: Mapping[str, Connection] = NONE,
) -> None:
    """Work until a signal. Raises `Told`, `OutsideError` where the house does not let it."""
    worker = Worker(house, key, allowed, own, concurrency)
    told = worker.hello()
    for name, whose in told["lacks"]:
        plugin = f"Install “{whose}” on this machine" if whose else "Install the same version of Ulmus"
        log.warning("this worker has no kind “%s”, which the house has: what needs it fails here. %s.", name, plugin)
    worker.start()
    app = application(broker)
    app.task(worker.carry_out, name=TASK)
    try:
        app.Worker(
            queues=[queue_of(str(told["house"]))],
            pool="threads",
            concurrency=concurrency,
            hostname=f"{told['worker']}@{socket.gethostname()}.{os.getpid()}",
            loglevel="WARNING",
            without_gossip=True,
            without_mingle=True,
            without_heartbeat=True,
            quiet=True,
        ).start()
    finally:
        worker.stop()
