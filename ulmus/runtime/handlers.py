"""The decisions of a run, each with its handler: one table, the same for live runs and for proofs.

A handler has up to three parts. `prepare` runs a kind's code, outside any transaction, and gives plain data. `commit` turns
that into events, with what they change in the database, inside the writer's transaction; it computes nothing but that.
`play` says, in proofs, what a line would have done.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from dateutil import parser as dates
from sqlalchemy import func, select

from ..core import flow
from ..core.cost import Usage
from ..core.slots import all_items, fits, items_of, parse, render, value_in
from ..core.values import plain_object
from ..core.workflow import Line, Workflow
from ..core.workflow.file import read_settings
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.api import Connection, Context, Outgoing, Result
from ..store import tables
from . import carry
from .asking import QUESTION, open_question
from .dispatcher import Task
from .journal import Live
from .ports import Outbox, Outdated, Runs
from .reach import check_reads
from .services import Services
from .transaction import Transaction

DEEPEST = 8
"""How deep workflows may run one another."""
PLAYED_BY = "the editor (played)"
Gave = tuple[dict[str, Any], dict[str, Any], Usage]


class Handler:
    """What becomes of one type of decision. The default is a decision the database alone can answer."""

    outside = False

    def prepare(self, task: Task, context: Context) -> Any:
        """What is to be committed; on the executor."""
        return None

    def commit(self, tx: Transaction, live: Live, decision: Any, prepared: Any) -> list[flow.Event]:
        """The events that answer the decision."""
        raise NotImplementedError

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """Output, detail and usage in rehearsal."""
        raise OutsideError("This line is carried out as a block.")


class Performing(Handler):
    """A line that gathers, drafts or thinks."""

    outside = True

    def prepare(self, task: Task, context: Context) -> Result:
        if task.reach is not None:
            check_reads(task.line, task.values, task.reach)
        return carry.perform(task.line, context)

    def commit(self, tx: Transaction, live: Live, decision: flow.Perform, prepared: Result) -> list[flow.Event]:
        return [
            flow.Done(at=tx.now, address=decision.address, output=prepared.output, detail=prepared.detail, usage=prepared.usage)
        ]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        result = carry.perform(line, context)
        return result.output, result.detail, result.usage


class Sending(Handler):
    """A line that publishes or acts: its piece goes into the outbox."""

    outside = True

    def __init__(self, outbox: Outbox) -> None:
        self.outbox = outbox

    def prepare(self, task: Task, context: Context) -> Outgoing:
        return carry.piece(task.line, context)

    def commit(self, tx: Transaction, live: Live, decision: flow.Send, prepared: Outgoing) -> list[flow.Event]:
        piece, key = self.outbox.queue(tx, live, decision, live.line(decision.step).kind, prepared)
        return [flow.Queued(at=tx.now, address=decision.address, piece=piece, key=key)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        outgoing, kind = carry.piece(line, context), kinds()[line.kind]
        played = kind.plays(carry.filled(kind, line, context.values), context.kept.get(line.id, {})) if kind.plays else {"link": ""}
        return {**outgoing.content, **played}, {"would": "send", "connection": outgoing.connection}, Usage()


class Following(Handler):
    """A job that was taken: it is looked at until it is over."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> carry.Progress:
        decision = task.decision
        assert isinstance(decision, flow.Follow)
        with self.services.store.read() as session:
            mine = tables.Piece.run_id == task.run_id, tables.Piece.address == decision.address
            key = session.scalar(select(tables.Piece.connection).where(*mine).order_by(tables.Piece.id.desc()).limit(1))
            record = session.get(tables.Connection, key) if key else None
        if record is None:
            raise OutsideError("The connection the job was handed to is missing.")
        connection: Connection = self.services.open_connection(record)
        return carry.follow(task.line, context, connection, decision.receipt, self.services.clock() - decision.since)

    def commit(self, tx: Transaction, live: Live, decision: flow.Follow, prepared: carry.Progress) -> list[flow.Event]:
        if prepared.output is None:
            return [flow.Followed(at=tx.now, address=decision.address, due=tx.now + prepared.again_in)]
        # Proofs of this line go on with the last result it had.
        tx.session.merge(tables.StepMemory(workflow_id=live.workflow_id, step=decision.step, data={carry.KEPT: prepared.output}))
        return [flow.Done(at=tx.now, address=decision.address, output=prepared.output)]


class Writing(Handler):
    """A line that records: the row is written in the transaction of the event that says so."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> tuple[str, dict[str, Any]]:
        return carry.row(task.line, context)

    def commit(self, tx: Transaction, live: Live, decision: flow.Write, prepared: tuple[str, dict[str, Any]]) -> list[flow.Event]:
        (sheet, cells), session = prepared, tx.session
        record = session.get(tables.Sheet, sheet)
        if record is None:
            raise OutsideError(f"The sheet “{sheet}” is no longer here.")
        key = carry.effect_key(self.services.effect_house(live.run_id), live.run_id, decision.address, decision.generation)
        last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet)) or 0
        session.add(tables.SheetRow(sheet=sheet, position=last + 1, cells=cells, run_id=live.run_id, key=key))
        session.flush()
        tx.say("sheet", key=sheet)
        output = {"row": last + 1, "sheet": record.name}
        return [flow.Done(at=tx.now, address=decision.address, output=output, detail={"cells": cells})]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        sheet, cells = carry.row(line, context)
        return {"row": 0, "sheet": sheet}, {"would": "write", "sheet": sheet, "cells": cells}, Usage()


@dataclass(frozen=True)
class _Worked:
    """Values worked out, and what the line remembered `before` and `after`."""

    output: dict[str, Any]
    before: dict[str, Any]
    after: dict[str, Any]


class Setting(Handler):
    """A line that works values out, from values and from what it remembers of earlier runs."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Worked:
        with self.services.store.read() as session:
            run = session.get_one(tables.Run, task.run_id)
            before = _memory(session.get(tables.StepMemory, (run.workflow_id, task.line.id)))
        output, after = carry.work(task.line, context.values, dict(before), context.seed)
        return _Worked(output, before, after)

    def commit(self, tx: Transaction, live: Live, decision: flow.Set, prepared: _Worked) -> list[flow.Event]:
        kept = tx.session.get(tables.StepMemory, (live.workflow_id, decision.step))
        if _memory(kept) != prepared.before:
            raise Outdated("another run was quicker, and the line remembers more by now")
        if prepared.after != prepared.before:
            tx.session.merge(tables.StepMemory(workflow_id=live.workflow_id, step=decision.step, data=prepared.after))
            tx.session.flush()
        return [flow.Done(at=tx.now, address=decision.address, output=prepared.output)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        # Nothing is remembered from a rehearsal, and each gives the same.
        return carry.work(line, context.values, {}, "rehearsal")[0], {}, Usage()


def _memory(kept: tables.StepMemory | None) -> dict[str, Any]:
    return dict(kept.data) if kept else {}


class Calling(Handler):
    """A line that begins a run of another workflow."""

    outside = True

    def __init__(self, runs: Runs) -> None:
        self.runs = runs

    def prepare(self, task: Task, context: Context) -> tuple[dict[str, Any], bool]:
        settings: Any = carry.filled(kinds()[task.line.kind], task.line, context.values)
        return plain_object(dict(settings.item)), bool(settings.wait)

    def commit(self, tx: Transaction, live: Live, decision: flow.Call, prepared: tuple[dict[str, Any], bool]) -> list[flow.Event]:
        item, waits = prepared
        wanted = str(live.line(decision.step).settings.get("workflow", ""))
        record = tx.session.get(tables.WorkflowRecord, int(wanted)) if wanted.isdigit() else None
        if record is None or record.revision_id is None:
            raise OutsideError("The workflow to run is not there, or has never been live.")
        if live.depth >= DEEPEST:
            raise OutsideError(f"Workflows run one another more than {DEEPEST} deep here; that never ends. Change the page.")
        title = str(item.get("title") or live.workflow.name)
        parent = (live.run_id, decision.address)
        run_id = self.runs.begin(tx, record.id, item, title, parent=parent, depth=live.depth + 1)
        events: list[flow.Event] = [flow.Called(at=tx.now, address=decision.address, run=run_id)]
        if not waits:
            events.append(flow.Done(at=tx.now, address=decision.address, output={"text": "", "values": {}, "run": run_id}))
        return events

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        settings: Any = carry.filled(kinds()[line.kind], line, context.values)
        return {"text": "", "values": {}, "run": 0}, {"would": "call", "item": dict(settings.item)}, Usage()


@dataclass(frozen=True)
class _Question:
    """What a person is shown: the text, of which draft, and the must-rules it breaks, in words."""

    text: str
    draft: str
    broken: tuple[str, ...] = ()
    scope: str = ""


class Asking(Handler):
    """A line that puts a draft, or a question, before a person."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Question:
        kind, line = kinds()[task.line.kind], task.line
        if not kind.shows_a_draft:
            filled: Any = carry.filled(kind, line, context.values)
            return _Question(filled.question.strip(), QUESTION)
        draft = str(line.settings.get("draft", ""))
        text = str((context.values.get(draft) or {}).get("text", ""))
        return _Question(text, draft, carry.broken_rules(task.about, context.values, text))

    def commit(self, tx: Transaction, live: Live, decision: flow.Ask, prepared: _Question) -> list[flow.Event]:
        line = live.line(decision.step)
        approval = open_question(self.services, tx, live.run_id, line, decision, prepared.text, prepared.draft, prepared.broken)
        return [flow.Asked(at=tx.now, address=decision.address, approval=approval, text=prepared.text)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """A question played as yes; with a note set for proofs, first sent back with it and then passed."""
        if not kinds()[line.kind].shows_a_draft:
            settings: Any = carry.filled(kinds()[line.kind], line, context.values)
            answered = settings.played.strip() or "The answer stands here in a run."
            return {"text": answered, "by": PLAYED_BY}, {"would": "ask", "question": settings.question}, Usage()
        draft, note = str(line.settings.get("draft")), str(line.settings.get("played") or "").strip()
        text = str((context.values.get(draft) or {}).get("text", ""))
        passed = {"text": text, "by": PLAYED_BY, "note": note, "rounds": 1, "edited": False}
        writer = workflow.line(draft)
        if not note or writer is None:
            return passed, {"would": "ask"}, Usage()
        again = carry.perform(writer, replace(context, rewrite=flow.Rewrite(text, (note,))))
        detail = {**again.detail, "would": "ask", "values": {draft: again.output}}
        return {**passed, "text": str(again.output.get("text", "")), "rounds": 2}, detail, again.usage


class Permitting(Handler):
    """An act an assignment wants to do: covered by what a person allowed, or put before one."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Question:
        line, kind = task.line, kinds()[task.line.kind]
        if kind.manner == "send":
            outgoing = carry.piece(line, context)
            text = str(outgoing.content.get("text") or "") or told(outgoing.content)
            return _Question(text, "", scope=scope_of(line, outgoing.connection, outgoing.content))
        if kind.manner == "write":
            sheet, cells = carry.row(line, context)
            return _Question(told(cells), "", scope=scope_of(line, sheet, cells))
        settings: Any = carry.filled(kind, line, context.values)
        item = dict(settings.item)
        return _Question(told(item), "", scope=scope_of(line, str(line.settings.get("workflow", "")), item))

    def commit(self, tx: Transaction, live: Live, decision: flow.Permit, prepared: _Question) -> list[flow.Event]:
        if prepared.scope in decision.allowed:
            return [flow.Permitted(at=tx.now, address=decision.address, scope=prepared.scope)]
        around = live.line(flow.Address.parse(decision.address).within[-1][0])
        asked = flow.Ask(decision.address, decision.step, 1, False)
        approval = open_question(self.services, tx, live.run_id, around, asked, prepared.text, "")
        return [flow.Asked(at=tx.now, address=decision.address, approval=approval, text=prepared.text, scope=prepared.scope)]


def scope_of(line: Line, place: str, content: Mapping[str, Any]) -> str:
    """What a yes to an act covers from then on: the same line, the same place, the same kind of content. `place` is where it
    acts; a folder or an address in the content belongs to it. The kind of content is which parts it has, and of what type, also
    within its parts."""
    where = "/".join(str(content.get(name, "")).rpartition("/")[0] for name in ("path", "url"))
    return f"{line.id} {line.kind} {place} {where} {_kind_of(content)}"


def _kind_of(value: Any) -> str:
    """Which parts a value has, and of what type."""
    if isinstance(value, Mapping):
        return ",".join(sorted(f"{name}={_kind_of(one)}" for name, one in value.items() if one not in ("", None, [], {})))
    if isinstance(value, list):
        return f"[{'|'.join(sorted({_kind_of(one) for one in value}))}]"
    return type(value).__name__


class Listening(Handler):
    """A wait for a call: one that came before is taken at once."""

    def commit(self, tx: Transaction, live: Live, decision: flow.Listen, prepared: None) -> list[flow.Event]:
        if live.line(decision.step).settings.get("how") != "call":
            return []
        arrivals = select(tables.Arrival).where(tables.Arrival.run_id == live.run_id, tables.Arrival.taken.is_(False))
        found = tx.session.scalar(arrivals.order_by(tables.Arrival.id).limit(1))
        if found is None:
            return []
        found.taken = True
        return [flow.Heard(at=tx.now, address=decision.address, item=found.item)]


class Working(Handler):
    """A decision that is worked out from the line and the values alone, the same live and in proofs."""

    def commit(self, tx: Transaction, live: Live, decision: Any, prepared: None) -> list[flow.Event]:
        line = live.line(decision.step)
        return [self.event(line, live.state.scope(decision.address), decision.address, tx.now)]

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float) -> flow.Event:
        """What it comes to. Raises `OutsideError`."""
        raise NotImplementedError


class Opening(Working):
    """A block is opened."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float) -> flow.Opened:
        if kinds()[line.kind].manner != "each":
            return flow.Opened(at=at, address=address, lanes=lanes(line, values))
        found = all_items(value_in(str(line.settings.get("list", "")), values))
        return flow.Opened(at=at, address=address, items=items(line, values), found=len(found))


class Checking(Working):
    """A repeat's condition after a round."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float) -> flow.Checked:
        return flow.Checked(at=at, address=address, holds=fits(str(line.settings.get("until", "")), values))


class Resting(Working):
    """A wait: until when, or for what."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float) -> flow.Resting:
        due, listening = rest(line, values, at)
        return flow.Resting(at=at, address=address, due=due, listening=listening)

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        rest(line, context.values, 0.0)
        return {"came": "yes", "item": {}}, {"would": "wait"}, Usage()


class Stopping(Working):
    """The page ends an item or a run by its own word."""

    def event(self, line: Line, values: Mapping[str, Any], address: str, at: float) -> flow.Stopped:
        words = render(parse(str(line.settings.get("words", ""))), values).text.strip()
        well, whole = line.settings.get("how", "well") == "well", line.settings.get("what", "item") == "run"
        return flow.Stopped(at=at, address=address, well=well, whole=whole, message=words or ("" if well else "Stopped."))

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        words = render(parse(str(line.settings.get("words", ""))), context.values).text
        ended = "" if line.settings.get("how", "well") == "failed" else words or "Stopped here."
        return {"words": words}, {"would": "stop", "ended": ended}, Usage()


#: Which decision a line comes to when it is its turn, by how its kind is carried out.
FIRST: dict[str, type] = {
    "perform": flow.Perform,
    "assign": flow.Perform,
    "ask": flow.Ask,
    "send": flow.Send,
    "write": flow.Write,
    "set": flow.Set,
    "rest": flow.Rest,
    "call": flow.Call,
    "stop": flow.Stop,
}


class Handlers:
    """The table of handlers."""

    def __init__(self, services: Services, outbox: Outbox, runs: Runs) -> None:
        self.table: dict[type, Handler] = {
            flow.Perform: Performing(),
            flow.Send: Sending(outbox),
            flow.Follow: Following(services),
            flow.Write: Writing(services),
            flow.Set: Setting(services),
            flow.Call: Calling(runs),
            flow.Ask: Asking(services),
            flow.Permit: Permitting(services),
            flow.Listen: Listening(),
            flow.Open: Opening(),
            flow.Check: Checking(),
            flow.Rest: Resting(),
            flow.Stop: Stopping(),
        }

    def goes_outside(self, decision: flow.Decision) -> bool:
        """See `ports.Commits`."""
        handler = self.table.get(type(decision))
        return handler is not None and handler.outside

    def commit(self, tx: Transaction, live: Live, decision: flow.Decision, prepared: Any) -> list[flow.Event]:
        """See `ports.Commits`."""
        handler = self.table.get(type(decision))
        return handler.commit(tx, live, decision, prepared) if handler is not None else []

    def prepare(self, task: Task, context: Context) -> Any:
        """See `dispatcher.Prepares`."""
        return self.table[type(task.decision)].prepare(task, context)

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """What a line of the page gives in rehearsal: output, detail and what it used. Raises `OutsideError`."""
        first = FIRST.get(kinds()[line.kind].manner)
        if first is None:
            raise OutsideError("This line is carried out as a block.")
        return self.table[first].play(line, context, workflow)


# -- worked out from settings and values, live and in proofs -------------------------------------------


def items(line: Line, values: Mapping[str, Any]) -> list[Any]:
    """What a *for each* goes through; nothing for other blocks."""
    if kinds()[line.kind].manner != "each":
        return []
    most = line.settings.get("most")
    return items_of(value_in(str(line.settings.get("list", "")), values), int(most) if most else None)


def lanes(line: Line, values: Mapping[str, Any]) -> list[int]:
    """The numbers of a fork's lanes that fit, from 1, muted ones left out; those without a condition are for the rest."""
    if kinds()[line.kind].manner != "fork":
        return []
    fitting = [n for n, lane in enumerate(line.lanes, start=1) if lane.when.strip() and fits(lane.when, values)]
    chosen = fitting or [n for n, lane in enumerate(line.lanes, start=1) if not lane.when.strip()]
    if line.settings.get("which", "first") == "first":
        chosen = chosen[:1]
    return [n for n in chosen if not line.lanes[n - 1].muted]


def rest(line: Line, values: Mapping[str, Any], now: float) -> tuple[float | None, bool]:
    """Until when a wait waits, and whether it listens for a call. Raises `OutsideError`."""
    kind = kinds()[line.kind]
    settings, _ = read_settings(kind.settings, line.settings)
    if settings is None:
        raise OutsideError("This wait is not set up.")
    s: Any = settings
    if s.how == "for":
        return now + s.seconds, False
    if s.how in ("call", "mail"):
        return now + s.longest, True
    text = render(parse(s.moment), values).text.strip()
    here = dt.datetime.fromtimestamp(now)
    try:
        moment = dates.parse(text, default=here.replace(hour=0, minute=0, second=0, microsecond=0))
    except (ValueError, OverflowError, TypeError):
        raise OutsideError(f"“{text}” is not a time to wait for.") from None
    due = moment.timestamp()
    # A time of day that has passed means tomorrow's; a whole date that has passed means now.
    if due <= now and len(text) <= 5:
        due += 86_400
    return max(due, now), False


def told(values: Mapping[str, Any]) -> str:
    """Values as lines of a text."""
    return "\n".join(f"{name}: {value}" for name, value in values.items() if value not in ("", None))
