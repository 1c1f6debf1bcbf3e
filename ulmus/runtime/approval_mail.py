"""The mail that tells a person of a draft: the draft, all that goes out with it as it will go out, and a signed link.

It is written when it is sent and not when the question is put, so that what goes out can be composed as the desk shows it.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator

from ..core import pieces
from ..core.pieces import Article, Letter, Mailing, Piece, Post
from ..core.workflow.kinds import SendSpec
from ..steps import kinds
from ..store import tables
from . import links
from .asking import QUESTION, Composed, compose
from .ports import Events
from .services import Services

_BODY = re.compile(r"<body[^>]*>(.*)</body>", re.DOTALL | re.IGNORECASE)
_BOX = "border:1px solid #c9c2b2;padding:8px 14px;margin:0 0 12px;font-family:Georgia,serif"


def written(services: Services, events: Events, approval_id: int) -> Letter:
    """The mail about a question."""
    with services.store.read() as session:
        approval = session.get_one(tables.Approval, approval_id)
        title = session.get_one(tables.Run, approval.run_id).title
    live = events.live(approval.run_id)
    outgoing: list[Composed] = []
    if approval.state == "open" and approval.draft and approval.draft != QUESTION:
        outgoing = compose(services, live, approval, live.state.scope(approval.address))
    link = f"{services.public_url}/answer/{links.sign(services.sealer.key, approval.id)}"
    return _letter(approval, title, link, [(_where(services, one), one) for one in outgoing])


def _where(services: Services, composed: Composed) -> str:
    with services.store.read() as session:
        channel = session.get(tables.Connection, composed.connection)
    return channel.name if channel is not None else ""


def _letter(approval: tables.Approval, title: str, link: str, outgoing: list[tuple[str, Composed]]) -> Letter:
    question, broken = approval.draft == QUESTION, approval.broken or []
    round_words = f"Round {approval.round}{' (the last)' if approval.last else ''}. " if approval.round > 1 else ""
    lead = "You are asked a question." if question else "A draft waits for your word."
    warned = f"It breaks {'a rule' if len(broken) == 1 else f'{len(broken)} rules'}: {'; '.join(broken)}." if broken else ""
    shown = [part for part in _parts(outgoing) if not _is_draft_itself(part[1], approval.text, len(outgoing))]
    out = "".join(
        f"\n{head}\n\n{wrong or (pieces.in_words(piece) if piece else '')}\n----\n"
        for head, piece, wrong in shown
        if wrong or piece
    )
    plain = (
        f"{lead}\n{warned}{chr(10) if warned else ''}{round_words}From: {title}\n\n----\n{approval.text}\n----\n{out}\n"
        f"Read and answer here (opening the link decides nothing):\n{link}\n\nThe link works for {links.DAYS} days."
    )
    told = f'<p style="color:#9c3b24"><strong>{html.escape(warned)}</strong></p>' if warned else ""
    page = (
        f"<p>{lead} {round_words}From: {html.escape(title)}</p>{told}"
        '<blockquote style="border-left:3px solid #3d6b35;padding:8px 14px;white-space:pre-wrap;font-family:Georgia,serif">'
        f"{html.escape(approval.text)}</blockquote>{''.join(_page(*part) for part in shown)}"
        f'<p><a href="{html.escape(link)}">Read and answer</a> (opening the link decides nothing). The link works for {links.DAYS} days.</p>'
    )
    subject = f"{'A question' if question else 'To approve'}{', breaks a rule' if broken else ''}: {title}"
    return Letter(to=(approval.who,), subject=subject[:150], text=plain, html=page)


Part = tuple[str, Piece | None, str]


def _parts(outgoing: list[tuple[str, Composed]]) -> Iterator[Part]:
    """What goes out, each with where to, and what is wrong with it."""
    for where, composed in outgoing:
        kind = kinds()[composed.line.kind]
        assert isinstance(kind, SendSpec)
        piece = pieces.read(kind.form, composed.content) if composed.content else None
        yield f"What goes out{f' through {where}' if where else ''}:", piece, composed.wrong


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
