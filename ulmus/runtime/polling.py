"""Listening: live workflows' starts are looked at when due; each item starts one run, once."""

from __future__ import annotations

import hashlib
import json
import logging
import threading
from typing import TYPE_CHECKING, Any

from sqlalchemy import select

from ..core.workflow import Line, Workflow
from ..core.workflow.file import read_settings
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Found
from ..store import tables
from .carry import guarded

if TYPE_CHECKING:
    from .engine import Engine

log = logging.getLogger("ulmus")
MOST_RUNS_PER_LOOK = 50
LONGEST_PAUSE = 3600.0


class Polling:
    """Looks at starts. What a start remembers and what it handed out are written with the runs it begins."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.enabled = True
        self._flying: set[int] = set()
        self._lock = threading.Lock()

    def look(self, now: float) -> None:
        """Look at every live start that is due."""
        if not self.enabled:
            return
        with self.engine.services.store.read() as session:
            due = list(
                session.scalars(
                    select(tables.Start.workflow_id)
                    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
                    .where(tables.WorkflowRecord.state == "live", tables.Start.next_at <= now)
                )
            )
        for workflow_id in due:
            with self._lock:
                if workflow_id in self._flying:
                    continue
                self._flying.add(workflow_id)
            self.engine.executor.submit(self._fly, workflow_id)

    def _fly(self, workflow_id: int) -> None:
        try:
            self.look_at(workflow_id)
        except Exception:
            log.exception("looking at the start of workflow %s met a fault", workflow_id)
        finally:
            with self._lock:
                self._flying.discard(workflow_id)

    def look_at(self, workflow_id: int) -> None:
        """Look at one start now and begin a run for each new item."""
        services = self.engine.services
        with services.store.read() as session:
            start = session.get(tables.Start, workflow_id)
            record = session.get_one(tables.WorkflowRecord, workflow_id)
            if start is None or record.revision_id is None:
                return
            line = Workflow.model_validate(session.get_one(tables.Revision, record.revision_id).document).start
        every = float(line.settings.get("every", 900))
        try:
            found = look_once(self.engine, line, start.memory.get("look", {}))
        except OutsideError as error:
            self._note_failure(workflow_id, error, every)
            return
        self._hand_out(workflow_id, found, start.memory, every)

    def _note_failure(self, workflow_id: int, error: OutsideError, every: float) -> None:
        services = self.engine.services
        with services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            fails = int(start.memory.get("fails", 0)) + 1
            start.memory = {**start.memory, "fails": fails}
            pause = min(LONGEST_PAUSE, max(every * min(2**fails, 16), error.retry_after or 0))
            start.looked_at, start.found, start.failed = services.clock(), error.message, True
            start.next_at = services.clock() + max(pause, every)
        services.bus.say("workflow", id=workflow_id)

    def _hand_out(self, workflow_id: int, found: Found, memory: dict[str, Any], every: float) -> None:
        services = self.engine.services
        began: list[int] = []
        with services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            primed = bool(memory.get("primed"))
            wanted = [identity for identity, _ in found.items]
            known = set(
                session.scalars(
                    select(tables.Seen.identity).where(tables.Seen.workflow_id == workflow_id, tables.Seen.identity.in_(wanted))
                )
            )
            for identity, item in found.items:
                if identity in known or len(began) >= MOST_RUNS_PER_LOOK:
                    continue
                known.add(identity)
                session.add(tables.Seen(workflow_id=workflow_id, identity=identity))
                if primed:
                    began.append(self.engine.begin(session, workflow_id, item, title_of(item)))
            left = len(began) >= MOST_RUNS_PER_LOOK
            # Where items are left over, the next look must not be told that nothing has changed.
            start.memory = {"primed": True, "fails": 0, "look": {} if left else found.memory}
            changed = bool(began) or start.failed or start.found != found.says
            start.looked_at, start.found, start.failed = services.clock(), found.says, False
            start.next_at = services.clock() + every
        self.engine.settle(began)
        if changed:
            services.bus.say("workflow", id=workflow_id)


def look_once(engine: Engine, line: Line, memory: dict[str, Any]) -> Found:
    """One look at a start, live or to capture samples. Raises `OutsideError`."""
    kind = kinds()[line.kind]
    settings, wrong = read_settings(kind.settings, line.settings)
    if settings is None or kind.look is None:
        raise OutsideError("The start is not set up: " + " ".join(words for _, words in wrong))
    look = kind.look
    return guarded(lambda: look(settings, memory, engine.services.web))


def fingerprint(line: Line) -> str:
    """What makes a start the same start: its kind and where it looks, not how often."""
    settings = {k: v for k, v in line.settings.items() if k != "every"}
    return hashlib.sha256(json.dumps([line.kind, settings], sort_keys=True).encode()).hexdigest()


def title_of(item: dict[str, Any]) -> str:
    """What a run or sample made from this item is called."""
    return str(item.get("title") or item.get("link") or item.get("identity") or "Item")[:300]
