"""Live events: server-sent events (WHATWG HTML section 9.2) for pages that are open."""

from __future__ import annotations

import json
import queue
import threading
from collections.abc import Iterator
from typing import Any

from flask import Blueprint, Response

from .auth import needs
from .base import Refusal, house

bp = Blueprint("events", __name__)
MOST = 24
_open = threading.BoundedSemaphore(MOST)
BEAT = 5.0


@bp.get("/api/events")
@needs("reader")
def stream() -> Response:
    """What changes, as it changes. Partial texts of one cell that pile up are sent once, the newest."""
    if not _open.acquire(blocking=False):
        raise Refusal("Too many pages are listening.", 503)
    bus = house().services.bus

    def lines() -> Iterator[str]:
        try:
            with bus.listen() as mine:
                yield "retry: 1500\n\n"
                while True:
                    try:
                        batch = [mine.get(timeout=BEAT)]
                    except queue.Empty:
                        yield ": still here\n\n"
                        continue
                    while not mine.empty() and len(batch) < 200:
                        batch.append(mine.get_nowait())
                    yield "".join(f"data: {json.dumps(m, ensure_ascii=False)}\n\n" for m in _newest(batch))
        finally:
            _open.release()

    return Response(lines(), mimetype="text/event-stream", headers={"Cache-Control": "no-store"})


def _newest(batch: list[dict[str, Any]]) -> list[dict[str, Any]]:
    kept: dict[Any, dict[str, Any]] = {}
    for i, message in enumerate(batch):
        partial = message["topic"] == "proof" and message.get("state") == "running"
        kept[(message["sample"], message["step"]) if partial else i] = message
    return list(kept.values())
