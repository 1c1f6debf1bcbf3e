"""Handlers of what is put before a person: a draft, a question, an act of an assignment."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from ...core import flow, pieces
from ...core.cost import Usage
from ...core.slots import parse, render
from ...core.workflow import Line, Workflow
from ...core.workflow.kinds import SendSpec
from ...core.workflow.plans import AskPlan, AssignmentPlan, CallPlan, SendPlan, WritePlan
from ...steps import kinds
from ...steps.api import Context
from .. import execution
from ..asking import ACT, QUESTION, forms, open_question, people
from ..dispatcher import Task
from ..journal import Live
from ..services import Services
from ..transaction import Transaction
from .base import PLAYED_BY, Gave, Handler


@dataclass(frozen=True)
class _Question:
    """What a person is shown: the text, of which draft, and the must-rules it breaks, in words; the addresses of those asked, and of
    those asked later; and what an answer is made of."""

    text: str
    draft: str
    broken: tuple[str, ...] = ()
    scope: str = ""
    who: tuple[str, ...] = ()
    other: str = ""
    asks: Mapping[str, Any] = field(default_factory=dict)


class Asking(Handler):
    """A line that puts a draft, or a question, before a person."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Question:
        plan = _asks(task.line)
        with self.services.store.read() as session:
            who = tuple(people.resolved(session, plan.who, context.values))
            other = ", ".join(people.resolved(session, plan.other, context.values)) if plan.then == "other" and plan.within else ""
        if not plan.draft:
            text = _question(task.line, plan, context.values).strip()
            return _Question(text, QUESTION, who=who, other=other, asks=forms.asked(plan, context.values))
        text = _text_of(plan.draft, context.values)
        broken = execution.broken_rules(task.about, context.values, text, context.outside)
        return _Question(text, plan.draft, broken, who=who, other=other)

    def commit(self, tx: Transaction, live: Live, decision: flow.Ask, prepared: _Question) -> list[flow.Event]:
        plan = _asks(live.line(decision.step))
        approval = open_question(
            self.services,
            tx,
            live.run_id,
            plan,
            decision,
            prepared.text,
            prepared.draft,
            prepared.broken,
            prepared.who,
            prepared.asks,
            prepared.other,
        )
        return [flow.Asked(at=tx.now, address=decision.address, approval=approval, text=prepared.text)]

    def play(self, line: Line, context: Context, workflow: Workflow) -> Gave:
        """A question played as yes; with a note set for proofs, first sent back with it and then passed."""
        plan = _asks(line)
        note = plan.played.strip()
        if not plan.draft:
            return _played(line, plan, context.values), {"would": "ask", "question": _question(line, plan, context.values)}, Usage()
        text = _text_of(plan.draft, context.values)
        passed = {"text": text, "by": PLAYED_BY, "note": note, "rounds": 1, "edited": False}
        writer = workflow.line(plan.draft)
        if not note or writer is None:
            return passed, {"would": "ask"}, Usage()
        again = execution.perform(writer, replace(context, rewrite=flow.Rewrite(text, (note,))))
        detail = {**again.detail, "would": "ask", "values": {plan.draft: again.output}}
        return {**passed, "text": str(again.output.get("text", "")), "rounds": 2}, detail, again.usage


def _asks(line: Line) -> AskPlan:
    execution.read(line)
    plan = execution.plan_of(line)
    assert isinstance(plan, AskPlan)
    return plan


def _played(line: Line, plan: AskPlan, values: Mapping[str, Any]) -> dict[str, Any]:
    """What a person would answer in a proof."""
    note = plan.played.strip()
    asks = forms.asked(plan, values)
    match asks.get("form"):
        case "choose":
            names = [one["name"] for one in asks["options"]]
            number = names.index(note) + 1 if note in names else 1
            answer = forms.read(asks, {"number": number}, "")[1]
        case "fill":
            answer = forms.examples(asks)
        case "yes_no":
            answer = forms.read(asks, {"yes": note != "no"}, "")[1]
        case _:
            answer = {"text": note or "The answer stands here in a run."}
    return {**answer, "by": PLAYED_BY}


def _question(line: Line, plan: AskPlan, values: Mapping[str, Any]) -> str:
    return render(parse(plan.question), values).text


def _text_of(draft: str, values: Mapping[str, Any]) -> str:
    return str((values.get(draft) or {}).get("text", ""))


class Permitting(Handler):
    """An act an assignment wants to do: covered by what a person allowed, or put before one."""

    outside = True

    def __init__(self, services: Services) -> None:
        self.services = services

    def prepare(self, task: Task, context: Context) -> _Question:
        line = task.line
        match execution.plan_of(line):
            case SendPlan():
                outgoing = execution.piece(line, context)
                kind = kinds()[line.kind]
                assert isinstance(kind, SendSpec)
                text = pieces.in_words(pieces.read(kind.form, outgoing.content))
                return _Question(text, "", scope=scope_of(line, outgoing.connection, outgoing.content))
            case WritePlan():
                change = execution.change(line, context)
                cells = [dict(row) for row in change.rows] or [{column: one.text for column, one in change.cells.items()}]
                text = "\n\n".join(in_lines(row) for row in cells)
                return _Question(text, "", scope=scope_of(line, change.sheet, cells[0]))
            case CallPlan():
                called = execution.call(line, context.values)
                return _Question(in_lines(called.item), "", scope=scope_of(line, called.workflow, called.item))
            case other:
                raise AssertionError(other)

    def commit(self, tx: Transaction, live: Live, decision: flow.Permit, prepared: _Question) -> list[flow.Event]:
        if prepared.scope in decision.allowed:
            return [flow.Permitted(at=tx.now, address=decision.address, scope=prepared.scope)]
        plan = execution.plan_of(live.line(flow.Address.parse(decision.address).within[-1][0]))
        assert isinstance(plan, AssignmentPlan)
        asked = flow.Ask(decision.address, decision.step, 1, False)
        approval = open_question(self.services, tx, live.run_id, plan.ask, asked, prepared.text, ACT)
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


def in_lines(values: Mapping[str, Any]) -> str:
    """Values as lines of a text."""
    return "\n".join(f"{name}: {value}" for name, value in values.items() if value not in ("", None))
