"""Gather: messages of a mailbox."""

from __future__ import annotations

import dataclasses

from pydantic import BaseModel, Field

from ...protocols import mailbox
from ..api import Context, Performs, Result, setting
from ..connections.mailbox import reader
from ..shared.lists import Listed, list_faults, listed


class MailsSettings(Listed):
    box: str = setting("Mailbox", control="connection", needs="mailbox")
    folder: str = setting("Folder", control="text", default="INBOX", min_length=1, max_length=200)
    sender: str = setting("Only from", "An address, or a part of one.", control="slots", default="", max_length=200)
    subject: str = setting("Only with this in the subject", control="slots", default="", max_length=200)
    words: str = setting("Only with these words", control="slots", default="", max_length=200, more=True)
    days: int = setting("From the last days", "0 for any time.", control="number", default=7, ge=0, le=3650)
    most: int = setting("At most", "Messages.", control="number", default=20, ge=1, le=200)


class MailValue(BaseModel):
    subject: str = Field("", description="The subject.")
    sender: str = Field("", description="The sender’s address.")
    sender_name: str = Field("", description="The sender’s name.")
    to: str = Field("", description="Whom it was sent to.")
    date: str = Field("", description="When it was sent (ISO 8601).")
    text: str = Field("", description="The mail as plain text.")
    message_id: str = Field("", description="Its Message-ID.")


class MailsOutput(BaseModel):
    items: list[MailValue] = Field([], description="The messages, the newest first.")
    count: int = Field(0, description="How many there are.")
    found: int = Field(0, description="How many were found.")
    text: str = Field("", description="All of them as text, for a prompt.")


def perform(settings: MailsSettings, context: Context) -> Result:
    """Look into the mailbox; nothing is marked read."""
    box = reader(context.web, context.connect(settings.box, "mailbox"))
    letters = mailbox.latest(
        box,
        settings.folder,
        sender=settings.sender.strip(),
        subject=settings.subject.strip(),
        words=settings.words.strip(),
        days=settings.days,
        most=settings.most,
    )
    mail_values = [
        MailValue(**{k: v for k, v in dataclasses.asdict(letter).items() if k in MailValue.model_fields}) for letter in letters
    ]
    return Result(listed(mail_values, settings, context, key="message_id", text="subject text", most=settings.most))


KIND = Performs(
    name="read_mails",
    stage="gather",
    title="Read mails",
    about="The latest messages of a mailbox that fit: from whom, about what, how recent. Nothing is marked read.",
    sentence="Read the mails in {box}[ from {sender}][ about “{subject}”], at most {most}",
    offer="Read the mails in {box}",
    words="inbox messages letters imap newsletter",
    called="mails",
    settings=MailsSettings,
    output=MailsOutput,
    perform=perform,
    faults=list_faults(MailValue),
    gives_outside=True,
    brief="{count} mails",
)
