"""Read models made from a run's journal: cells of its page, iterations of its blocks, versions of its drafts."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Container, Sequence
from typing import Any

from pydantic import BaseModel
from sqlalchemy import select

from ..core import flow
from ..core.cost import Usage
from ..core.values import read_json
from ..core.workflow import Line, Workflow
from ..core.workflow.briefs import brief, row_in_brief, shortened
from ..core.workflow.plans import AskPlan, AssignmentPlan, DraftPlan, EachPlan, ForkPlan, RepeatPlan, WaitPlan
from ..runtime.execution import plan_of
from ..runtime.runs import title_of
from ..steps import kinds
from ..store import packed, tables
from ..store.db import Store
from .models import CellState, CellView, FindingView, IterationView, UsageView, VersionView
from .views import fill_cell, marked, versions

JOURNAL = 200
"""Entries on a page of a journal."""


class EntryView(BaseModel):
    """A journal entry in words, with its number."""

    number: int = 0
    at: float
    event: str
    address: str
    says: str


class JournalPage(BaseModel):
    """Entries of a journal, oldest first; `earlier` is the number before which there are more, where there are."""

    entries: list[EntryView]
    earlier: int | None = None


def journal_page(events: list[flow.Event], before: int | None, limit: int) -> JournalPage:
    """The last so many entries before a number; of all where there is none."""
    end = len(events) if before is None else max(0, min(before, len(events)))
    begin = max(0, end - limit)
    entries = [entry(event, number) for number, event in enumerate(events[begin:end], begin)]
    return JournalPage(entries=entries, earlier=begin or None)


class Journals:
    """The events of runs as they are read: each once, and from then on only what came after it."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._lock = threading.Lock()
        self._kept: OrderedDict[int, tuple[int, list[flow.Event]]] = OrderedDict()

    def of(self, run_id: int) -> list[flow.Event]:
        """A run's events so far, oldest first; the list is not to be changed."""
        with self._lock:
            last, before = self._kept.get(run_id, (-1, []))
        entry = tables.JournalEntry
        with self._store.read() as session:
            wanted = select(entry.seq, entry.event).where(entry.run_id == run_id, entry.seq > last).order_by(entry.seq)
            rows: Sequence[Any] = session.execute(wanted).all()
            run = session.get(tables.Run, run_id) if last < 0 and rows else None
            if run is not None and run.packed is not None:
                written = [(seq, json.dumps(event, ensure_ascii=False)) for seq, event in rows]
                rows = [(seq, read_json(event)) for seq, event in packed.whole(session.connection(), run_id, written)]
        events = [*before, *(flow.load_event(event) for _, event in rows)] if rows else before
        with self._lock:
            self._kept[run_id] = (rows[-1][0] if rows else last, events)
            self._kept.move_to_end(run_id)
            while len(self._kept) > 1 and sum(len(kept) for _, kept in self._kept.values()) > MOST_EVENTS:
                self._kept.popitem(last=False)
        return events


MOST_EVENTS = 20_000
"""Events that are kept read, of all runs together."""


def step_of(address: str) -> str:
    """The step an address is of; nothing for an event of the whole run."""
    return flow.Address.parse(address).step if address not in ("", "-") else ""


def frame_of(address: str) -> str:
    """The iterations an address stands in, as a prefix; rounds of asking are no iterations."""
    found = flow.Address.parse(address) if address not in ("", "-") else flow.Address("")
    return "/".join(f"{s}:{n}" for s, n in found.within)


def around(address: str, other: str) -> bool:
    """Whether what happened at `other` belongs to `address` or can be seen from it: in the same iterations, around them,
    or a rewrite within its own rounds of asking."""
    here, frame = frame_of(address), frame_of(other)
    if frame == here or not frame or here.startswith(frame + "/"):
        return True
    before, _, last = frame.rpartition("/")
    return before == here and (last.split(":")[0] == step_of(address) or step_of(other) == step_of(address))


def draft_versions(events: list[flow.Event], draft: str, address: str = "") -> list[VersionView]:
    """Every version of a draft in a run: rounds sent back by rules, and rewrites after notes, each set against the one
    before. `address` is that of the question it is for; only what was made in the same iterations counts."""
    out: list[VersionView] = []
    note = ""
    for event in events:
        place = getattr(event, "address", "")
        if place and address and not around(address, place):
            continue
        if isinstance(event, flow.Answered) and event.verdict == "back":
            note = f"Sent back by {event.by}: {event.note}"
        if isinstance(event, flow.Done) and step_of(event.address) == draft:
            for version in versions(event.detail):
                if out and not version.changes:
                    version.changes = marked(out[-1].text, version.text)
                version.why, note = version.why or note, ""
                out.append(version)
    return out


def places(workflow: Workflow, events: list[flow.Event], state: flow.State) -> dict[str, dict[str, CellView]]:
    """For each step, how it stands at each place it was carried out, in the order of the events."""
    found: dict[str, dict[str, CellView]] = {}
    began: dict[str, float] = {}
    used: dict[str, Usage] = {}
    lines = {line.id: line for line in workflow.lines}
    asks = planned_as(workflow, AskPlan)
    for event in events:
        if isinstance(event, flow.TakenUp):
            # What follows the step it was taken up from is carried out again.
            continue
        address = getattr(event, "address", "")
        step = step_of(address)
        line = lines.get(step)
        if line is None:
            continue
        place = _place(address, step, asks)
        cells = found.setdefault(step, {})
        cell = cells.setdefault(place, CellView(step=step, sample=0, state="running"))
        began.setdefault(place, event.at)
        usage = used[place] = used.get(place, Usage()) + getattr(event, "usage", Usage())
        _told(cell, line, event, usage)
    for address, seq in state.at.items():
        step = step_of(address)
        cells = found.setdefault(step, {})
        cell = cells.setdefault(_place(address, step, asks), CellView(step=step, sample=0, state="running"))
        cell.state = _STATES[seq.phase.word]
        if isinstance(seq.phase, flow.phases.Stuck):
            cell.message = seq.phase.message
        elif isinstance(seq.phase, flow.phases.Resting | flow.phases.Listening):
            cell.waits, cell.until = "later", seq.phase.due
    _blocks(workflow, state, found)
    return found


_STATES: dict[flow.phases.Word, CellState] = {
    "stuck": "stuck",
    "unsure": "unsure",
    "asking": "asking",
    "running": "running",
    "waiting": "waiting",
    "resting": "waiting",
}


def planned_as(workflow: Workflow, plan: type) -> set[str]:
    """The lines that are carried out in a way."""
    return {line.id for line in workflow.every_step if line.kind in kinds() and isinstance(plan_of(line), plan)}


def _place(address: str, step: str, asks: set[str]) -> str:
    """An address without rounds of asking: a step asked about three times stands at one place."""
    found = flow.Address.parse(address)
    within = [(s, n) for s, n in found.within if s not in asks]
    return str(flow.Address(step, 1, tuple(within)))


def _told(cell: CellView, line: Line, event: flow.Event, usage: Usage) -> None:
    if isinstance(event, flow.Done):
        fill_cell(cell, line, True, event.output, {**event.detail, "would": ""}, usage.model_dump(), event.at)
        cell.state, cell.message = "fresh", ""
        if event.detail.get("cells"):
            cell.brief = row_in_brief(event.detail["cells"])
    elif isinstance(event, flow.Sent):
        fill_cell(cell, line, True, event.receipt, {}, usage.model_dump(), event.at)
        cell.state, cell.message = "fresh", ""
    elif isinstance(event, flow.Answered):
        fill_cell(
            cell, line, True, {"text": event.text, "by": event.by} | event.values.get(line.id, {}), {}, usage.model_dump(), event.at
        )
        cell.state, cell.message = "fresh", ""
        cell.findings = [FindingView(rule="", strength="must", kept=False, says=f"let out although: {w}") for w in event.despite]
        if event.verdict != "approve":
            cell.state = "declined" if event.verdict == "decline" else "asking"
            cell.message = event.note
    elif isinstance(event, flow.Heard):
        cell.state, cell.brief, cell.at = "fresh", "It arrived.", event.at
    elif isinstance(event, flow.TimerFired) and isinstance(plan_of(line), WaitPlan):
        cell.state, cell.brief, cell.at = "fresh", "The wait is over.", event.at
    elif isinstance(event, flow.Stopped):
        cell.state, cell.brief, cell.at = "fresh" if event.well else "failed", event.message, event.at
        cell.message = "" if event.well else event.message
    elif isinstance(event, flow.Failed):
        fill_cell(cell, line, False, {"message": event.message}, event.detail, usage.model_dump(), event.at)
        cell.state = "failed"
    elif isinstance(event, flow.Judged) and event.choice == "value":
        fill_cell(cell, line, True, event.value, {}, usage.model_dump(), event.at)
        cell.state, cell.message = "fresh", ""
    elif isinstance(event, flow.Unsure):
        cell.state, cell.message = "unsure", event.message


def _blocks(workflow: Workflow, state: flow.State, found: dict[str, dict[str, CellView]]) -> None:
    """Blocks that are behind the run have no event of their own, and what a run left undone when it ended has none that says so;
    both are worked out from where the run stands now."""
    lines = {line.id: line for line in workflow.every_step}
    outputs = _outputs(state)
    for step, here in found.items():
        line = lines.get(step)
        for address, cell in here.items() if line is not None else ():
            if line is None or cell.state not in ("running", "waiting", "asking") or address in state.at:
                continue
            output = outputs.get(address)
            if isinstance(plan_of(line), EachPlan | ForkPlan | RepeatPlan) and (output is not None or not state.ended):
                if output is not None or _is_behind(address, state):
                    cell.state, cell.brief = "fresh", brief(kinds()[line.kind], output) if output is not None else ""
            elif state.ended:
                # A piece or job under way, a question, a wait: the run ended without it.
                cell.state, cell.message = (
                    ("fresh", "") if output is not None else ("passed", "The run ended before this was over.")
                )


def _outputs(state: flow.State) -> dict[str, dict[str, Any]]:
    """What steps gave, by their addresses, as far as it is kept: on the page, and in the items and lanes of its blocks."""
    found: dict[str, dict[str, Any]] = {}

    def walk(prefix: str, values: dict[str, Any], blocks: dict[str, flow.Block]) -> None:
        found.update({prefix + name: value for name, value in values.items() if isinstance(value, dict)})
        for name, block in blocks.items():
            for number, gave in block.results.items():
                walk(f"{prefix}{name}:{number}/", gave, {})
            for number, seq in (*block.running.items(), *block.kept.items()):
                walk(f"{prefix}{name}:{number}/", seq.values, _of(seq))

    walk("", state.root.values, _of(state.root))
    return found


def _of(seq: flow.Sequence) -> dict[str, flow.Block]:
    """A sequence's blocks by name: those behind it, and the one it stands at."""
    open_ = {seq.current.id: seq.block} if seq.current is not None and seq.block is not None else {}
    return {**seq.closed, **open_}


def _is_behind(address: str, state: flow.State) -> bool:
    """Whether nothing inside a place is under way any more."""
    return not any(one.startswith(f"{address}:") for one in state.at)


def cells(workflow: Workflow, events: list[flow.Event], state: flow.State) -> list[CellView]:
    """The page's column: one cell for each step; in blocks it counts the iterations."""
    found = places(workflow, events, state)
    beside = _lanes_not_taken(workflow, state)
    out = []
    for line, _, off in workflow.walk():
        here = found.get(line.id, {})
        if not here:
            over = state.ended or line.id in beside
            out.append(CellView(step=line.id, sample=0, state="muted" if off else "passed" if over else "ahead"))
        elif len(here) == 1 and "/" not in next(iter(here)):
            cell = next(iter(here.values()))
            value = state.values.get(line.id)
            if cell.state == "fresh" and isinstance(plan_of(line), DraftPlan) and isinstance(value, dict):
                # An approval may have changed the text since.
                cell.brief = str(value.get("text", cell.brief))[:400]
            out.append(cell)
        else:
            out.append(gathered(line, list(here.values())))
    return out


def _lanes_not_taken(workflow: Workflow, state: flow.State) -> set[str]:
    """The steps of lanes that a fork on the page itself has passed by."""
    missed: set[str] = set()
    for line in workflow.every_step:
        gave = state.values.get(line.id) if line.lanes else None
        if isinstance(gave, dict):
            missed |= {lane.id for lane in line.lanes} - set(gave.get("lanes", []))
    return {line.id for line, within, _ in workflow.walk() if any(around.id in missed for around in within)}


AT_A_GLANCE, MOST_AT_A_GLANCE = 70, 12
"""Characters of each carrying-out, and how many of them, that a cell of many tells."""
_URGENT: tuple[CellState, ...] = ("stuck", "unsure", "running", "asking", "waiting")


def gathered(line: Line, inside: list[CellView]) -> CellView:
    """Many carryings-out of a step as one cell with counts, and the beginning of each on a line."""
    view = CellView(step=line.id, sample=inside[0].sample, state="fresh", count=len(inside))
    view.counts = {}
    usage = Usage()
    for cell in inside:
        view.counts[cell.state] = view.counts.get(cell.state, 0) + 1
        usage += Usage(**cell.usage.model_dump())
        view.at = max(view.at or 0, cell.at or 0) or None
    view.state = next((s for s in _URGENT if view.counts.get(s)), "failed" if view.counts.get("failed") == len(inside) else "fresh")
    view.usage = UsageView(**usage.model_dump())
    told = [cell.brief or cell.message for cell in inside if cell.brief or cell.message]
    view.brief = "\n".join(shortened(one, AT_A_GLANCE) for one in told[:MOST_AT_A_GLANCE])
    view.message = next((cell.message for cell in inside if cell.state in ("failed", "stuck", "unsure")), "")
    return view


def iterations(workflow: Workflow, events: list[flow.Event], state: flow.State, step: str) -> list[IterationView]:
    """Every carrying-out of a step inside blocks, in the order of the page."""
    items: dict[str, list[Any]] = {e.address: e.items for e in events if isinstance(e, flow.Opened) and e.items}
    here = places(workflow, events, state).get(step, {})
    kept = set(_failed_places(state.root))
    out = []
    for address, cell in here.items():
        out.append(
            IterationView(
                address=address, label=label_of(address, items, _assignments(workflow)), cell=cell, can_take_up=address in kept
            )
        )
    return sorted(out, key=lambda i: [n for _, n in flow.Address.parse(i.address).within])


def _assignments(workflow: Workflow) -> set[str]:
    return planned_as(workflow, AssignmentPlan)


def label_of(address: str, items: dict[str, list[Any]], tools: Container[str] = ()) -> str:
    """Of which items, lanes, rounds or uses (`tools` are the assignments) an address is, in words."""
    words, prefix = [], ""
    for name, number in flow.Address.parse(address).within:
        of = items.get(prefix + name)
        if of and number <= len(of):
            item = of[number - 1]
            words.append(f"{number}. {title_of(item) if isinstance(item, dict) else str(item)[:120]}")
        else:
            words.append(f"{name}, use {number}" if name in tools else f"{name} {number}")
        prefix += f"{name}:{number}/"
    return " · ".join(words)


def rehearsed(workflow: Workflow, line: Line, detail: dict[str, Any], sample: int) -> list[IterationView]:
    """Every carrying-out of a step in the proof of the block it stands in."""
    items = {a: list(found) for a, found in (detail.get("items") or {}).items()}
    out = []
    for address, record in (detail.get("places") or {}).items():
        if step_of(address) == line.id:
            cell = CellView(step=line.id, sample=sample, state="fresh" if record["ok"] else "failed")
            fill_cell(cell, line, record["ok"], record["output"], record["detail"], record["usage"], 0)
            cell.at = None
            out.append(IterationView(address=address, label=label_of(address, items, _assignments(workflow)), cell=cell))
    return sorted(out, key=lambda i: [n for _, n in flow.Address.parse(i.address).within])


def _failed_places(seq: flow.Sequence) -> list[str]:
    out = []
    for block in [*seq.closed.values(), *([seq.block] if seq.block else [])]:
        for child in block.kept.values():
            if child.current is not None and isinstance(child.phase, flow.phases.Broken):
                out.append(child.prefix + child.current.id)
            out += _failed_places(child)
    return out


_SAYS = {
    "begun": "The run began.",
    "done": "Done.",
    "timer_fired": "The wait was over.",
    "asked": "A person was asked.",
    "leased": "Offered to the workers elsewhere.",
    "queued": "Put into the outbox.",
    "sent": "Sent, with a receipt.",
    "taken_up": "Taken up again",
    "heard": "What was waited for arrived.",
    "permitted": "Covered by what was allowed before.",
    "accepted": "The job was taken; it is looked at until it is over.",
    "followed": "Not over yet.",
    "spent": "What a call had cost that was ended on the way.",
    "called": "A run of another workflow began.",
    "released": "Let go on",
}


def entry(event: flow.Event, number: int = 0) -> EntryView:
    """A journal entry in words."""
    return EntryView(number=number, at=event.at, event=event.event, address=getattr(event, "address", ""), says=_says(event))


def _says(event: flow.Event) -> str:
    match event:
        case flow.Failed() | flow.Unsure() | flow.Held():
            return event.message
        case flow.Agreed():
            changed = ", with changes" if event.edited else ""
            return f"{event.by} said yes{changed}. Still asked: {', '.join(event.waits_for)}."
        case flow.Answered():
            words = {"approve": "Approved", "back": "Sent back", "decline": "Declined"}[event.verdict]
            changed = ", with changes" if event.edited and event.verdict == "approve" else ""
            despite = f" Let out although it breaks: {'; '.join(event.despite)}." if event.despite else ""
            return f"{words} by {event.by}{changed}.{f' “{event.note}”' if event.note else ''}{despite}"
        case flow.Opened():
            if event.lanes and event.items:
                return f"Goes out to {', '.join(str(event.items[n - 1]) for n in event.lanes)}."
            if event.lanes:
                return f"Lane{'s' if len(event.lanes) > 1 else ''} {', '.join(map(str, event.lanes))} taken."
            return f"{len(event.items)} items." if event.items else "Begun."
        case flow.Checked():
            return "The condition holds." if event.holds else "Not yet."
        case flow.Resting():
            return "Waits for a call." if event.listening else "Waits."
        case flow.Stopped():
            return event.message or "Stopped by the page."
        case flow.Judged():
            words = {"again": "tried again", "value": "gone on with a value", "skip": "passed over", "stop": "stopped"}[
                event.choice
            ]
            return f"{words.capitalize()}, as {event.by or 'a person'} said."
        case flow.TakenUp() | flow.Released():
            return _SAYS[event.event] + (f" by {event.by}." if event.by else ".")
        case flow.Ended():
            return {
                "done": "The run ended well.",
                "failed": "The run stopped.",
                "declined": "Ended: declined.",
                "cancelled": event.message,
                "skipped": f"Passed over. {event.message}".strip(),
            }[event.outcome]
    return _SAYS.get(event.event, "")
