"""Start: a mail arrives in a mailbox (IMAP)."""

from __future__ import annotations

import dataclasses

from pydantic import BaseModel, Field

from ...core.workflow.kinds import type_word
from ...protocols import mailbox
from ..api import Batched, Poll, PolledStart, PollResult, batched, setting
from ..connections.mailbox import reader


class MailSettings(Batched):
    box: str = setting("Mailbox", control="connection", needs="mailbox")
    folder: str = setting("Folder", control="text", default="INBOX", min_length=1, max_length=200)
    subject: str = setting("Only with this in the subject", control="text", default="", max_length=200, more=True)
    sender: str = setting(
        "Only from",
        "A whole address, or a domain such as @a.example; several parted by commas.",
        control="text",
        default="",
        max_length=200,
        more=True,
    )
    every: float = setting("Look every", control="duration", default=60, ge=2, le=86_400, more=True)


class MailOutput(BaseModel):
    title: str = Field("", description="The subject.")
    sender: str = Field("", description="The sender’s address.")
    sender_name: str = Field("", description="The sender’s name.")
    to: str = Field("", description="Whom it was sent to.")
    subject: str = Field("", description="The subject.")
    text: str = Field("", description="The mail as plain text.")
    date: str = Field("", description="When it was sent (ISO 8601).")
    message_id: str = Field("", description="Its Message-ID.")
    in_reply_to: str = Field("", description="The Message-ID it answers.")


def poll(settings: MailSettings, now: Poll) -> PollResult:
    """The mails that came since the last look; nothing is marked read."""
    box = reader(now.web, now.connect(settings.box, "mailbox"))
    same = now.memory.get("folder") == settings.folder
    validity, letters, last = mailbox.poll(
        box, settings.folder, int(now.memory.get("validity", 0)) if same else 0, int(now.memory.get("last", 0)) if same else 0
    )
    fitting = [
        letter
        for letter in letters
        if settings.subject.casefold() in letter.subject.casefold() and mailbox.is_from(letter.sender, settings.sender)
    ]
    items = []
    for letter in fitting:
        item = dataclasses.asdict(letter) | {"title": letter.subject or letter.sender}
        del item["arrived"]
        items.append((f"{validity}:{item.pop('uid')}", item))
    memory = {"folder": settings.folder, "validity": validity, "last": last}
    return PollResult(items, memory, f"{len(items)} new mail{'s' if len(items) != 1 else ''}." if items else "No new mail.")


KIND = PolledStart(
    name="mail_received",
    stage="start",
    title="Mail received",
    about="Starts for each mail that arrives in a mailbox. Mails already there when the workflow goes live are passed over.",
    sentence="When a mail arrives in {box}[ from {sender}][ about “{subject}”]",
    offer="A mail in {box}",
    words="inbox received letter imap",
    called="mail",
    common=0.4,
    settings=MailSettings,
    output=MailOutput,
    plan=lambda s: s.polling(s.every),
    poll=poll,
    gives=lambda settings, world: batched({n: type_word(f) for n, f in MailOutput.model_fields.items()}, settings),
    gives_outside=True,
    brief="{title}",
)
