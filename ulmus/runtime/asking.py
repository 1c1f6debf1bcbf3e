"""Questions to people: opened by a run, answered at the desk or by a signed link."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING, Literal

from sqlalchemy.orm import Session

from ..core import flow
from ..core.workflow import Line
from ..store import tables
from . import links
from .services import Services, audit

if TYPE_CHECKING:
    from .engine import Engine

Verdict = Literal["approve", "back", "decline"]
LONGEST_NOTE = 4000
QUESTION = "?"


class AnswerRefused(ValueError):
    """The answer cannot be taken; the message says why and what to do."""


def open_question(services: Services, session: Session, run_id: int, line: Line, decision: flow.Ask, text: str, draft: str) -> int:
    """Store a question, and the mail that tells the person of it, in the caller's transaction. `draft` names the draft that
    is shown; it is `QUESTION` for one to be answered in words, and empty for an act of an assignment."""
    settings, now = line.settings, services.clock()
    approval = tables.Approval(
        run_id=run_id,
        address=decision.address,
        round=decision.round,
        last=decision.last or draft == QUESTION,
        draft=draft,
        who=str(settings.get("who", "")),
        text=text,
        created_at=now,
    )
    session.add(approval)
    session.flush()
    if settings.get("mail"):
        run = session.get_one(tables.Run, run_id)
        link = f"{services.public_url}/answer/{links.sign(services.sealer.key, approval.id)}"
        session.add(
            tables.Piece(
                key=f"approval-{approval.id}",
                approval_id=approval.id,
                connection=str(settings["mail"]),
                kind="approval_mail",
                content={"to": approval.who, **_letter(run.title, text, link, decision, draft == QUESTION)},
                state="queued",
                queued_at=now,
                due_at=now,
            )
        )
    services.bus.say("approval", id=approval.id)
    return approval.id


def answer(engine: Engine, approval_id: int, verdict: Verdict, by: str, text: str | None = None, note: str = "") -> None:
    """Take an answer. Raises `AnswerRefused`; a question that is already answered stays as it is."""
    note = note.strip()
    if verdict == "back" and not note:
        raise AnswerRefused("Write a note first: what should be different?")
    if len(note) > LONGEST_NOTE:
        raise AnswerRefused(f"The note is too long; at most {LONGEST_NOTE} characters.")
    with engine.services.store.read() as session:
        approval = session.get(tables.Approval, approval_id)
    if approval is None:
        raise AnswerRefused("There is no such draft any more.")
    if approval.state != "open":
        raise AnswerRefused(_already(approval))
    if verdict == "back" and approval.last:
        if approval.draft == QUESTION:
            raise AnswerRefused("Write your answer, and send it.")
        raise AnswerRefused("This was the last round. Approve it, change the text yourself, or decline.")
    asked = approval.text if approval.draft != QUESTION else ""
    final = (asked if text is None else text).strip()
    if verdict == "approve" and approval.draft == QUESTION and final in ("", approval.text.strip()):
        raise AnswerRefused("Write your answer first.")
    if not approval.draft and final != approval.text.strip():
        raise AnswerRefused("What an assignment wants to do cannot be changed here. Send it back with a note.")
    if verdict == "approve" and not final:
        raise AnswerRefused("The text is empty. Write something, or decline.")
    now = engine.services.clock()
    event = flow.Answered(
        at=now, address=approval.address, verdict=verdict, text=final, note=note, by=by, edited=final != approval.text.strip()
    )

    def also(session: Session) -> None:
        record = session.get_one(tables.Approval, approval_id)
        if record.state != "open":
            raise AnswerRefused(_already(record))
        record.state, record.final_text, record.note = verdict, final, note
        record.decided_by, record.decided_at = by, now
        audit(session, now, by, f"answered: {verdict}", f"approval {approval_id}")

    try:
        engine.record(approval.run_id, event, also)
    except flow.FlowError:
        raise AnswerRefused("The run this draft belongs to is no longer waiting for an answer.") from None
    engine.services.bus.say("approval", id=approval_id)


def _already(approval: tables.Approval) -> str:
    words = {"approve": "approved", "back": "sent back", "decline": "declined"}
    if approval.state == "void":
        return "The run this draft belongs to has ended."
    return f"This draft was already {words.get(approval.state, 'answered')} by {approval.decided_by}."


def _letter(title: str, text: str, link: str, decision: flow.Ask, question: bool) -> dict[str, str]:
    round_words = f"Round {decision.round}{' (the last)' if decision.last else ''}. " if decision.round > 1 else ""
    lead = "You are asked a question." if question else "A draft waits for your word."
    plain = (
        f"{lead}\n{round_words}From: {title}\n\n----\n{text}\n----\n\n"
        f"Read and answer here (opening the link decides nothing):\n{link}\n\nThe link works for {links.DAYS} days."
    )
    page = (
        f"<p>{lead} {round_words}From: {html.escape(title)}</p>"
        f'<blockquote style="border-left:3px solid #3d6b35;padding:8px 14px;white-space:pre-wrap;font-family:Georgia,serif">'
        f'{html.escape(text)}</blockquote><p><a href="{html.escape(link)}">Read and answer</a> '
        f"(opening the link decides nothing). The link works for {links.DAYS} days.</p>"
    )
    return {"subject": f"{'A question' if question else 'To approve'}: {title}"[:150], "text": plain, "html": page}
