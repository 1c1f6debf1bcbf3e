"""The piece as approved: what a person's change makes of the draft and of what was worked out from it, and all that goes out then."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ...core import flow
from ...core.slots import fits
from ...core.values import NotPlain, plain_object
from ...core.values import text as valid
from ...core.workflow import Lane, Line, Workflow
from ...core.workflow.kinds import SendSpec
from ...core.workflow.plans import AskPlan, ForkPlan
from ...protocols.errors import OutsideError
from ...steps import kinds
from ...steps.api import Computes, Context, Drafts
from ...store import tables
from .. import execution
from ..dependencies import roots_read
from ..journal import Live
from ..ports import Events
from ..services import Services
from ..workspace import workspace
from .words import ACT, AnswerRefused, Verdict


@dataclass(frozen=True)
class Change:
    """What a person changed: the text, or parts of the draft by name; and of the pieces, by their lines, what is no draft's: tags,
    pictures, button, and when it `goes` (see `core.pieces.changes`). ``None`` and nothing where they changed neither."""

    text: str | None = None
    parts: Mapping[str, Any] = field(default_factory=dict)
    pieces: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    def over(self, before: Mapping[str, Any] | None) -> Change:
        """This change on top of what others changed before it (as `kept` gave it)."""
        if not before:
            return self
        told = before.get("pieces", {})
        pieces = {line: {**told.get(line, {}), **self.pieces.get(line, {})} for line in {**told, **self.pieces}}
        text = before.get("text") if self.text is None else self.text
        return Change(text, {**before.get("parts", {}), **self.parts}, pieces)

    def kept(self) -> dict[str, Any] | None:
        """The change as it is kept; nothing where there is none."""
        if self.text is None and not self.parts and not self.pieces:
            return None
        told = {line: dict(one) for line, one in self.pieces.items()}
        return {"text": self.text, "parts": dict(self.parts)} | ({"pieces": told} if told else {})


@dataclass(frozen=True)
class Final:
    """What comes of an answer: the text, whether it was changed, the outputs that follow from it by the names of their lines,
    and the must-rules it breaks."""

    text: str
    edited: bool = False
    values: dict[str, dict[str, Any]] = field(default_factory=dict)
    broken: list[str] = field(default_factory=list)


def final(services: Services, events: Events, approval: tables.Approval, verdict: Verdict, change: Change) -> Final:
    """What comes of an answer to a draft, or to an act of an assignment. Raises `AnswerRefused`."""
    text = valid((approval.text if change.text is None else change.text).strip())
    if approval.draft == ACT and text != approval.text.strip():
        raise AnswerRefused("What an assignment wants to do cannot be changed here. Send it back with a note.")
    if approval.draft == ACT or verdict != "approve":
        return Final(text, text != approval.text.strip())
    live = events.live(approval.run_id)
    scope, drafts = live.state.scope(approval.address), [_line(live, approval), *others(live, approval)]
    values = as_approved(live, approval, Change(None if change.text is None else text, change.parts))
    after = values[approval.draft]
    if not str(after.get("text", "")).strip():
        raise AnswerRefused("The text is empty. Write something, or decline.")
    after_all = {**scope, **values}
    # What a channel cannot take is said here, and not when nobody is there any more.
    outgoing = compose(services, live, approval, after_all, change.pieces)
    for composed in outgoing:
        if composed.wrong:
            raise AnswerRefused(composed.wrong)
    if change.pieces.keys() - {composed.line.id for composed in outgoing}:
        raise AnswerRefused("A piece that was changed does not go out any more. Look again.")
    broken: list[str] = []
    for line in drafts:
        text_of = str((after_all.get(line.id) or {}).get("text", ""))
        broken += execution.broken_rules(line, after_all, text_of, execution.outside_roots(live.workflow))
    edited = any(line.id in values and values[line.id] != scope.get(line.id) for line in drafts)
    given = values if edited or len(values) > 1 else {}
    if told := {line: dict(one) for line, one in change.pieces.items() if one}:
        given = {**given, flow.Address.parse(approval.address).step: {execution.PIECES: told}}
    return Final(str(after["text"]), edited or bool(told), given, list(dict.fromkeys(broken)))


def _line(live: Live, approval: tables.Approval) -> Line:
    line = live.workflow.line(approval.draft)
    if line is None or not isinstance(live.state.scope(approval.address).get(approval.draft), dict):
        raise AnswerRefused("The draft is not there any more.")
    return line


def others(live: Live, approval: tables.Approval) -> list[Line]:
    """The other drafts that go out with the one that is asked about: made before the question, used by a line behind it, and asked
    about by no question of their own."""
    ask = flow.Address.parse(approval.address).step
    scope = live.state.scope(approval.address)
    asked_alone = {
        plan.draft
        for line, _, muted in live.workflow.walk()
        if not muted and line.kind in kinds() and isinstance(plan := execution.plan_of(line), AskPlan)
    }
    drafts: list[Line] = []
    wanted: set[str] = set()
    behind = False
    for line, _, muted in live.workflow.walk():
        if line.id == ask:
            behind = True
        elif behind and not muted:
            wanted |= roots_read(live.workflow, line)
        elif not muted and isinstance(kinds().get(line.kind), Drafts) and isinstance(scope.get(line.id), dict):
            drafts.append(line)
    # What is worked out from a draft before the question stands for it.
    for line in reversed(list(_before(live.workflow, ask))):
        if line.id in wanted and isinstance(kinds().get(line.kind), Computes):
            wanted |= roots_read(live.workflow, line)
    return [line for line in drafts if line.id in wanted and line.id not in asked_alone]


def as_approved(live: Live, approval: tables.Approval, change: Change) -> dict[str, dict[str, Any]]:
    """The outputs of the draft and of those that go out with it, and of what was worked out from them, by the names of their lines,
    with a person's change in them. A part of another draft is named ``line/part``, its text ``line/text``. Raises `AnswerRefused`."""
    line, scope = _line(live, approval), live.state.scope(approval.address)
    before = scope[approval.draft]
    text = change.text.strip() if change.text is not None else None
    own = {name: value for name, value in change.parts.items() if "/" not in name}
    after = revise(line, before, Change(None if text == str(before.get("text", "")).strip() else text, own))
    values = {approval.draft: after}
    for other in others(live, approval) if len(own) < len(change.parts) else ():
        parts = {name.partition("/")[2]: value for name, value in change.parts.items() if name.partition("/")[0] == other.id}
        if parts:
            said = parts.pop("text", None)
            changed = revise(other, scope[other.id], Change(str(said).strip() if said is not None else None, parts))
            if changed != scope[other.id]:
                values[other.id] = changed
    if after != before or len(values) > 1 or approval.round > 1:
        values |= worked_out_again(live, approval, {**scope, **values}, set(values))
    return values


def revise(line: Line, output: Mapping[str, Any], change: Change) -> dict[str, Any]:
    """A draft's outputs with a person's change in every part of them. Raises `AnswerRefused`."""
    if change.text is None and not change.parts:
        return dict(output)
    kind = kinds()[line.kind]
    if not isinstance(kind, Drafts):
        return {**output, "text": change.text if change.text is not None else output.get("text", "")}
    try:
        settings = execution.read(line)
        return plain_object(execution.guarded(lambda: kind.revised(settings, output, change.text, change.parts)))
    except (OutsideError, NotPlain) as error:
        raise AnswerRefused(str(error)) from None


def worked_out_again(live: Live, approval: tables.Approval, values: dict[str, Any], drafts: set[str]) -> dict[str, dict[str, Any]]:
    """The values that were worked out from drafts before they were approved, worked out anew."""
    changed: dict[str, dict[str, Any]] = {}
    touched = set(drafts)
    ask = flow.Address.parse(approval.address).step
    for line in _before(live.workflow, ask):
        kind = kinds().get(line.kind)
        if not isinstance(kind, Computes) or line.muted or not (live.page.reads[line.id] & touched):
            continue
        output, remembers = execution.work(line, values, {}, f"{live.run_id}/{line.id}")
        if remembers:
            continue  # it goes by what it remembers of other runs, and has had its turn
        touched.add(line.id)
        if values.get(line.id) != output:
            values[line.id] = changed[line.id] = output
    return changed


@dataclass(frozen=True)
class Composed:
    """A piece that an approval lets out: the line that sends it, its connection and content, or in words why it cannot be made."""

    line: Line
    connection: str = ""
    content: dict[str, Any] = field(default_factory=dict)
    wrong: str = ""


def compose(
    services: Services,
    live: Live,
    approval: tables.Approval,
    values: Mapping[str, Any],
    changes: Mapping[str, Mapping[str, Any]] | None = None,
) -> list[Composed]:
    """The pieces that this approval lets out, as far as they can be known now, with these values as approved, and what was changed of
    the pieces themselves."""
    values = dict(values)
    ask = live.workflow.line(flow.Address.parse(approval.address).step)
    if ask is not None:
        # What the answer itself gives is not known before it is given; what it will say of the text is.
        given = values.get(approval.draft) or {}
        values[ask.id] = {"text": given.get("text", ""), "by": "", "note": "", "rounds": approval.round, "edited": False}
    context = Context(
        web=services.web,
        connect=services.connect,
        values=values,
        outside=live.page.outside,
        workspace=workspace(services, live.workflow.brand),
    )
    out: list[Composed] = []
    for line in _after(live.workflow, flow.Address.parse(approval.address).step, values):
        kind = kinds().get(line.kind)
        if kind is None or line.muted or not roots_read(live.workflow, line) - {line.id} <= values.keys():
            continue
        if isinstance(kind, Computes):
            try:
                output, remembers = execution.work(line, values, {}, "check")
            except OutsideError:
                continue  # it may fail in the run; no channel has refused anything by that
            if not remembers:
                values[line.id] = output
        elif isinstance(kind, SendSpec):
            try:
                outgoing = execution.changed(line, execution.piece(line, context, refusing=False), (changes or {}).get(line.id, {}))
                wrong = execution.refusals_of(line, outgoing, context)
                out.append(Composed(line, outgoing.connection, outgoing.content, " ".join(wrong)))
            except (OutsideError, NotPlain) as error:
                out.append(Composed(line, wrong=str(error)))
    return out


def _before(workflow: Workflow, ask: str) -> Iterator[Line]:
    """The lines before a question."""
    for line, _, _ in workflow.walk():
        if line.id == ask:
            return
        yield line


def _after(workflow: Workflow, ask: str, values: Mapping[str, Any]) -> Iterator[Line]:
    """The lines that follow a question, in lanes too where their condition holds; not those inside blocks that go round."""
    here: tuple[Line | Lane, ...] = ()
    passed = False
    for line, within, muted in workflow.walk():
        if line.id == ask:
            here, passed = within, True
            continue
        if not passed or muted:
            continue
        further = [one for one in within if one not in here]
        rounds = any(not isinstance(execution.plan_of(one), ForkPlan) for one in further if isinstance(one, Line))
        lanes = [one for one in further if isinstance(one, Lane) and one.when.strip()]
        if not rounds and all(fits(lane.when, values) for lane in lanes):
            yield line
