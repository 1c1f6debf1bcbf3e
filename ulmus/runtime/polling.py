"""Listening: live workflows' starts are looked at when due; each item starts one run, once.

What a start remembers and what it handed out are written in one transaction with the runs it begins, so that
neither a crash nor a second look gives an item to two runs or to none.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from sqlalchemy import String, bindparam, cast, or_, select, update
from sqlalchemy.orm import Session

from ..core.recurrence import RecurrenceError, due, passed_and_next, quiet_hours
from ..core.workflow import Line
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Found, Look, Row
from ..store import tables
from .beginning import result_of
from .carry import guarded, read
from .outsides import STARTS

if TYPE_CHECKING:
    from .engine import Engine

log = logging.getLogger("ulmus")
LONGEST_PAUSE = 3600.0
RUNS_EVERY = 2.0
FAR = 366 * 86_400.0
GRACE = 90.0
MOST_LOOKED = 8
WAITS = {"form": "Waits for the form to be filled in.", "call": "Waits for a call.", "by_hand": "Waits for you to start it."}
ENDED_WELL = ("done",)
ENDED_BADLY = ("failed",)


@dataclass(frozen=True)
class _Due:
    """A start that is looked at: its workflow, its line, what it remembers, and the moment."""

    workflow_id: int
    line: Line
    memory: dict[str, Any]
    now: float

    @property
    def settings(self) -> Any:
        return read(self.line)


class Polling:
    """Looks at starts."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.enabled = True
        self._flying: set[int] = set()
        self._lock = threading.Lock()
        self._hurry = threading.Event()

    def hurry(self) -> None:
        """A run has ended, or a start was changed: look at once at what goes by runs."""
        self._hurry.set()

    def look(self, now: float) -> None:
        """Look at every live start that is due."""
        if not self.enabled:
            return
        hurried = self._hurry.is_set()
        self._hurry.clear()
        with self.engine.services.store.read() as session:
            soon = tables.Start.next_at <= now
            due_ = list(
                session.scalars(
                    select(tables.Start.workflow_id)
                    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
                    .where(
                        tables.WorkflowRecord.state == "live",
                        or_(soon, tables.Start.found.startswith("Waits for runs")) if hurried else soon,
                    )
                )
            )
        for workflow_id in due_:
            with self._lock:
                if workflow_id in self._flying:
                    continue
                self._flying.add(workflow_id)
            self.engine.outsides.submit(STARTS, partial(self._fly, workflow_id))

    def _fly(self, workflow_id: int, refused: OutsideError | None) -> None:
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
            found = session.execute(_AS_IT_STANDS, {"id": workflow_id}).first()
            if found is None or found.revision_id is None or found.state != "live":
                return
            line = self.engine.pages.get(session, found.revision_id).workflow.start
        here = _Due(workflow_id, line, dict(found.memory), services.clock())
        listens = kinds()[line.kind].listens
        try:
            if listens == "poll":
                seen = look_once(self.engine, line, here.memory.get("look", {}))
                self._hand_out(here, lambda session: seen, here.now + every(line))
            elif listens == "rows":
                self._hand_out(here, lambda session: rows_found(session, here), here.now + every(line))
            elif listens == "runs":
                self._hand_out(here, lambda session: runs_found(session, self.engine, here), here.now + RUNS_EVERY)
            elif listens == "clock":
                self._by_the_clock(here)
            else:
                self._note(workflow_id, here.now + FAR, WAITS.get(line.kind, "Waits to be started."))
        except OutsideError as error:
            self._note_failure(workflow_id, error, every(line))

    # -- the clock ----------------------------------------------------------------------------------

    def _by_the_clock(self, here: _Due) -> None:
        settings = here.settings
        last = float(here.memory.get("due", 0.0)) or here.now
        try:
            quiet = quiet_hours(settings.quiet) if settings.quiet else None
            since, now = dt.datetime.fromtimestamp(last, dt.UTC), dt.datetime.fromtimestamp(here.now, dt.UTC)
            passed, coming = passed_and_next(settings.rule, settings.zone, since, now, quiet)
        except RecurrenceError as error:
            raise OutsideError(str(error)) from None
        next_at = coming.timestamp() if coming else here.now + FAR
        memory = {"due": passed.timestamp() if passed else last}
        wanted = passed is not None and (settings.missed == "once" or here.now - passed.timestamp() <= GRACE)
        says = f"Next: {coming:%a %d %b %Y, %H:%M}." if coming else "No time is left to come."
        row_kind = kinds()[here.line.kind].rows is not None

        def find(session: Session) -> Found:
            if not wanted:
                return Found([], memory, says, prime=False)
            if row_kind:
                found = rows_found(session, here)
                return Found(found.items, memory, f"{found.says} {says}", prime=False)
            return Found([due_item(passed)] if passed else [], memory, says, prime=False)

        self._hand_out(here, find, next_at)

    # -- handing out --------------------------------------------------------------------------------

    def _hand_out(self, here: _Due, find: Callable[[Session], Found], next_at: float) -> None:
        services, workflow_id = self.engine.services, here.workflow_id
        began: list[int] = []
        with services.store.write() as session:
            stands = session.execute(_AS_IT_STANDS, {"id": workflow_id}).first()
            if stands is None or stands.state != "live" or stands.memory != here.memory:
                # Paused, or gone live anew, while it was looked at; the next look knows better.
                return
            found = find(session)
            known = _known(session, workflow_id, [identity for identity, _ in found.items])
            primed = bool(here.memory.get("primed")) or not found.prime
            fresh = list({i: item for i, item in found.items if i not in known}.items())
            most = int(here.line.settings.get("most", 50))
            left = primed and len(fresh) > most
            if not primed:
                self._pass_over(session, here, [identity for identity, _ in fresh])
            elif here.line.settings.get("runs") == "together" and fresh:
                taken = fresh[:most]
                item = together([one for _, one in taken])
                self._pass_over(session, here, [identity for identity, _ in taken[1:]])
                began.append(self.engine.begin(session, workflow_id, item, title_of(item), identity=taken[0][0]))
            else:
                for identity, item in fresh[:most]:
                    began.append(self.engine.begin(session, workflow_id, item, title_of(item), identity=identity))
            # Where items are left over, the next look must not be told that nothing has changed.
            memory = dict(found.memory)
            clock = {"due": memory.pop("due")} if "due" in memory else {}
            changed = bool(began) or stands.failed or stands.found != found.says
            noted = {
                "memory": {"primed": True, "fails": 0, "look": here.memory.get("look", {}) if left else memory, **clock},
                "looked_at": here.now,
                "found": found.says,
                "failed": False,
                "next_at": next_at if not left else min(next_at, here.now + every(here.line)),
            }
            session.execute(update(tables.Start.__table__).where(tables.Start.workflow_id == workflow_id), noted)
        self.engine.settle(began)
        if changed:
            services.bus.say("workflow", id=workflow_id)

    @staticmethod
    def _pass_over(session: Session, here: _Due, identities: list[str]) -> None:
        """Count items as handed out without a run of their own."""
        if identities:
            session.connection().exec_driver_sql(
                "INSERT INTO seen (workflow_id, identity, at) SELECT ?, value, ? FROM json_each(?)",
                (here.workflow_id, here.now, json.dumps(identities)),
            )

    def _note(self, workflow_id: int, next_at: float, says: str) -> None:
        with self.engine.services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            start.found, start.failed, start.next_at = says, False, next_at

    def _note_failure(self, workflow_id: int, error: OutsideError, pause: float) -> None:
        services = self.engine.services
        with services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            fails = int(start.memory.get("fails", 0)) + 1
            start.memory = {**start.memory, "fails": fails}
            longer = min(LONGEST_PAUSE, max(pause * min(2**fails, 16), error.retry_after or 0))
            start.looked_at, start.found, start.failed = services.clock(), error.message, True
            start.next_at = services.clock() + max(longer, pause)
        services.bus.say("workflow", id=workflow_id)


_AS_IT_STANDS = (
    select(
        tables.Start.memory, tables.Start.failed, tables.Start.found, tables.WorkflowRecord.revision_id, tables.WorkflowRecord.state
    )
    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
    .where(tables.Start.workflow_id == bindparam("id"))
)


def _known(session: Session, workflow_id: int, identities: list[str]) -> set[str]:
    """Which of these a start has handed out before."""
    rows = session.connection().exec_driver_sql(
        "SELECT identity FROM seen WHERE workflow_id = ? AND identity IN (SELECT value FROM json_each(?))",
        (workflow_id, json.dumps(identities)),
    )
    return {row[0] for row in rows}


def push(engine: Engine, workflow_id: int, item: dict[str, Any], identity: str | None = None) -> int | None:
    """Begin a run with an item that was brought: a form, a call, a person. ``None`` where `identity` was here before.

    Raises `ValueError` where the workflow is not live.
    """
    with engine.services.store.write() as session:
        record = session.get(tables.WorkflowRecord, workflow_id)
        if record is None or record.state != "live" or record.revision_id is None:
            raise ValueError("This workflow is not live at the moment.")
        if identity is not None and session.get(tables.Seen, (workflow_id, identity)) is not None:
            return None
        run_id = engine.begin(session, workflow_id, item, title_of(item), identity=identity)
        start = session.get(tables.Start, workflow_id)
        if start is not None:
            start.looked_at = engine.services.clock()
    engine.settle([run_id])
    return run_id


def every(line: Line) -> float:
    """Seconds between two looks at a start."""
    try:
        return float(getattr(read(line), "every", None) or 60.0)
    except OutsideError:
        return 60.0


def look_once(engine: Engine, line: Line, memory: dict[str, Any]) -> Found:
    """One look at a start, live or to capture samples. Raises `OutsideError`."""
    services = engine.services
    kind = kinds()[line.kind]
    here = _Due(0, line, {}, services.clock())
    settings = here.settings
    if kind.look is not None:
        look = kind.look
        return guarded(lambda: look(settings, Look(services.web, services.connect, memory, services.clock())))  # type: ignore[no-any-return]
    with services.store.read() as session:
        if kind.listens == "runs":
            return runs_found(session, engine, here, primed=True)
        if kind.rows is not None:
            found = rows_found(session, here, MOST_LOOKED)
            # A list is used from the top: what comes next is the latest, as the last due time is.
            return Found(found.items[::-1], {}, found.says) if kind.listens == "clock" else found
    if kind.listens == "clock":
        try:
            moments = due(settings.rule, settings.zone, dt.datetime.fromtimestamp(services.clock(), dt.UTC), 8)
        except RecurrenceError as error:
            raise OutsideError(str(error)) from None
        return Found([due_item(m) for m in reversed(moments)], {}, "")
    raise OutsideError("Nothing has arrived here yet. Type a sample in, or try the start once.")


def due_item(moment: dt.datetime) -> tuple[str, dict[str, Any]]:
    """A due time as an item."""
    words = {
        "due": moment.isoformat(),
        "date": moment.date().isoformat(),
        "time": f"{moment:%H:%M}",
        "weekday": f"{moment:%A}",
        "title": f"{moment:%A, %d %B %Y, %H:%M}",
    }
    return moment.astimezone(dt.UTC).isoformat(), words


def rows_found(session: Session, here: _Due, count: int | None = None) -> Found:
    """What a start that watches a sheet finds in it; `count` rows where another number is wanted than is set."""
    kind, settings = kinds()[here.line.kind], here.settings
    if count is not None and "count" in type(settings).model_fields:
        settings = settings.model_copy(update={"count": count})
    assert kind.rows is not None
    if session.get(tables.Sheet, settings.sheet) is None:
        raise OutsideError(f"The sheet “{settings.sheet}” is no longer here.")
    found = session.execute(
        select(tables.SheetRow.id, tables.SheetRow.position, tables.SheetRow.cells)
        .where(tables.SheetRow.sheet == settings.sheet)
        .order_by(tables.SheetRow.position)
    ).all()
    taken = select(tables.Seen.identity).where(tables.Seen.workflow_id == here.workflow_id, tables.Seen.identity.startswith("row:"))
    memory = {"taken": list(session.scalars(taken)) if kind.listens == "clock" else []}
    rows = [Row(i, position, dict(cells)) for i, position, cells in found]
    return guarded(lambda: kind.rows(settings, rows, memory))  # type: ignore[misc, no-any-return]


def runs_found(session: Session, engine: Engine, here: _Due, primed: bool = False) -> Found:
    """Runs of another workflow that have ended since the last look."""
    settings = here.settings
    wanted = {"well": ENDED_WELL, "failed": ENDED_BADLY}.get(settings.how)
    last = float(here.memory.get("look", {}).get("at", 0.0))
    # A little is looked at twice, so that nothing that ended in the same moment is missed; each counts once anyway.
    ended = select(tables.Run).where(tables.Run.workflow_id == int(settings.workflow), tables.Run.ended_at >= last - 60)
    if wanted:
        ended = ended.where(tables.Run.state.in_(wanted))
    if not primed:
        seen = (
            select(tables.Seen.identity)
            .where(tables.Seen.workflow_id == here.workflow_id, tables.Seen.identity == "run:" + cast(tables.Run.id, String))
            .exists()
        )
        ended = ended.where(~seen)
    items = []
    for run in session.scalars(ended.order_by(tables.Run.ended_at).limit(200)):
        live = engine.pages.load(session, run.id)
        item = {"title": run.title, "state": run.state, "run": run.id, **result_of(live.workflow, live.state)}
        items.append((f"run:{run.id}", item))
        last = max(last, run.ended_at or 0.0)
    return Found(items, {"at": last}, "Waits for runs of the other workflow.")


def together(items: list[dict[str, Any]]) -> dict[str, Any]:
    """Several items as one."""
    first = title_of(items[0])
    title = first if len(items) == 1 else f"{first} and {len(items) - 1} more"
    return {"title": title, "items": items, "count": len(items)}


def fingerprint(line: Line) -> str:
    """What makes a start the same start: its kind and where it looks, not how often."""
    settings = {k: v for k, v in line.settings.items() if k not in ("every", "most", "runs")}
    return hashlib.sha256(json.dumps([line.kind, settings], sort_keys=True).encode()).hexdigest()


def title_of(item: dict[str, Any]) -> str:
    """What a run or sample made from this item is called."""
    found = item.get("title") or item.get("link") or item.get("identity")
    if not found:
        found = next((v for v in item.values() if isinstance(v, str) and v.strip()), "Item")
    # A title from outside may hold half a surrogate pair, which the database does not take.
    return " ".join(str(found).split())[:300].encode("utf-8", "replace").decode()
