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
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from sqlalchemy import String, bindparam, cast, or_, select, update
from sqlalchemy.orm import Session

from ..core.recurrence import RecurrenceError, due, passed_and_next, quiet_hours
from ..core.values import NotPlain, plain_object, text
from ..core.workflow import Line, Workflow
from ..core.workflow.plans import AnyPlan, CallInPlan, ClockPlan, FormPlan, HandPlan, PollPlan, RowsPlan, RunsPlan
from ..protocols.errors import NotFound, NothingToDo, OutsideError
from ..steps import kinds
from ..steps.api import Poll, PolledStart, PollResult, Row, SheetPoll, SheetStart
from ..store import tables
from . import hiding, sheets
from .execution import guarded, plan_of, read
from .journal import Pages
from .linked import Linker
from .outsides import STARTS
from .ports import Gate
from .runs import Runs, result_of, title_of
from .services import Services
from .transaction import Transaction

log = logging.getLogger("ulmus")
LONGEST_PAUSE = 3600.0
RUNS_EVERY = 2.0
REACHED = "It has reached its limit of runs for today: the others wait for tomorrow, or for your word."
FAR = 366 * 86_400.0
A_MOMENT = 2.0
"""Seconds within which a second press is the same press."""
GRACE = 90.0
OLD = 14 * 86_400.0
"""An item whose date lies so much (seconds) before its start went live is passed over, in sight."""
MOST_PASSED = 500
MOST_LOOKED = 8


@dataclass(frozen=True)
class _Due:
    """A start that is looked at: its workflow's number and page, what it remembers, and the moment."""

    workflow_id: int
    workflow: Workflow
    memory: dict[str, Any]
    now: float

    @property
    def line(self) -> Line:
        return self.workflow.start

    @property
    def plan(self) -> AnyPlan:
        """How the start listens. Raises `OutsideError` where it is not set up."""
        read(self.line)
        return plan_of(self.line)


class Polling:
    """Looks at starts."""

    def __init__(self, services: Services, pages: Pages, runs: Runs, gate: Gate) -> None:
        self.services = services
        self.pages = pages
        self.runs = runs
        self.gate = gate
        self.enabled = True
        self._flying: set[int] = set()
        self._lock = threading.Lock()
        self._woken = threading.Event()

    def wake(self) -> None:
        """A run has ended, or a start was changed: look at once at what goes by runs."""
        self._woken.set()

    def tick(self, now: float) -> None:
        """Look at every live start that is due."""
        if not self.enabled:
            return
        woken = self._woken.is_set()
        self._woken.clear()
        with self.services.store.read() as session:
            soon = tables.Start.next_at <= now
            due_ = list(
                session.scalars(
                    select(tables.Start.workflow_id)
                    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
                    .where(
                        tables.WorkflowRecord.state == "live",
                        or_(soon, tables.Start.found.startswith("Waits for runs")) if woken else soon,
                    )
                )
            )
        for workflow_id in due_:
            with self._lock:
                if workflow_id in self._flying:
                    continue
                self._flying.add(workflow_id)
            self.gate.submit(STARTS, partial(self._fly, workflow_id))

    def _fly(self, workflow_id: int, refused: OutsideError | None) -> None:
        try:
            self.look_at(workflow_id)
        except Exception as error:
            if not self.services.health.met(error):
                log.exception("looking at the start of workflow %s met a fault", workflow_id)
        finally:
            with self._lock:
                self._flying.discard(workflow_id)

    def look_at(self, workflow_id: int, asked: bool = False) -> None:
        """Look at one start now and begin a run for each new item. What is found is worked out before anything is written. Where a
        person `asked` for it, what waits for a time does not; twice within a moment is once."""
        services = self.services
        with services.store.read() as session:
            found = session.execute(_AS_IT_STANDS, {"id": workflow_id}).first()
            if found is None or found.revision_id is None or found.state != "live":
                return
            workflow = self.pages.get(session, found.revision_id).workflow
        line = workflow.start
        here = _Due(workflow_id, workflow, dict(found.memory), services.clock())
        try:
            match here.plan:
                case PollPlan(every=seconds):
                    seen = poll_once(services, self.pages, line, here.memory.get("look", {}))
                    self._hand_out(here, seen, here.now + seconds)
                case RowsPlan(every=seconds) as plan:
                    with services.store.read() as session:
                        seen = rows_found(session, here, plan)
                    self._hand_out(here, seen, here.now + seconds)
                case RunsPlan() as plan:
                    with services.store.read() as session:
                        seen = runs_found(session, self.pages, here, plan)
                    self._hand_out(here, seen, here.now + RUNS_EVERY)
                case ClockPlan() as plan:
                    self._by_the_clock(here, plan, asked)
                case HandPlan() | FormPlan() | CallInPlan() as plan:
                    self._note(workflow_id, here.now + FAR, plan.waits)
        except OutsideError as error:
            self._note_failure(workflow_id, error, every(line))

    # -- the clock ----------------------------------------------------------------------------------

    def _by_the_clock(self, here: _Due, plan: ClockPlan, asked: bool) -> None:
        last = float(here.memory.get("due", 0.0)) or here.now
        try:
            quiet = quiet_hours(plan.quiet) if plan.quiet else None
            since, now = dt.datetime.fromtimestamp(last, dt.UTC), dt.datetime.fromtimestamp(here.now, dt.UTC)
            passed, coming = passed_and_next(plan.rule, plan.zone, since, now, quiet)
        except RecurrenceError as error:
            raise OutsideError(str(error)) from None
        next_at = coming.timestamp() if coming else here.now + FAR
        memory = {"due": passed.timestamp() if passed else last}
        wanted = passed is not None and (plan.missed == "once" or here.now - passed.timestamp() <= GRACE)
        if asked and here.now - float(here.memory.get("asked", 0.0)) > A_MOMENT:
            wanted, passed, memory = True, now, {**memory, "asked": here.now}
        says = f"Next: {coming:%a %d %b %Y, %H:%M}." if coming else "No time is left to come."
        polled = PollResult([], memory, says, prime=False)
        if wanted and plan.sheet:
            with self.services.store.read() as session:
                rows = rows_found(session, here, plan)
            polled = PollResult(rows.items, memory, f"{rows.says} {says}", prime=False)
        elif wanted and passed is not None:
            polled = PollResult([due_item(passed)], memory, says, prime=False)
        self._hand_out(here, polled, next_at)

    # -- handing out --------------------------------------------------------------------------------

    def _hand_out(self, here: _Due, seen: PollResult, next_at: float) -> None:
        """Begin a run for each item that is new, and remember what was looked at, in one transaction."""
        workflow_id, found = here.workflow_id, taken_in(seen)
        with self.services.transaction() as tx:
            session = tx.session
            stands = session.execute(_AS_IT_STANDS, {"id": workflow_id}).first()
            if stands is None or stands.state != "live" or stands.memory != here.memory:
                # Paused, or gone live anew, while it was looked at; the next look knows better.
                return
            known = known_of(session, workflow_id, [identity for identity, _ in found.items])
            primed = bool(here.memory.get("primed")) or not found.prime
            fresh = list({i: item for i, item in found.items if i not in known}.items())
            old = [one for one in fresh if primed and is_old(one[1], here.memory)]
            aside = {identity for identity, _ in old}
            fresh = [one for one in fresh if one[0] not in aside]
            pass_over(session, workflow_id, here.now, [identity for identity, _ in old])
            passed = [*here.memory.get("passed", []), *({"identity": i, "item": item} for i, item in old)][-MOST_PASSED:]
            today = self.runs.left_today(session, workflow_id, here.workflow, tx.now)
            room = max(0, int(min(today, 1_000_000)))
            paced = plan if isinstance(plan := plan_of(here.line), PollPlan | RowsPlan) else PollPlan()
            most = min(paced.most, room)
            left = primed and len(fresh) > most
            began = 0
            if not primed:
                pass_over(session, workflow_id, here.now, [identity for identity, _ in fresh])
            elif paced.together and fresh and most:
                taken = fresh[: paced.most]
                item = together([one for _, one in taken])
                pass_over(session, workflow_id, here.now, [identity for identity, _ in taken[1:]])
                self.runs.begin(tx, workflow_id, item, title_of(item), identity=taken[0][0])
                began += 1
            else:
                for identity, item in fresh[:most]:
                    self.runs.begin(tx, workflow_id, item, title_of(item), identity=identity)
                    began += 1
            backlog = self._from_backlog(tx, here, room - began)
            says = found.says
            if old:
                says = f"{says} {len(old)} dated long before it went live {'was' if len(old) == 1 else 'were'} passed over."
            over = bool(fresh) and room <= began and today != float("inf") and len(fresh) > began
            if over:
                says = f"{says} {REACHED}"
            # Where items are left over, the next look must not be told that nothing has changed.
            memory = dict(found.memory)
            clock = {name: memory.pop(name) for name in ("due", "asked") if name in memory}
            kept: dict[str, Any] = {name: here.memory[name] for name in ("granted", "since", "asked") if name in here.memory}
            kept |= {"passed": passed} if passed else {}
            noted: dict[str, Any] = {
                "memory": {
                    "primed": True,
                    "fails": 0,
                    "look": here.memory.get("look", {}) if left else memory,
                    **({"over": True} if over else {}),
                    **({"backlog": backlog} if backlog else {}),
                    **kept,
                    **clock,
                },
                "looked_at": here.now,
                "found": says,
                "failed": False,
                # A look that was asked for while it was looked at is not forgotten.
                "next_at": min(
                    [
                        next_at,
                        *([stands.next_at] if stands.next_at > here.now else []),
                        *([here.now + every(here.line)] if left else []),
                        *([midnight(tx.now)] if backlog else []),
                    ]
                ),
            }
            session.execute(update(tables.Start).where(tables.Start.workflow_id == workflow_id), noted)
            if began or stands.failed or stands.found != says:
                tx.publish("workflow", id=workflow_id)

    def run_for_passed(self, workflow_id: int, run: bool) -> int:
        """Begin runs for items that were passed over for their dates, or leave them; gives how many there were."""
        with self.services.transaction() as tx:
            start = tx.session.get(tables.Start, workflow_id)
            passed = list(start.memory.get("passed", [])) if start is not None else []
            if start is None or not passed:
                return 0
            if run:
                for one in passed:
                    self.runs.begin(tx, workflow_id, one["item"], title_of(one["item"]), identity=one["identity"])
            start.memory = {name: value for name, value in start.memory.items() if name != "passed"}
            tx.session.flush()
            tx.publish("workflow", id=workflow_id)
        return len(passed)

    def _from_backlog(self, tx: Transaction, here: _Due, room: int) -> dict[str, Any]:
        """Begin runs for what was there when the start went live, so many a day; gives what is to be remembered of it."""
        backlog = dict(here.memory.get("backlog", {}))
        if not backlog:
            return {}
        day = dt.datetime.fromtimestamp(tx.now).date().isoformat()
        given = int(backlog.get("given", 0)) if backlog.get("day") == day else 0
        most = min(int(backlog["a_day"]) - given, room)
        waiting = select(tables.Backlog).where(tables.Backlog.workflow_id == here.workflow_id).order_by(tables.Backlog.id)
        for one in tx.session.scalars(waiting.limit(max(0, most))).all():
            self.runs.begin(tx, here.workflow_id, one.item, title_of(one.item), identity=one.identity)
            tx.session.delete(one)
            given += 1
        tx.session.flush()
        more = tx.session.scalar(select(tables.Backlog.id).where(tables.Backlog.workflow_id == here.workflow_id).limit(1))
        return {"a_day": backlog["a_day"], "day": day, "given": given} if more is not None else {}

    def _note(self, workflow_id: int, next_at: float, says: str) -> None:
        with self.services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            start.found, start.failed, start.next_at = says, False, next_at

    def _note_failure(self, workflow_id: int, error: OutsideError, pause: float) -> None:
        services = self.services
        with services.store.write() as session:
            start = session.get_one(tables.Start, workflow_id)
            fails = int(start.memory.get("fails", 0)) + 1
            start.memory = {**start.memory, "fails": fails}
            longer = min(LONGEST_PAUSE, max(pause * min(2**fails, 16), error.retry_after or 0))
            start.looked_at, start.found, start.failed = services.clock(), error.message, True
            start.next_at = services.clock() + max(longer, pause)
        services.bus.publish("workflow", id=workflow_id)


_AS_IT_STANDS = (
    select(
        tables.Start.memory,
        tables.Start.failed,
        tables.Start.found,
        tables.Start.next_at,
        tables.WorkflowRecord.revision_id,
        tables.WorkflowRecord.state,
    )
    .join(tables.WorkflowRecord, tables.WorkflowRecord.id == tables.Start.workflow_id)
    .where(tables.Start.workflow_id == bindparam("id"))
)


def is_old(item: dict[str, Any], memory: dict[str, Any]) -> bool:
    """Whether an item bears a date long before its start went live: more likely an old one brought up again than news."""
    since, date = memory.get("since"), item.get("published")
    if not since or not isinstance(date, str) or not date:
        return False
    try:
        when = dt.datetime.fromisoformat(date)
    except ValueError:
        return False
    when = when if when.tzinfo else when.replace(tzinfo=dt.UTC)
    return when.timestamp() < float(since) - OLD


def pass_over(session: Session, workflow_id: int, now: float, identities: list[str]) -> None:
    """Count items as handed out without a run of their own."""
    if identities:
        session.connection().exec_driver_sql(
            "INSERT INTO seen (workflow_id, identity, at) SELECT ?, value, ? FROM json_each(?) WHERE true ON CONFLICT DO NOTHING",
            (workflow_id, now, json.dumps(identities)),
        )


def known_of(session: Session, workflow_id: int, identities: list[str]) -> set[str]:
    """Which of these a start has handed out before."""
    names = hiding.names(session.connection())
    known = {name: identity for identity in identities for name in names(identity)}
    rows = session.connection().exec_driver_sql(
        "SELECT identity FROM seen WHERE workflow_id = ? AND identity IN (SELECT value FROM json_each(?))",
        (workflow_id, json.dumps(list(known))),
    )
    return {known[row[0]] for row in rows}


def taken_in(found: PollResult) -> PollResult:
    """What a look brought, as values the house can keep; an item that cannot be kept is left out, and that is said."""
    items: list[tuple[str, dict[str, Any]]] = []
    left_out = 0
    for identity, item in found.items:
        try:
            items.append((text(str(identity))[:500], plain_object(item)))
        except NotPlain as error:
            left_out += 1
            log.warning("an item cannot be kept: %s", error)
    says = (
        f"{found.says} {left_out} could not be kept and {'was' if left_out == 1 else 'were'} left out." if left_out else found.says
    )
    return PollResult(items, plain_object(found.memory), text(says), found.prime)


def every(line: Line) -> float:
    """Seconds between two looks at a start."""
    plan = plan_of(line)
    return plan.every if isinstance(plan, PollPlan | RowsPlan) else 60.0


def poll_once(services: Services, pages: Pages, line: Line, memory: dict[str, Any]) -> PollResult:
    """One look at a start, live or to capture samples. Raises `OutsideError`."""
    kind = kinds()[line.kind]
    here = _Due(0, Workflow(name="look", start=line, steps=[]), {}, services.clock())
    plan = here.plan
    if isinstance(kind, PolledStart):
        looking = Poll(services.web, services.connect, memory, services.clock())
        return taken_in(guarded(lambda: kind.poll(read(line), looking)))
    with services.store.read() as session:
        if isinstance(plan, RunsPlan):
            return runs_found(session, pages, here, plan, primed=True)
        if isinstance(kind, SheetStart) and isinstance(plan, RowsPlan | ClockPlan):
            polled = rows_found(session, here, plan, MOST_LOOKED)
            # A list is used from the top: what comes next is the latest, as the last due time is.
            return PollResult(polled.items[::-1], {}, polled.says) if isinstance(plan, ClockPlan) else polled
    if isinstance(plan, ClockPlan):
        try:
            moments = due(plan.rule, plan.zone, dt.datetime.fromtimestamp(services.clock(), dt.UTC), 8)
        except RecurrenceError as error:
            raise OutsideError(str(error)) from None
        return PollResult([due_item(m) for m in reversed(moments)], {}, "")
    raise NothingToDo("Nothing has arrived here yet. Type a sample in, or try the start once.")


def poll_again(services: Services, pages: Pages, workflow_id: int, line: Line, memory: dict[str, Any]) -> PollResult:
    """One look at a start that listens already, with what it remembers. Raises `OutsideError`."""
    here = _Due(workflow_id, Workflow(name="look", start=line, steps=[]), memory, services.clock())
    plan = here.plan
    with services.store.read() as session:
        if isinstance(plan, RunsPlan):
            return taken_in(runs_found(session, pages, here, plan))
        if isinstance(plan, RowsPlan):
            return taken_in(rows_found(session, here, plan))
    return poll_once(services, pages, line, memory.get("look", {}))


def midnight(now: float) -> float:
    """When the next day begins."""
    today = dt.datetime.fromtimestamp(now).replace(hour=0, minute=0, second=0, microsecond=0)
    return (today + dt.timedelta(days=1)).timestamp()


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


def rows_found(session: Session, here: _Due, plan: RowsPlan | ClockPlan, count: int | None = None) -> PollResult:
    """What a start that watches a sheet finds in it; `count` rows where another number is wanted than is set."""
    kind, settings = kinds()[here.line.kind], read(here.line)
    assert isinstance(kind, SheetStart)
    sheet = session.get(tables.Sheet, plan.sheet)
    if sheet is None:
        raise NotFound(f"The sheet “{plan.sheet}” is no longer here.")
    filled = Linker(session, sheet).filled
    if isinstance(plan, ClockPlan):
        rows, unused = sheets.unused(session, plan.sheet, plan.used, here.workflow_id, count or plan.count)
        rows = [replace(row, cells=filled(row.cells)) for row in rows]
        return guarded(lambda: kind.rows(settings, SheetPoll(rows, most=count, unused=unused)))
    # Rows that were not changed since the last look have been handed out, or passed over.
    after = int(here.memory.get("look", {}).get("after", 0))
    row = tables.SheetRow
    wanted = select(row.id, row.position, row.cells, row.touched).where(row.sheet == plan.sheet, row.touched > after)
    found = session.execute(wanted.order_by(row.position)).all()
    rows = [Row(id_, place, filled(cells)) for id_, place, cells, _ in found]
    seen = guarded(lambda: kind.rows(settings, SheetPoll(rows, most=count)))
    return replace(seen, memory={**seen.memory, "after": max((touched for *_, touched in found), default=after)})


def runs_found(session: Session, pages: Pages, here: _Due, plan: RunsPlan, primed: bool = False) -> PollResult:
    """Runs of another workflow that have ended since the last look."""
    last = float(here.memory.get("look", {}).get("at", 0.0))
    # A little is looked at twice, so that nothing that ended in the same moment is missed; each counts once anyway.
    ended = select(tables.Run).where(tables.Run.workflow_id == int(plan.workflow), tables.Run.ended_at >= last - 60)
    if plan.outcomes:
        ended = ended.where(tables.Run.state.in_(plan.outcomes))
    if not primed:
        seen = (
            select(tables.Seen.identity)
            .where(tables.Seen.workflow_id == here.workflow_id, tables.Seen.identity == "run:" + cast(tables.Run.id, String))
            .exists()
        )
        ended = ended.where(~seen)
    items = []
    for run in session.scalars(ended.order_by(tables.Run.ended_at).limit(200)):
        live = pages.load(session, run.id)
        item = {"title": run.title, "state": run.state, "run": run.id, **result_of(live.workflow, live.state)}
        items.append((f"run:{run.id}", item))
        last = max(last, run.ended_at or 0.0)
    return PollResult(items, {"at": last}, "Waits for runs of the other workflow.")


def together(items: list[dict[str, Any]]) -> dict[str, Any]:
    """Several items as one."""
    first = title_of(items[0])
    title = first if len(items) == 1 else f"{first} and {len(items) - 1} more"
    return {"title": title, "items": items, "count": len(items)}


def fingerprint(line: Line) -> str:
    """What makes a start the same start: its kind and where it looks, not how often."""
    kind = kinds().get(line.kind)
    pace = kind.pace if isinstance(kind, PolledStart | SheetStart) else ()
    settings = {name: value for name, value in line.settings.items() if name not in pace}
    return hashlib.sha256(json.dumps([line.kind, settings], sort_keys=True).encode()).hexdigest()
