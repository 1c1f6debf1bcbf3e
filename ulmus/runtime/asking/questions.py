"""Questions to people: opened by a run, answered at the desk, by a signed link, by mail or in a room.

What a person approves is the piece as it will go out. A change they make is in every part of the draft and in what was
worked out from it; what a channel cannot take is refused while they are there; and a must-rule that is broken lets nothing
out but by a second, named act. Where several must say yes, each yes is written down; one who changes the draft after another's
yes has the other asked again.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core import flow
from ...core.values import NotPlain
from ...core.values import text as valid
from ...core.workflow.plans import AskPlan
from ...protocols.errors import OutsideError
from ...store import tables
from .. import telling
from ..ports import Events
from ..services import Services, audit
from ..telling import ASKED_BY_MAIL, ASKED_IN_ROOM
from ..transaction import Transaction
from . import forms, people
from .approved import Change, Final, final
from .words import LONGEST_NOTE, MOST_REMINDERS, QUESTION, AnswerRefused, Verdict


def open_question(
    services: Services,
    tx: Transaction,
    run_id: int,
    plan: AskPlan,
    decision: flow.Ask,
    text: str,
    draft: str,
    broken: Sequence[str] = (),
    who: Sequence[str] = (),
    asks: Mapping[str, Any] | None = None,
    other: str = "",
) -> int:
    """Store a question to `who` (mail addresses), and what tells them of it, in `tx`. `draft` names the draft that is shown; it is
    `QUESTION` for one to be answered otherwise, as `asks` says, and `ACT` for an act of an assignment. `broken` are the must-rules
    it breaks; `other` are the addresses of those who are asked where nobody answers in time."""
    session = tx.session
    approval = tables.Approval(
        run_id=run_id,
        address=decision.address,
        round=decision.round,
        last=decision.last or draft == QUESTION,
        draft=draft,
        who="",
        text=text,
        broken=list(broken),
        created_at=tx.now,
        needs=plan.needs,
        ways={
            "mail": plan.mail,
            "outside": _only_server(session) if plan.outside and not plan.mail and not plan.room else "",
            "mailbox": plan.replies,
            "remind": plan.remind,
            "room": plan.room,
        },
        asks=dict(asks or {}),
    )
    if plan.within:
        approval.deadline = {"then": plan.then, "other": other, "within": plan.within, "ahead": plan.ahead}
        if not plan.ahead:
            approval.deadline_at = approval.due_at = tx.now + plan.within
    session.add(approval)
    session.flush()
    ask_now(session, approval, people.asked(session, who or [plan.who], tx.now), tx.now)
    if plan.room:
        telling.put(session, ASKED_IN_ROOM, f"approval-{approval.id}-room", plan.room, {}, tx.now, approval=approval.id)
    tx.publish("approval", id=approval.id)
    return approval.id


def _only_server(session: Session) -> str:
    """The key of the house's mail server, where there is one only: of several nobody can say which is meant."""
    keys = session.scalars(select(tables.Connection.key).where(tables.Connection.kind == "mail").limit(2)).all()
    return keys[0] if len(keys) == 1 else ""


def _has_account(session: Session, who: str) -> bool:
    return (
        session.scalar(
            select(tables.User.id).where(func.lower(tables.User.email) == who.casefold(), tables.User.ended_at.is_(None)).limit(1)
        )
        is not None
    )


def tell(session: Session, approval: tables.Approval, now: float) -> None:
    """Have everybody told whose word is waited for now, and who was not told yet."""
    ways, asked = dict(approval.ways), [dict(one) for one in approval.people]
    waits = {who.casefold() for who in people.waited_for(approval)}
    for one in asked:
        if one["who"].casefold() not in waits or one.get("told_at"):
            continue
        one["told_at"] = now
        server = ways.get("mail", "") or ("" if _has_account(session, one["who"]) else ways.get("outside", ""))
        wants = session.get(tables.Person, one["who"].casefold())
        first = people.told_at(wants, now)
        # What a mail says is written when it is sent: all that goes out can be composed then, and one that comes too late is left out.
        for n in range(1 + (MOST_REMINDERS if ways.get("remind") else 0) if server else 0):
            told = ways["told"] = int(ways.get("told", 0)) + 1
            key = f"approval-{approval.id}" + (f"-{told}" if told > 1 else "")
            content = {"to": one["who"]} | ({"mailbox": ways["mailbox"]} if ways.get("mailbox") else {})
            if n:
                content["reminder"] = n
            due = people.told_at(wants, first + n * ways["remind"]) if n else first
            telling.put(session, ASKED_BY_MAIL, key, server, content, now, due, approval.id)
    approval.people, approval.ways = asked, ways


def answer(
    services: Services,
    events: Events,
    approval_id: int,
    verdict: Verdict,
    by: str,
    text: str | None = None,
    note: str = "",
    parts: Mapping[str, Any] | None = None,
    despite: bool = False,
    given: Mapping[str, Any] | None = None,
    person: str | None = None,
    pieces: Mapping[str, Mapping[str, Any]] | None = None,
) -> None:
    """Take an answer. `text`, `parts` or `pieces` are what the person changed, `given` what they chose or filled in; `despite`
    lets a piece out that breaks a must-rule. `person` is the address of the one who answers, where it is one of those asked; ``None`` decides for
    all of them.

    Raises `AnswerRefused`; a question that is already answered stays as it is.
    """
    note = valid(note.strip())
    if verdict == "back" and not note:
        raise AnswerRefused("Write a note first: what should be different?")
    if len(note) > LONGEST_NOTE:
        raise AnswerRefused(f"The note is too long; at most {LONGEST_NOTE} characters.")
    with services.store.read() as session:
        approval = session.get(tables.Approval, approval_id)
    if approval is None:
        raise AnswerRefused("There is no such draft any more.")
    if approval.state != "open":
        raise AnswerRefused(_already(approval))
    if verdict == "back" and approval.last:
        if approval.draft == QUESTION:
            raise AnswerRefused("Write your answer, and send it.")
        raise AnswerRefused("This was the last round. Approve it, change the text yourself, or decline.")
    change = Change(text, parts or {}, pieces or {}).over(approval.edit)
    try:
        outcome = _outcome(services, events, approval, verdict, change, given, note)
    except (OutsideError, NotPlain) as error:
        raise AnswerRefused(str(error)) from None
    if verdict == "approve" and outcome.broken and not despite:
        words = f"It breaks a rule: {'; '.join(outcome.broken)}. Change it, or let it out all the same."
        raise AnswerRefused(words, outcome.broken)
    now = services.clock()
    let_out = outcome.broken if verdict == "approve" else []

    def also(session: Session, event: flow.Event) -> None:
        record = session.get_one(tables.Approval, approval_id)
        if record.state != "open" or [one.get("said") for one in record.people] != [one.get("said") for one in approval.people]:
            raise AnswerRefused(_already(record) if record.state != "open" else "Somebody answered at the same moment. Look again.")
        asked = [dict(one) for one in record.people]
        mine = next((one for one in asked if person and one["who"].casefold() == person.casefold()), None)
        if mine is not None:
            mine |= {"said": verdict, "said_at": now, "by": by}
        for one in asked if again else ():
            if one is not mine and one.get("said") == "approve":
                # Their yes was to another text: they are told again.
                for name in ("said", "said_at", "told_at"):
                    one.pop(name, None)
        record.people, record.edit = asked, change.kept()
        if isinstance(event, flow.Answered):
            record.state, record.final_text, record.note, record.taken = verdict, outcome.text, note, None
            record.decided_by, record.decided_at, record.despite = event.by[:200], now, list(let_out)
        else:
            # Whoever is asked next reads it as it was changed, and what the queue tells of it is worked out anew.
            record.text = outcome.text
            record.brief = None if outcome.edited else record.brief
            tell(session, record, now)
        audit(session, now, by, f"answered: {verdict}", f"approval {approval_id}")
        if let_out:
            audit(session, now, by, "let out despite a broken rule", f"approval {approval_id}: {'; '.join(let_out)}")

    again = approval.needs == "all" and verdict == "approve" and person is not None and change != Change().over(approval.edit)
    missing = _still_missing(approval, verdict, person, again)
    event: flow.Event
    if missing:
        event = flow.Agreed(at=now, address=approval.address, by=by, edited=outcome.edited, waits_for=missing)
    else:
        earlier = [str(one.get("by") or one["who"]) for one in approval.people if one.get("said") == "approve"]
        event = flow.Answered(
            at=now,
            address=approval.address,
            verdict=verdict,
            text=outcome.text,
            note=note,
            by=", ".join([*earlier, by] if verdict == "approve" else [by]),
            edited=outcome.edited,
            values=outcome.values,
            despite=let_out,
        )
    try:
        events.record(approval.run_id, event, lambda session: also(session, event))
    except flow.FlowError:
        raise AnswerRefused("The run this draft belongs to is no longer waiting for an answer.") from None
    except NotPlain as error:
        raise AnswerRefused(f"This answer cannot be kept: {error}.") from None
    services.bus.publish("approval", id=approval_id)


def _still_missing(approval: tables.Approval, verdict: Verdict, person: str | None, again: bool) -> list[str]:
    """Whose yes is still waited for after this one: nobody's, where it decides. With `again` earlier ones count no more: they were
    to another text."""
    if verdict != "approve" or approval.needs == "one" or person is None:
        return []
    waits = [who.casefold() for who in people.waited_for(approval)]
    if person.casefold() not in waits:
        said = people.entry_of(approval, person)
        if said is None:
            raise AnswerRefused(f"{_who_decides(approval)} An owner can decide in their place.")
        already = said.get("said") == "approve"
        raise AnswerRefused("You said yes already. Others are still asked." if already else "It is not your turn yet.")
    others = [one for one in approval.people if one["who"].casefold() != person.casefold()]
    return [one["who"] for one in others if again or one.get("said") != "approve"]


def _who_decides(approval: tables.Approval) -> str:
    names = ", ".join(one["who"] for one in approval.people)
    return f"All of {names} must say yes to this." if approval.needs == "all" else f"{names} are asked one after another."


def _outcome(
    services: Services,
    events: Events,
    approval: tables.Approval,
    verdict: Verdict,
    change: Change,
    given: Mapping[str, Any] | None,
    note: str,
) -> Final:
    if approval.draft != QUESTION:
        return final(services, events, approval, verdict, change)
    if verdict != "approve":
        return Final("")
    if approval.asks:
        text, values = forms.read(approval.asks, given or {}, note)
        return Final(text, False, {flow.Address.parse(approval.address).step: values})
    text = valid((change.text or "").strip())
    if text in ("", approval.text.strip()):
        raise AnswerRefused("Write your answer first.")
    return Final(text, True)


def ask_now(session: Session, approval: tables.Approval, asked: Sequence[Mapping[str, Any]], now: float) -> None:
    """Have these people asked from now on, and told, instead of those who were."""
    approval.people = [dict(one) for one in asked]
    approval.who = ", ".join(one["who"] for one in asked)[:200]
    tell(session, approval, now)


def hand_over(session: Session, approval: tables.Approval, who: str, to: str, now: float) -> bool:
    """Put what waits for one person before another, who stands in for them; gives whether that was to be done. Whoever is asked
    already says one yes for both; whoever said theirs already is not asked twice, and the other stays asked."""
    there = people.entry_of(approval, to)
    if there is not None and there.get("said"):
        return False
    asked = []
    for one in approval.people:
        if one["who"].casefold() != who.casefold() or one.get("said"):
            asked.append(one)
        elif there is None:
            asked.append({"who": to, "instead_of": who})
    ask_now(session, approval, asked, now)
    return True


# -- in words -------------------------------------------------------------------------------------------


def _already(approval: tables.Approval) -> str:
    words = {"approve": "approved", "back": "sent back", "decline": "declined"}
    if approval.state == "void":
        return "The run this draft belongs to has ended."
    return f"This draft was already {words.get(approval.state, 'answered')} by {approval.decided_by}."


def let_out(session: Session, runs: Collection[int]) -> dict[int, tuple[str, list[str]]]:
    """For runs whose drafts were approved: who approved last, and the rules that were broken all the same."""
    approved = (
        select(tables.Approval.run_id, tables.Approval.decided_by, tables.Approval.despite)
        .where(tables.Approval.run_id.in_(runs), tables.Approval.state == "approve")
        .order_by(tables.Approval.id)
    )
    out: dict[int, tuple[str, list[str]]] = {}
    for run, by, despite in session.execute(approved):
        out[run] = (by or "", [*out.get(run, ("", []))[1], *(despite or [])])
    return out
