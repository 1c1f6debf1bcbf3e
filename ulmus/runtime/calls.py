"""Calls coming in: proving who calls, keeping replays out, waiting for a result.

A signed call carries ``Ulmus-Timestamp`` (seconds since the epoch) and ``Ulmus-Signature``: the hexadecimal
HMAC-SHA256 (RFC 2104) of timestamp, a full stop and the body, under the workflow's secret. A timestamp more than five
minutes off is refused, and the same signature counts once. An ``Idempotency-Key`` makes any call count once.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import queue
import threading
import time
from collections import defaultdict
from collections.abc import Mapping
from typing import Any
from urllib.parse import parse_qsl

from ..core import flow
from .ports import Events
from .runs import result_of
from .services import Services

WINDOW = 300.0
LARGEST_BODY = 5_000_000
MOST_FIELDS = 2000
DEEPEST = 40
MOST_WAITING = 12


class CallRefused(ValueError):
    """The call cannot be taken; `status` is the HTTP status."""

    def __init__(self, words: str, status: int = 400) -> None:
        super().__init__(words)
        self.status = status


def prove(secret: str, headers: Mapping[str, str], body: bytes, now: float) -> str:
    """Check a signed call; gives what makes it itself. Raises `CallRefused`."""
    stamp, given = headers.get("Ulmus-Timestamp", ""), headers.get("Ulmus-Signature", "")
    if not stamp.isdigit() or not given:
        raise CallRefused("This call is not signed. Send Ulmus-Timestamp and Ulmus-Signature.", 401)
    wanted = hmac.new(secret.encode(), stamp.encode() + b"." + body, hashlib.sha256).hexdigest()
    if not hmac.compare_digest(wanted, given.strip().lower().removeprefix("sha256=")):
        raise CallRefused("The signature does not fit this call.", 401)
    if abs(now - int(stamp)) > WINDOW:
        raise CallRefused("This call is too old, or from the future; its timestamp is more than five minutes off.", 401)
    return f"call:{wanted}"


def read_body(content_type: str, body: bytes) -> dict[str, Any]:
    """The body of a call as values: a JSON object, or form fields. Raises `CallRefused`."""
    if len(body) > LARGEST_BODY:
        raise CallRefused("This call is too large; at most 5 MB.", 413)
    if not body.strip():
        return {}
    kind = content_type.partition(";")[0].strip().lower()
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        raise CallRefused("The body of a call is text in UTF-8.", 400) from None
    if kind == "application/x-www-form-urlencoded":
        try:
            return dict(parse_qsl(text, keep_blank_values=True, max_num_fields=MOST_FIELDS))
        except ValueError:
            raise CallRefused("This form has too many fields.", 400) from None
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        raise CallRefused("The body of a call is a JSON object, or form fields.", 400) from None
    if not isinstance(found, dict):
        found = {"items": found} if isinstance(found, list) else {"value": found}
    if _depth(found) > DEEPEST:
        raise CallRefused("This JSON is nested too deep.", 400)
    return found


def _depth(value: Any, deep: int = 0) -> int:
    if deep > DEEPEST or not isinstance(value, dict | list):
        return deep
    return max((_depth(one, deep + 1) for one in (value.values() if isinstance(value, dict) else value)), default=deep)


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
