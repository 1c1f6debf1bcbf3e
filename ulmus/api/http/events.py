"""Live events: server-sent events (WHATWG HTML section 9.2) for pages that are open.

A page that listens holds a thread for as long as it is open. Each person has a few places, the house many; the server is
told how many are taken, so that there are always threads left for everything else.
"""

from __future__ import annotations

import json
import queue
from collections.abc import Generator, Iterator
from typing import Any

from flask import Blueprint, Response, g, request

from ..security import members
from ..security.auth import needs
from .base import House, Refusal, house

bp = Blueprint("events", __name__)
BEAT = 5.0


@bp.get("/api/events")
@needs("reader")
def stream() -> Response:
    """What changes, as it changes. Partial texts of one cell that pile up are sent once, the newest."""
    headers = {"Cache-Control": "no-store"}
    if request.method == "HEAD":
        return Response(mimetype="text/event-stream", headers=headers)
    person = g.user.id
    if not house().places.take(person, house().make_room):
        raise Refusal("Too many of your pages are listening. Close some.", 503)
    return Response(_Stream(person, house()), mimetype="text/event-stream", headers=headers)


class _Stream:
    """What one page hears. Its place is given back however this ends, also where it is never begun."""

    def __init__(self, person: int, parts: House) -> None:
        self._person, self._places, self._bus = person, parts.places, parts.services.bus
        self._ears = members.Ears(parts.services.store, person)
        self._closed = False
        self._lines = self._hear()

    def __iter__(self) -> Iterator[str]:
        return self._lines

    def close(self) -> None:
        """Called by the server at the end of every answer (PEP 3333)."""
        if not self._closed:
            self._closed = True
            self._lines.close()
            self._places.leave(self._person)

    def _hear(self) -> Generator[str, None, None]:
        with self._bus.listen() as mine:
            yield "retry: 1500\n\n"
            while True:
                try:
                    batch = [mine.get(timeout=BEAT)]
                except queue.Empty:
                    yield ": still here\n\n"
                    continue
                while not mine.empty() and len(batch) < 200:
                    batch.append(mine.get_nowait())
                told = self._ears.heard(_newest(batch))
                if told is None:
                    return
                yield "".join(f"data: {json.dumps(m, ensure_ascii=False)}\n\n" for m in told) or ": nothing of yours\n\n"


def _newest(batch: list[dict[str, Any]]) -> list[dict[str, Any]]:
    kept: dict[Any, dict[str, Any]] = {}
    for i, message in enumerate(batch):
        partial = message["topic"] == "proof" and message.get("state") == "running"
        kept[(message["sample"], message["step"]) if partial else i] = message
    return list(kept.values())
