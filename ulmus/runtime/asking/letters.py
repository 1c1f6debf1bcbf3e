"""The mail that tells a person of a draft: who asks, the draft, all that goes out with it as it will go out, what is broken or
doubtful, and a signed link.

It is written when it is sent and not when the question is put, so that what goes out can be composed as the desk shows it.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import html
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ...core import pieces
from ...core.pieces import Article, Letter, Mailing, Piece, Post
from ...core.recurrence import zone_of
from ...core.workflow.kinds import SendSpec
from ...protocols.errors import OutsideError
from ...steps import kinds
from ...steps.connections import mailbox
from ...store import tables
from .. import links
from ..execution import zone_of_page
from ..ports import Events
from ..services import Services
from ..telling import ASKED_IN_ROOM
from . import people
from .approved import Change, Composed, as_approved, compose
from .briefs import doubtful, fill, opening_of
from .words import ACT, QUESTION, AnswerRefused

_BODY = re.compile(r"<body[^>]*>(.*)</body>", re.DOTALL | re.IGNORECASE)
_BOX = "border:1px solid #c9c2b2;padding:8px 14px;margin:0 0 12px;font-family:Georgia,serif"


def told(services: Services, events: Events, piece: tables.Piece) -> Letter | str | None:
    """What a piece tells of a question: a letter, or what is said in a room; nothing where it is over."""
    if piece.kind == ASKED_IN_ROOM:
        return str(piece.content["text"]) if "text" in piece.content else in_room(services, piece)
    return written(services, events, piece)


def written(services: Services, events: Events, mail: tables.Piece) -> Letter | None:
    """The mail about a question, or about several; or one that answers a reply to it, whose words stand in its content. Nothing
    where it would tell of what needs no word of its reader any more."""
    replies = _replies_to(services, str(mail.content.get("mailbox") or ""), mail.key)
    content, to = mail.content, str(mail.content["to"])
    if "text" in content:
        thread = str(content.get("thread") or "")
        return Letter(to=(to,), subject=str(content["subject"]), text=str(content["text"]), thread=thread, reply_to=replies)
    waiting = [one for one in (_about(services, number) for number in content.get("approvals") or [mail.approval_id]) if one]
    waiting = [one for one in waiting if _waits_for(one.approval, to)]
    if not waiting:
        return None
    if content.get("approvals"):
        return _many(services, to, waiting)
    letter = _letter(services, events, waiting[0], to, bool(content.get("mailbox")))
    subject = f"Still waiting: {letter.subject}"[:150] if content.get("reminder") else letter.subject
    return letter.model_copy(update={"reply_to": replies, "subject": subject})


@dataclass(frozen=True)
class About:
    """A question, and where it comes from."""

    approval: tables.Approval
    title: str
    workflow: str
    brand: str

    @property
    def source(self) -> str:
        """The workflow and whom it is for."""
        return f"“{self.workflow}”{f' for {self.brand}' if self.brand else ''}"


def _about(services: Services, number: int | None) -> About | None:
    with services.store.read() as session:
        approval = session.get(tables.Approval, number) if number else None
        run = session.get(tables.Run, approval.run_id) if approval is not None else None
        if approval is None or run is None:
            return None
        record = session.get_one(tables.WorkflowRecord, run.workflow_id)
        brand = session.get(tables.Brand, record.brand) if record.brand else None
        return About(approval, run.title, record.name, brand.name if brand is not None else "")


def _waits_for(approval: tables.Approval, who: str) -> bool:
    return approval.state == "open" and who.casefold() in {one.casefold() for one in people.waited_for(approval)}


def link_of(services: Services, approval: int, who: str) -> str:
    """The signed address at which a person answers."""
    return f"{services.public_url}/answer/{links.sign(services.sealer.key, approval, who)}"


def _many(services: Services, to: str, waiting: Sequence[About]) -> Letter:
    """One mail that tells of several."""
    told = []
    for one in sorted(waiting, key=lambda one: (one.approval.due_at or float("inf"), one.approval.id)):
        brief = one.approval.brief or {}
        marks = [*(["breaks a rule"] if brief.get("broken") else []), *([f"{n} doubtful"] if (n := brief.get("doubtful")) else [])]
        opening = brief.get("opening") or opening_of(one.approval.text)
        told.append(
            (
                one.title,
                f"{one.source}{f' – {_listed(marks)}' if marks else ''}",
                opening,
                link_of(services, one.approval.id, to),
            )
        )
    count = f"{len(told)} drafts wait" if len(told) > 1 else "A draft waits"
    plain = f"{count} for your word.\n\n" + "\n\n".join(f"{t}\n{s}\n{o}\n{link}" for t, s, o, link in told)
    page = f"<p>{count} for your word.</p>" + "".join(
        f'<div style="{_BOX}"><p style="margin:4px 0"><strong>{html.escape(t)}</strong><br><small>{html.escape(s)}</small></p>'
        f'<p style="margin:4px 0">{html.escape(o)}</p><p style="margin:4px 0"><a href="{html.escape(link)}">Read and answer</a></p></div>'
        for t, s, o, link in told
    )
    closing = f"Each link decides nothing by being opened, and works for {links.DAYS} days."
    return Letter(to=(to,), subject=f"{count} for your word", text=f"{plain}\n\n{closing}", html=f"{page}<p>{closing}</p>")


def _replies_to(services: Services, box: str, key: str) -> str:
    """The address answers go to: that of the mailbox they are looked for in, where it says one; with a sign that only who got the
    mail knows, where the mailbox takes such (RFC 5233)."""
    if not box:
        return ""
    try:
        return mailbox.answers_to(services.connect(box, mailbox.KIND.name), links.sign_of(services.store.identity, key))
    except OutsideError:
        return ""


def _where(services: Services, composed: Composed) -> str:
    with services.store.read() as session:
        channel = session.get(tables.Connection, composed.connection)
    return channel.name if channel is not None else ""


_BY_MAIL = {
    "": "Or answer this mail: “yes” alone lets it out as it is, what should be different has it written again, “decline” leaves it.",
    "words": "Or answer this mail with your answer.",
    "choose": "Or answer this mail with the number of the one it shall be.",
    "fill": "Or answer this mail with a line for each, such as “{first}: …”.",
    "yes_no": "Or answer this mail with yes or no; a reason may follow.",
}


def _letter(services: Services, events: Events, about: About, to: str, answerable: bool) -> Letter:
    approval = about.approval
    outgoing: list[tuple[str, Composed]] = []
    doubts: list[str] = []
    live = events.live(approval.run_id)
    if approval.draft not in (ACT, QUESTION):
        values, change = live.state.scope(approval.address), Change().over(approval.edit)
        # Where what others changed cannot be put in any more, it is shown as it was drafted.
        with contextlib.suppress(AnswerRefused):
            values = {**values, **as_approved(live, approval, change)}
        outgoing = [(_where(services, one), one) for one in compose(services, live, approval, values, change.pieces)]
        doubts = doubtful(live.workflow, values, approval.text)
    if approval.brief is None:
        fill(services, events, approval)
    question, broken = approval.draft == QUESTION, approval.broken or []
    form = (approval.asks or {}).get("form") or ("words" if question else "")
    lead = "You are asked a question." if question else "A draft waits for your word."
    said = [
        f"Round {approval.round}{' (the last)' if approval.last else ''}." if approval.round > 1 else "",
        f"It comes from {about.source}: {about.title}.",
        _others(approval, to),
        _when(approval, zone_of_page(live.workflow)),
    ]
    around = " ".join(words for words in said if words)
    warned = [f"It breaks {'a rule' if len(broken) == 1 else f'{len(broken)} rules'}: {'; '.join(broken)}."] if broken else []
    if doubts:
        sentences = "sentence is" if len(doubts) == 1 else "sentences are"
        warned.append(f"{len(doubts)} {sentences} not borne out by the sources: “{'” “'.join(doubts[:3])}”")
    shown = [part for part in _parts(outgoing) if not _is_draft_itself(part[1], approval.text, len(outgoing))]
    out = "".join(
        f"\n{head}\n\n{wrong or (pieces.in_words(piece) if piece else '')}\n----\n"
        for head, piece, wrong in shown
        if wrong or piece
    )
    link = link_of(services, approval.id, to)
    options, listed = (approval.asks or {}).get("options") or [], _options(approval)
    fields = (approval.asks or {}).get("fields") or []
    by_mail = _BY_MAIL[form].format(first=fields[0]["label"] if fields else "") if answerable else ""
    plain = (
        f"{lead}\n{''.join(f'{words}{chr(10)}' for words in warned)}{around}\n\n----\n{approval.text}\n----\n{listed}{out}\n"
        f"Read and answer here (opening the link decides nothing):\n{link}\n\nThe link works for {links.DAYS} days."
        f"{chr(10) * 2 + by_mail if by_mail else ''}"
    )
    told = "".join(f'<p style="color:#9c3b24"><strong>{html.escape(words)}</strong></p>' for words in warned)
    choices = "".join(
        f'<p style="margin:14px 0 2px"><strong>{n}. {html.escape(one["name"])}</strong></p>'
        f'<div style="{_BOX};white-space:pre-wrap">{html.escape(one["text"])}</div>'
        for n, one in enumerate(options, 1)
    )
    page = (
        f"<p>{lead}<br>{html.escape(around)}</p>{told}"
        '<blockquote style="border-left:3px solid #3d6b35;padding:8px 14px;white-space:pre-wrap;font-family:Georgia,serif">'
        f"{html.escape(approval.text)}</blockquote>{choices}{''.join(_page(*part) for part in shown)}"
        f'<p><a href="{html.escape(link)}">Read and answer</a> (opening the link decides nothing). The link works for {links.DAYS} days.</p>'
        f"{f'<p>{html.escape(by_mail)}</p>' if by_mail else ''}"
    )
    subject = f"{'A question' if question else 'To approve'}{', breaks a rule' if broken else ''}: {about.title}"
    return Letter(to=(to,), subject=subject[:150], text=plain, html=page)


def _options(approval: tables.Approval) -> str:
    """What there is to choose from, as plain text."""
    options = (approval.asks or {}).get("options") or []
    return "".join(f"\n{n}. {one['name']}\n{one['text']}\n----\n" for n, one in enumerate(options, 1))


def _listed(words: Sequence[str]) -> str:
    return ", ".join(words)


def _others(approval: tables.Approval, to: str) -> str:
    """Who else is asked, and who said yes already."""
    others = [one for one in approval.people if one["who"].casefold() != to.casefold()]
    mine = people.entry_of(approval, to) or {}
    words = f"You are asked in the place of {mine['instead_of']}, who is away." if mine.get("instead_of") else ""
    if others:
        names = ", ".join(one["who"] for one in others)
        rule = {"one": "one of you decides", "all": "all must say yes", "order": "one after another must say yes"}[approval.needs]
        words += f" Also asked: {names}; {rule}."
    yes = [str(one.get("by") or one["who"]) for one in others if one.get("said") == "approve"]
    return f"{words}{f' {_listed(yes)} said yes.' if yes else ''}".strip()


def in_words(moment: float, zone: str) -> str:
    """A time in the zone of a page; in the server's, where it has none."""
    at = dt.datetime.fromtimestamp(moment, zone_of(zone) if zone else None).astimezone(zone_of(zone) if zone else None)
    return at.strftime("%-d %B, %H:%M %Z")


def _when(approval: tables.Approval, zone: str) -> str:
    """When it would go out, and until when an answer is due."""
    then = {"approve": "then it goes out", "decline": "then it is left", "other": "then another is asked"}
    words = [f"It would go out on {in_words(approval.goes_at, zone)}."] if approval.goes_at else []
    if approval.deadline_at:
        what = then.get(approval.deadline.get("then", ""), "")
        words.append(f"Please answer by {in_words(approval.deadline_at, zone)}{f'; {what}' if what else ''}.")
    return " ".join(words)


Part = tuple[str, Piece | None, str]


def _parts(outgoing: list[tuple[str, Composed]]) -> Iterator[Part]:
    """What goes out, each with where to, and what is wrong with it."""
    for where, composed in outgoing:
        kind = kinds()[composed.line.kind]
        assert isinstance(kind, SendSpec)
        piece = pieces.read(kind.form, composed.content) if composed.content else None
        yield f"What goes out{f' through {where}' if where else ''}:", piece, composed.wrong


def in_room(services: Services, piece: tables.Piece) -> str | None:
    """What is said in a team's room about a question; nothing where it is answered. A link is in nobody's name there: it leads to the
    desk."""
    about = _about(services, piece.approval_id)
    if about is None or about.approval.state != "open":
        return None
    approval = about.approval
    asks = "a question" if approval.draft == QUESTION else "a draft"
    broken = f"\nIt breaks a rule: {'; '.join(approval.broken)}." if approval.broken else ""
    return (
        f"{asks.capitalize()} waits for {approval.who} ({about.source}): {about.title}{broken}\n\n{approval.text}\n{_options(approval)}\n"
        f"Answer here with #{approval.id} and your word, or at {services.public_url}/approvals/{approval.id}"
    )


def _is_draft_itself(piece: Piece | None, text: str, count: int) -> bool:
    """Whether a lone piece says nothing but the draft, which stands there already."""
    plain = isinstance(piece, Post) and not (piece.pictures or piece.tags or piece.answers or piece.also)
    return count == 1 and plain and isinstance(piece, Post) and piece.text == text.strip()


def _as_read(letter: Letter, to: str) -> str:
    body = _BODY.search(letter.html)
    return f"<p>To {to}<br><strong>{html.escape(letter.subject)}</strong></p>{body.group(1) if body else letter.html}"


def _page(head: str, piece: Piece | None, wrong: str) -> str:
    said = f'<p style="color:#9c3b24">{html.escape(wrong)}</p>' if wrong else ""
    match piece:
        case None:
            inner = ""
        case Letter() if piece.html:
            inner = _as_read(piece, html.escape(", ".join((*piece.to, *piece.cc))))
        case Mailing() if piece.first.html:
            left = "".join(f"<br>Left out: {one.count:,} who {html.escape(one.why)}" for one in piece.left_out)
            to = f"{piece.readers:,} readers of {html.escape(piece.name)}{left}<br>As {html.escape(', '.join(piece.first.to))} gets it:"
            inner = _as_read(piece.first, to)
        case Article():
            summary = f"<p><em>{html.escape(piece.summary)}</em></p>" if piece.summary else ""
            inner = f"<h2>{html.escape(piece.title)}</h2>{summary}{piece.html}"
        case _:
            inner = f'<div style="white-space:pre-wrap">{html.escape(pieces.in_words(piece))}</div>'
    return f'<p style="margin:18px 0 4px">{html.escape(head)}</p>{said}' + (f'<div style="{_BOX}">{inner}</div>' if inner else "")
