"""Calls coming in: proving who calls, keeping replays out, waiting for a result.

A signed call carries ``Ulmus-Timestamp`` (seconds since the epoch) and ``Ulmus-Signature``: ``v2=`` and the hexadecimal
HMAC-SHA256 (RFC 2104), under the workflow's secret, of these lines, each ended by a line feed: ``v2``, the timestamp, the
method in capitals, the path, the query as it stands in the address (empty where there is none); and then the body. A
timestamp more than five minutes off is refused, and a signature counts once. Nothing that is not signed changes what a
signed call is taken for: its headers say nothing of its body, which is JSON where it begins like JSON, and else a form.

A call that is known by its address alone may carry an ``Idempotency-Key``, which makes it count once.
"""

from __future__ import annotations

import hashlib
import hmac
import queue
import threading
import time
from collections import defaultdict
from typing import Any, Protocol
from urllib.parse import parse_qsl

from ..core import flow
from ..core.values import Bounds, NotPlain, plain_object, read_json
from .ports import Events
from .runs import result_of
from .services import Services

WINDOW = 300.0
LARGEST_BODY = 5_000_000
MOST_FIELDS = 2000
BOUNDS = Bounds(depth=40)
VERSION = "v2"
OLD = (
    "This call is signed in the way of an older version, which covered only its timestamp and body. "
    "Sign method, path, query, timestamp and body, and send Ulmus-Signature: v2=… (see the documentation of calls)."
)
MOST_WAITING = 12


class CallRefused(ValueError):
    """The call cannot be taken; `status` is the HTTP status."""

    def __init__(self, words: str, status: int = 400) -> None:
        super().__init__(words)
        self.status = status


def signature(secret: str, timestamp: str, method: str, path: str, query: str, body: bytes) -> str:
    """The signature of a call, of version 2."""
    head = "".join(f"{line}\n" for line in (VERSION, timestamp, method.upper(), path, query))
    return hmac.new(secret.encode(), head.encode("utf-8", "surrogatepass") + body, hashlib.sha256).hexdigest()


class HasHeaders(Protocol):
    """The headers of a request, whatever their names' capitals."""

    def get(self, key: str, default: str, /) -> str:
        """A header, or the default."""


def prove(secret: str, headers: HasHeaders, method: str, path: str, query: str, body: bytes, now: float) -> str:
    """Check a signed call; gives what makes it itself. Raises `CallRefused`."""
    stamp, given = headers.get("Ulmus-Timestamp", ""), headers.get("Ulmus-Signature", "").strip()
    if not stamp.isdigit() or len(stamp) > 12 or not given:
        raise CallRefused("This call is not signed. Send Ulmus-Timestamp and Ulmus-Signature.", 401)
    version, _, value = given.partition("=")
    if version.lower() != VERSION:
        raise CallRefused(OLD, 401)
    wanted = signature(secret, stamp, method, path, query, body)
    if not hmac.compare_digest(wanted.encode(), value.lower().encode("utf-8", "replace")):
        raise CallRefused("The signature does not fit this call.", 401)
    if abs(now - int(stamp)) > WINDOW:
        raise CallRefused("This call is too old, or from the future; its timestamp is more than five minutes off.", 401)
    return f"call:{wanted}"


def read_body(content_type: str | None, body: bytes) -> dict[str, Any]:
    """The body of a call as values: a JSON object, or form fields. Without a `content_type` the body alone tells which.

    Raises `CallRefused`.
    """
    if len(body) > LARGEST_BODY:
        raise CallRefused("This call is too large; at most 5 MB.", 413)
    if not body.strip():
        return {}
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        raise CallRefused("The body of a call is text in UTF-8.", 400) from None
    kind = content_type.partition(";")[0].strip().lower() if content_type is not None else ""
    form = kind == "application/x-www-form-urlencoded" if content_type is not None else text.lstrip()[:1] not in ("{", "[", '"')
    try:
        if form:
            return plain_object(dict(parse_qsl(text, keep_blank_values=True, max_num_fields=MOST_FIELDS)), BOUNDS)
        found = read_json(text, BOUNDS)
    except NotPlain as error:
        raise CallRefused(f"The body of a call is a JSON object, or form fields: {error}.", 400) from None
    except ValueError:
        raise CallRefused("This form has too many fields.", 400) from None
    if isinstance(found, dict):
        return found
    return {"items": found} if isinstance(found, list) else {"value": found}


class Answers:
    """Calls that wait for their run's result; at most so many at once."""

    def __init__(self, services: Services, events: Events) -> None:
        self.services = services
        self.events = events
        self._room = threading.BoundedSemaphore(MOST_WAITING)

    def result(self, run_id: int, step: str, seconds: float) -> tuple[str, dict[str, Any]]:
        """How the run stands when it has ended, or after `seconds`: its state, and its result where it has one."""
        if not self._room.acquire(blocking=False):
            return "running", {}
        try:
            end = time.monotonic() + seconds
            with self.services.bus.listen() as news:
                while (left := end - time.monotonic()) > 0:
                    live = self.events.live(run_id)
                    if live.state.ended:
                        return str(live.state.outcome), self._of(live.workflow, live.state, step)
                    try:
                        while news.get(timeout=min(left, 0.5)).get("id") != run_id:
                            pass
                    except queue.Empty:
                        continue
            return "running", {}
        finally:
            self._room.release()

    @staticmethod
    def _of(workflow: Any, state: flow.State, step: str) -> dict[str, Any]:
        if step:
            found = state.values.get(step, {})
            return found if isinstance(found, dict) else {"value": found}
        return {"text": result_of(workflow, state)["text"]}


class Crowd:
    """A limit on how often an address may do something; the oldest times are forgotten."""

    def __init__(self) -> None:
        self._times: dict[str, list[float]] = defaultdict(list)
        self._lock = threading.Lock()

    def allows(self, who: str, most: int, seconds: float, now: float) -> bool:
        """Whether `who` may once more; counts where it may."""
        with self._lock:
            recent = self._times[who] = [t for t in self._times[who] if t > now - seconds]
            if len(recent) >= most:
                return False
            recent.append(now)
            if len(self._times) > 10_000:
                self._times.pop(next(iter(self._times)))
            return True
