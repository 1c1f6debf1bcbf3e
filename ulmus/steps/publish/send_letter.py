"""Publish: a letter to one or several people, by mail."""

from __future__ import annotations

import re
import time
from typing import Any

from pydantic import BaseModel, Field

from ...core import pieces
from ...core.pieces import Letter
from ...protocols import letters, mail
from ...protocols.errors import NothingToDo, TooLarge
from ...protocols.net import Web
from ..api import Connection, Context, Outgoing, Sends, Sighting, Sought, Workspace, setting
from ..connections.mail import mailer
from ..shared.letters import Mailed, attachments
from ..shared.pieces import shown

MOST = 50
"""So many people may be written to in one letter; more are a list."""
_ID = re.compile(r"<[^<>\s]{1,900}>")


class LetterSettings(Mailed):
    server: str = setting("Through", control="connection", needs="mail")
    to: str = setting(
        "To",
        "An address such as <<row.Email>>, or several, parted by commas.",
        control="slots",
        takes="email|sender|address",
        min_length=1,
        max_length=5000,
    )
    subject: str = setting(
        "Subject", control="slots", takes="subject@draft|subject|title@draft|title", min_length=1, max_length=500
    )
    text: str = setting(
        "Text",
        "What the letter says, usually the approved draft.",
        control="slots",
        takes="text@draft|text",
        min_length=1,
        max_length=200_000,
    )
    cc: str = setting("Copy to", control="slots", default="", max_length=5000, more=True)
    mailbox: str = setting(
        "Answers are read in",
        "The mailbox they come to; they then stand beside the letter.",
        control="connection",
        needs="mailbox",
        default="",
        labels={"": "no mailbox"},
        more=True,
    )
    mailing: str = setting(
        "One of the mailing",
        "The name of the list, where this goes to many, one letter each: then whoever left gets none, and a way to leave stands at its"
        " end.",
        control="slots",
        default="",
        max_length=200,
        more=True,
    )
    thread: str = setting(
        "Follows the letter",
        "The Message-ID of an earlier letter, such as <<first.message_id>>, or of a mail that came in: this one stands under it.",
        control="slots",
        default="",
        max_length=2000,
        more=True,
    )


class LetterOutput(BaseModel):
    message_id: str = Field("", description="Its Message-ID, for a letter that follows it.")
    to: str = Field("", description="Whom it went to.")
    subject: str = Field("", description="Its subject.")
    text: str = Field("", description="Its text.")


def piece(settings: LetterSettings, context: Context) -> Outgoing:
    """The letter as it will go out. Raises `OutsideError` where it could not."""
    to, cc, reply_to = (mail.addresses(text) for text in (settings.to, settings.cc, settings.reply_to))
    if not to:
        raise NothingToDo("There is nobody to write to: “To” is empty.")
    if len(to) + len(cc) > MOST:
        raise TooLarge(f"A letter goes to at most {MOST} people; this has {len(to) + len(cc)}.")
    subject, text = " ".join(settings.subject.split()), settings.text.strip()
    if not text or not subject:
        raise NothingToDo(f"The letter has no {'text' if subject else 'subject'}.")
    mailing, leave = " ".join(settings.mailing.split()), ""
    if mailing:
        if len(to) != 1 or cc:
            raise NothingToDo("A letter of a mailing goes to one reader; put it inside a for each.")
        _still(context.workspace, to[0])
        leave = context.workspace.leave(mailing, mail.bare(to[0]))
        text += letters.way_out(mailing, leave, settings.written)
    page = "" if settings.written == "plain" else letters.page(text, subject, settings.written)
    sender = mailer(context.web, context.connect(settings.server, "mail"))
    named = attachments(settings.files, context)
    before = _ID.findall(settings.thread)
    letter = Letter(
        sender=mail.named(sender),
        to=tuple(to),
        cc=tuple(cc),
        reply_to=reply_to[0] if reply_to else "",
        subject=subject,
        text=letters.in_plain(page) if page else text,
        html=page,
        files=(*named, *shown(letters.pictures(page), context)),
        thread=before[-1] if before else "",
        thread_before=tuple(before[:-1]),
        mailing=mailing,
        leave=leave,
        mailbox=settings.mailbox,
    )
    return Outgoing(settings.server, letter.model_dump(mode="json"))


def _still(workspace: Workspace, address: str) -> None:
    """Raises `NothingToDo` where the reader at an address has left."""
    if why := workspace.why_not(mail.bare(address)):
        raise NothingToDo(why)


def still(workspace: Workspace, content: dict[str, Any]) -> None:
    """Whether a letter of a mailing may still go: its reader may have left since."""
    letter = pieces.read("letter", content)
    assert isinstance(letter, Letter)
    for address in letter.to if letter.mailing else ():
        _still(workspace, address)


def send(web: Web, connection: Connection, content: dict[str, Any], key: str) -> dict[str, Any]:
    """Hand the letter over under `key`."""
    sender = mailer(web, connection)
    letter = pieces.read("letter", content)
    assert isinstance(letter, Letter)
    mail.send(sender, mail.compose(sender, letter, key, time.time(), content["opened"]))
    return {**foretold(content), "message_id": mail.message_id(sender, key)}


def foretold(content: dict[str, Any]) -> dict[str, Any]:
    """The output as far as the letter tells it."""
    letter = pieces.read("letter", content)
    assert isinstance(letter, Letter)
    return {"message_id": "", "to": ", ".join(letter.to), "subject": letter.subject, "text": letter.text}


def find(web: Web, connection: Connection, sought: Sought) -> Sighting:
    """A mail server cannot be asked what it took; a person looks into the mailbox."""
    return Sighting(why="A mail server cannot be asked whether it took a letter.")


KIND = Sends(
    name="send_letter",
    stage="publish",
    title="Send a letter",
    about="Sends a mail to one person or a few, as text and HTML, with pictures and attachments. Sent once, whatever happens on the way.",
    sentence="Send “{subject}” to {to} through {server}",
    offer="Send a letter through {server}",
    words="mail email e-mail letter send outreach write notify tell follow-up answer reply notification alert inform",
    called="letter",
    common=0.2,
    settings=LetterSettings,
    output=LetterOutput,
    form="letter",
    piece=piece,
    foretold=foretold,
    send=send,
    find=find,
    still=still,
    brief="{to} · {subject}",
)
