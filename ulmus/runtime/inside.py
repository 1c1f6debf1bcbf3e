"""Decisions that only change the database: answered within the transaction of the event they follow from."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from dateutil import parser as dates
from sqlalchemy import func, select

from ..core import flow
from ..core.slots import fits, items_of, parse, render, value_in
from ..core.workflow import Line
from ..core.workflow.file import read_settings
from ..protocols.errors import OutsideError
from ..steps import kinds
from ..steps.base import Context
from ..store import tables
from . import carry
from .asking import QUESTION, open_question
from .beginning import DEEPEST
from .journal import Live, Writing
from .shelf import shelf

if TYPE_CHECKING:
    from .engine import Engine


class Inside:
    """Follows a run's decisions as far as they need nothing from outside."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def follow(self, writing: Writing, live: Live) -> None:
        """Answer what can be answered here; what cannot is put aside in `live.outside` for after the commit."""
        state = live.state
        while True:
            if state.outcome is not None and not state.ended:
                self._apply(writing, live, flow.Ended(at=self._now, outcome=state.outcome, message=state.message))
            elif state.over is not None and not state.held:
                self._apply(writing, live, flow.Held(at=self._now, reason=state.over.reason, message=state.over.message))
            news = state.take_news()
            if not news:
                break
            for decision in news:
                if state.outcome is not None or state.over is not None or state.held:
                    break
                if isinstance(decision, flow.Finish | flow.Hold) or state.open.get(decision.address) is not decision:
                    continue
                events = self._answer(writing, live, decision)
                if not events:
                    live.outside.append(decision)
                for event in events:
                    self._apply(writing, live, event)
        if state.held or state.ended:
            live.outside = []
        if state.ended:
            writing.project(live)
            self.engine.beginning.ended(writing, live)

    @property
    def _now(self) -> float:
        return self.engine.services.clock()

    def _apply(self, writing: Writing, live: Live, event: flow.Event) -> None:
        flow.apply(live.state, event)
        writing.append(live, event)

    def _answer(self, writing: Writing, live: Live, decision: flow.Decision) -> list[flow.Event]:
        match decision:
            case flow.Perform() if decision.step in live.page.paid:
                words = self.engine.beginning.over_budget(writing.session, live)
                return [flow.Held(at=self._now, reason="budget", message=words)] if words else []
            case flow.Perform() | flow.Wait() | flow.Judge() | flow.Finish() | flow.Hold():
                return []
        try:
            return self._carried_out(writing, live, decision)
        except OutsideError as error:
            return [flow.Failed(at=self._now, address=decision.address, message=error.message)]

    def _carried_out(self, writing: Writing, live: Live, decision: Any) -> list[flow.Event]:
        at, address, line = self._now, decision.address, live.line(decision.step)
        values = live.state.scope(address)
        match decision:
            case flow.Ask():
                return [self._ask(writing, live, decision, line, values)]
            case flow.Send():
                return [self._queue(writing, live, decision, line, values)]
            case flow.Write():
                return [self._row(writing, live, decision, line, values)]
            case flow.Open():
                return [flow.Opened(at=at, address=address, items=items(line, values), lanes=lanes(line, values))]
            case flow.Check():
                return [flow.Checked(at=at, address=address, holds=fits(str(line.settings.get("until", "")), values))]
            case flow.Set():
                return [self._set(writing, live, decision, line, values)]
            case flow.Rest():
                due, listening = rest(line, values, at)
                return [flow.Resting(at=at, address=address, due=due, listening=listening)]
            case flow.Listen():
                return self._heard(writing, live, decision)
            case flow.Stop():
                return [stopped(line, values, at, address)]
            case flow.Call():
                return self._call(writing, live, decision, line, values)
        raise AssertionError(decision)

    def _ask(self, writing: Writing, live: Live, decision: flow.Ask, line: Line, values: Mapping[str, Any]) -> flow.Event:
        draft = str(line.settings.get("draft", ""))
        if kinds()[line.kind].shows_a_draft:
            text = str((values.get(str(line.settings.get("draft"))) or {}).get("text", ""))
        elif kinds()[line.kind].manner == "ask":
            filled: Any = carry.filled(kinds()[line.kind], line, values)
            text, draft = filled.question.strip(), QUESTION
        else:
            # A tool of an assignment: whoever the assignment names is asked whether it may act.
            text = self._act(live, line, values)
            line = live.line(flow.Address.parse(decision.address).within[-1][0])
        approval = open_question(self.engine.services, writing.session, live.run_id, line, decision, text, draft)
        writing.then.append(self.engine.outbox.hurry)
        return flow.Asked(at=self._now, address=decision.address, approval=approval, text=text)

    def _act(self, live: Live, line: Line, values: Mapping[str, Any]) -> str:
        """What a line would do, as a text."""
        manner, context = kinds()[line.kind].manner, self._context(live, values)
        if manner == "send":
            content = carry.piece(line, context).content
            return str(content.get("text") or "") or told(content)
        if manner == "write":
            return told(carry.row(line, context)[1])
        settings: Any = carry.filled(kinds()[line.kind], line, values)
        return told(dict(settings.item))

    def _queue(self, writing: Writing, live: Live, decision: flow.Send, line: Line, values: Mapping[str, Any]) -> flow.Event:
        outgoing = carry.piece(line, self._context(live, values))
        key = carry.effect_key(live.run_id, decision.address, decision.generation)
        piece = self.engine.outbox.queue(writing.session, live.run_id, decision.address, line.kind, outgoing, key, self._now)
        writing.then.append(self.engine.outbox.hurry)
        return flow.Queued(at=self._now, address=decision.address, piece=piece, key=key)

    def _row(self, writing: Writing, live: Live, decision: flow.Write, line: Line, values: Mapping[str, Any]) -> flow.Event:
        sheet, cells = carry.row(line, self._context(live, values))
        session = writing.session
        record = session.get(tables.Sheet, sheet)
        if record is None:
            raise OutsideError(f"The sheet “{sheet}” is no longer here.")
        key = carry.effect_key(live.run_id, decision.address, decision.generation)
        last = session.scalar(select(func.max(tables.SheetRow.position)).where(tables.SheetRow.sheet == sheet)) or 0
        session.add(tables.SheetRow(sheet=sheet, position=last + 1, cells=cells, run_id=live.run_id, key=key))
        session.flush()
        self.engine.services.bus.say("sheet", key=sheet)
        output = {"row": last + 1, "sheet": record.name}
        return flow.Done(at=self._now, address=decision.address, output=output, detail={"cells": cells})

    def _set(self, writing: Writing, live: Live, decision: flow.Set, line: Line, values: Mapping[str, Any]) -> flow.Event:
        kind, session = kinds()[line.kind], writing.session
        assert kind.work is not None
        kept = session.get(tables.StepMemory, (live.workflow_id, line.id))
        memory = dict(kept.data) if kept else {}
        output, after = carry.work(line, values, memory, f"{live.run_id}/{decision.address}")
        if after != memory:
            session.merge(tables.StepMemory(workflow_id=live.workflow_id, step=line.id, data=after))
            session.flush()
        return flow.Done(at=self._now, address=decision.address, output=output)

    def _heard(self, writing: Writing, live: Live, decision: flow.Listen) -> list[flow.Event]:
        if live.line(decision.step).settings.get("how") != "call":
            return []
        found = writing.session.scalar(
            select(tables.Arrival)
            .where(tables.Arrival.run_id == live.run_id, tables.Arrival.taken.is_(False))
            .order_by(tables.Arrival.id)
            .limit(1)
        )
        if found is None:
            return []
        found.taken = True
        return [flow.Heard(at=self._now, address=decision.address, item=found.item)]

    def _call(self, writing: Writing, live: Live, decision: flow.Call, line: Line, values: Mapping[str, Any]) -> list[flow.Event]:
        wanted = str(line.settings.get("workflow", ""))
        record = writing.session.get(tables.WorkflowRecord, int(wanted)) if wanted.isdigit() else None
        if record is None or record.revision_id is None:
            raise OutsideError("The workflow to run is not there, or has never been live.")
        if live.depth >= DEEPEST:
            raise OutsideError(f"Workflows run one another more than {DEEPEST} deep here; that never ends. Change the page.")
        settings: Any = carry.filled(kinds()[line.kind], line, values)
        item = dict(settings.item)
        title = str(item.get("title") or live.workflow.name)
        run_id = self.engine.beginning.begin(
            writing.session, record.id, item, title, parent=(live.run_id, decision.address), depth=live.depth + 1
        )
        writing.then.append(lambda: self.engine.settle([run_id]))
        events: list[flow.Event] = [flow.Called(at=self._now, address=decision.address, run=run_id)]
        if not settings.wait:
            events.append(flow.Done(at=self._now, address=decision.address, output={"text": "", "values": {}, "run": run_id}))
        return events

    def _context(self, live: Live, values: Mapping[str, Any]) -> Context:
        services = self.engine.services
        return Context(
            web=services.web,
            connect=services.connect,
            values=values,
            outside=live.page.outside,
            shelf=shelf(services, live.workflow.brand),
        )

    # -- calls for a run that waits -------------------------------------------------------------------

    def arrive(self, run_id: int, item: dict[str, Any]) -> None:
        """A call came for a run: the wait that is open takes it, or the next one will."""
        engine = self.engine
        with engine.services.store.write() as session:
            arrival = tables.Arrival(run_id=run_id, at=engine.services.clock(), item=item)
            session.add(arrival)
            session.flush()
            number = arrival.id
        live = engine.live(run_id)
        decisions = [d for d in flow.decide(live.state) if isinstance(d, flow.Listen)]
        listening = [d for d in decisions if live.line(d.step).settings.get("how") == "call"]
        if not listening:
            return

        def taken(session: Any) -> None:
            session.get_one(tables.Arrival, number).taken = True

        event = flow.Heard(at=engine.services.clock(), address=listening[0].address, item=item)
        engine.record(run_id, event, taken, strict=False)


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


def stopped(line: Line, values: Mapping[str, Any], at: float, address: str) -> flow.Stopped:
    """The event that ends an item or a run by the page's own word."""
    words = render(parse(str(line.settings.get("words", ""))), values).text.strip()
    well, whole = line.settings.get("how", "well") == "well", line.settings.get("what", "item") == "run"
    return flow.Stopped(at=at, address=address, well=well, whole=whole, message=words or ("" if well else "Stopped."))


def told(values: Mapping[str, Any]) -> str:
    """Values as lines of a text."""
    return "\n".join(f"{name}: {value}" for name, value in values.items() if value not in ("", None))
